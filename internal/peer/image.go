package peer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
)

// atOnce is how many blobs of one image travel at the same time.
const atOnce = 4

// depthLimit is how deep indexes may stand in indexes.
const depthLimit = 8

// Content is content to be sent.
type Content interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// Watcher is told how the parts of a transfer fare. Its methods are called from
// several goroutines.
type Watcher interface {
	// Begin is told once of each blob and manifest that matters.
	Begin(what string, d oci.Descriptor)
	// Move is told of bytes of a blob that moved, and of those an earlier run had moved.
	Move(d oci.Descriptor, bytes int64)
	// End is told how a part ended.
	End(d oci.Descriptor, outcome Outcome)
}

// Outcome is how a part of a transfer ended.
type Outcome string

// The outcomes.
const (
	Sent         Outcome = "sent"
	Received     Outcome = "received"
	AlreadyThere Outcome = "already there"
	// Mounted: another repository of the registry had it, and nothing was sent.
	Mounted Outcome = "mounted"
)

// document is a manifest or an index of an image. Its bytes are where they were read
// from, or were put.
type document struct {
	oci.Descriptor
	index bool
}

// closure is all that an image is made of: its documents, children before
// parents, and its blobs, each once. What is a document and a blob is both.
type closure struct {
	documents []document
	blobs     []part
	met       map[oci.Digest]bool
	held      map[oci.Digest]bool
	bytes     int64
}

type part struct {
	what string
	oci.Descriptor
}

// The bounds of one image: its documents, how many bytes they have, and its blobs.
const (
	mostDocuments     = 20_000
	mostDocumentBytes = 1 << 30
	mostBlobs         = 200_000
)

// collect walks from a manifest down to all it names.
func (c *closure) collect(d oci.Descriptor, depth int, read func(oci.Descriptor) ([]byte, error)) error {
	if c.met[d.Digest] {
		return nil
	}
	if depth > depthLimit {
		return oci.Errorf(oci.CodeManifestInvalid, "indexes stand in indexes more than %d deep", depthLimit)
	}
	c.met[d.Digest] = true
	parsed, err := c.read(&d, read)
	if err != nil {
		return err
	}
	for _, e := range parsed.Edges() {
		switch {
		case e.Relation == oci.RelationSubject:
		case e.Relation == oci.RelationChild && oci.IsManifest(e.MediaType):
			if err := c.collect(e.Descriptor, depth+1, read); err != nil {
				return err
			}
		case oci.IsNonDistributable(e.MediaType), c.held[e.Digest]:
		case len(c.blobs) == mostBlobs:
			return oci.Errorf(oci.CodeManifestTooLarge, "the image names more than %d blobs", mostBlobs)
		default:
			c.held[e.Digest] = true
			c.blobs = append(c.blobs, part{string(e.Relation), e.Descriptor})
		}
	}
	c.documents = append(c.documents, document{d, parsed.IsIndex()})
	return nil
}

// read reads one document, sets its size, and lets go of its bytes.
func (c *closure) read(d *oci.Descriptor, read func(oci.Descriptor) ([]byte, error)) (oci.Manifest, error) {
	raw, err := read(*d)
	if err != nil {
		return oci.Manifest{}, err
	}
	if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
		return oci.Manifest{}, oci.Errorf(oci.CodeDigestInvalid, "the manifest at %s has other bytes than its digest says", d.Digest)
	}
	if c.bytes += int64(len(raw)); c.bytes > mostDocumentBytes || len(c.met) > mostDocuments {
		return oci.Manifest{}, oci.Errorf(oci.CodeManifestTooLarge, "the image has more than %d manifests, or more than %d MiB of them", mostDocuments, mostDocumentBytes>>20)
	}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	if err != nil {
		return parsed, fmt.Errorf("%s: %w", d.Digest, err)
	}
	d.Size = int64(len(raw))
	return parsed, nil
}

func closureOf(d oci.Descriptor, read func(oci.Descriptor) ([]byte, error)) (*closure, error) {
	c := &closure{met: map[oci.Digest]bool{}, held: map[oci.Digest]bool{}}
	return c, c.collect(d, 0, read)
}

func kindOf(d document) string {
	if d.index {
		return "index"
	}
	return "manifest"
}

// PushImage sends an image, an index or an artifact with all it names, under the
// tags. Blobs that are there are not sent; manifests come last, so that nothing
// shows before it is whole.
func (c *Client) PushImage(ctx context.Context, name oci.Name, root oci.Descriptor, tags []oci.Tag,
	open func(oci.Descriptor) (Content, error), watch Watcher) error {
	all, err := closureOf(root, func(d oci.Descriptor) ([]byte, error) { return readAll(d, open) })
	if err != nil {
		return err
	}
	// One token serves all that follows.
	if err := c.prepare(ctx, "repository:"+string(name)+":pull,push"); err != nil {
		return err
	}
	err = eachBlob(ctx, all.blobs, watch, func(ctx context.Context, p part) (Outcome, error) {
		return c.pushPart(ctx, name, p, open, watch)
	})
	if err != nil {
		return err
	}
	for _, d := range all.documents {
		watch.Begin(kindOf(d), d.Descriptor)
		var under []oci.Tag
		if d.Digest == root.Digest {
			under = tags
		}
		raw, err := readAll(d.Descriptor, open)
		if err != nil {
			return err
		}
		if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
			return oci.Errorf(oci.CodeDigestInvalid, "the manifest at %s was changed while the image was sent", d.Digest)
		}
		if err := c.PushManifest(ctx, name, d.Descriptor, raw, under); err != nil {
			return err
		}
		watch.End(d.Descriptor, Sent)
	}
	return nil
}

func readAll(d oci.Descriptor, open func(oci.Descriptor) (Content, error)) ([]byte, error) {
	content, err := open(d)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	if content.Size() > manifestLimit {
		return nil, oci.Errorf(oci.CodeManifestTooLarge, "the manifest %s is larger than %d MiB", d.Digest, manifestLimit>>20)
	}
	return io.ReadAll(io.NewSectionReader(content, 0, content.Size()))
}

func (c *Client) pushPart(ctx context.Context, name oci.Name, p part, open func(oci.Descriptor) (Content, error), watch Watcher) (Outcome, error) {
	there, err := c.HasBlob(ctx, name, p.Descriptor)
	if err != nil || there {
		return AlreadyThere, err
	}
	content, err := open(p.Descriptor)
	if err != nil {
		return "", err
	}
	defer content.Close()
	if content.Size() != p.Size {
		return "", oci.Errorf(oci.CodeSizeInvalid, "the image says that its %s %s has %d bytes, and it has %d", p.what, p.Digest, p.Size, content.Size())
	}
	return c.PushBlob(ctx, name, p.Descriptor, content, func(n int) { watch.Move(p.Descriptor, int64(n)) })
}

// eachBlob lets the blobs travel, some at a time, until all are through or one fails.
func eachBlob(ctx context.Context, blobs []part, watch Watcher, travel func(context.Context, part) (Outcome, error)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, p := range blobs {
		watch.Begin(p.what, p.Descriptor)
	}
	for _, p := range blobs {
		group.Go(func() error {
			outcome, err := travel(ctx, p)
			if err != nil {
				return err
			}
			watch.End(p.Descriptor, outcome)
			return nil
		})
	}
	return group.Wait()
}

// Keeper takes an image in.
type Keeper interface {
	// Has reports whether content is there, whole and right.
	Has(oci.Descriptor) bool
	// Put keeps a document whole; it shows only once the image is entered.
	Put(oci.Descriptor, []byte) error
	// Receive opens content for writing, from where an earlier run stopped.
	Receive(oci.Descriptor) (Receiver, error)
}

// PullImage brings what a tag or a digest names, with all that belongs to it, and
// returns its descriptor. With a platform it picks one image out of an index.
func (c *Client) PullImage(ctx context.Context, name oci.Name, target string, platform *oci.Platform, to Keeper, watch Watcher) (oci.Descriptor, error) {
	root, raw, err := c.Pick(ctx, name, target, platform)
	if err != nil {
		return root, err
	}
	all, err := closureOf(root, func(d oci.Descriptor) ([]byte, error) {
		if d.Digest == root.Digest {
			return raw, to.Put(d, raw)
		}
		_, child, err := c.Manifest(ctx, name, d.Digest.String())
		if err != nil {
			return nil, err
		}
		// What came is kept by the one who takes it, and not here.
		return child, to.Put(d, child)
	})
	if err != nil {
		return root, err
	}
	err = eachBlob(ctx, all.blobs, watch, func(ctx context.Context, p part) (Outcome, error) {
		return c.pullPart(ctx, name, p, to, watch)
	})
	if err != nil {
		return root, err
	}
	for _, d := range all.documents {
		watch.Begin(kindOf(d), d.Descriptor)
		watch.End(d.Descriptor, Received)
	}
	return root, nil
}

func (c *Client) pullPart(ctx context.Context, name oci.Name, p part, to Keeper, watch Watcher) (Outcome, error) {
	if to.Has(p.Descriptor) {
		return AlreadyThere, nil
	}
	receiver, err := to.Receive(p.Descriptor)
	if err != nil {
		return "", err
	}
	resumed := receiver.Offset() > 0
	watch.Move(p.Descriptor, receiver.Offset())
	told := func(n int) { watch.Move(p.Descriptor, int64(n)) }
	err = c.PullBlob(ctx, name, p.Descriptor, receiver, told)
	if resumed && errors.Is(err, oci.CodeDigestInvalid) {
		// What an earlier run left may be what is wrong: all of it comes once more.
		if receiver, err = to.Receive(p.Descriptor); err != nil {
			return "", err
		}
		if err := receiver.Restart(); err != nil {
			return "", errors.Join(err, receiver.Close())
		}
		err = c.PullBlob(ctx, name, p.Descriptor, receiver, told)
	}
	return Received, err
}

// Pick returns the manifest that a tag or digest names or, with a platform, the
// one image for it. An image that stands alone must be for the platform.
func (c *Client) Pick(ctx context.Context, name oci.Name, target string, platform *oci.Platform) (oci.Descriptor, []byte, error) {
	d, raw, err := c.Manifest(ctx, name, target)
	if err != nil || platform == nil {
		return d, raw, err
	}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	if err != nil {
		return d, nil, err
	}
	if !parsed.IsIndex() {
		return d, raw, c.checkPlatform(ctx, name, parsed, *platform)
	}
	child, err := oci.PickPlatform(parsed.Children, *platform)
	if err != nil {
		return d, nil, err
	}
	picked, raw, err := c.Manifest(ctx, name, child.Digest.String())
	picked.Platform = child.Platform
	return picked, raw, err
}

// checkPlatform refuses an image whose config names another platform.
func (c *Client) checkPlatform(ctx context.Context, name oci.Name, m oci.Manifest, want oci.Platform) error {
	if !oci.IsImageConfig(m.Config.MediaType) {
		return oci.Errorf(oci.CodeManifestUnknown, "it is no container image and is for no platform; leave --platform out")
	}
	raw, err := c.SmallBlob(ctx, name, *m.Config)
	if err != nil {
		return err
	}
	var is oci.Platform
	if err := json.Unmarshal(raw, &is); err != nil {
		return fmt.Errorf("its config %s cannot be read: %w", m.Config.Digest, err)
	}
	_, err = oci.PickPlatform([]oci.Descriptor{{Platform: &is}}, want)
	return err
}

// SmallBlob brings a blob into memory, checked against its digest.
func (c *Client) SmallBlob(ctx context.Context, name oci.Name, d oci.Descriptor) ([]byte, error) {
	if d.Size > manifestLimit {
		return nil, oci.Errorf(oci.CodeSizeInvalid, "the config %s is larger than %d MiB", d.Digest, manifestLimit>>20)
	}
	return try(ctx, c, nil, func() ([]byte, error) {
		answer, err := c.do(ctx, request{method: http.MethodGet, path: blobPath(name, d)}, http.StatusOK)
		if err != nil {
			return nil, err
		}
		defer answer.Body.Close()
		raw, err := io.ReadAll(io.LimitReader(answer.Body, d.Size+1))
		if err != nil {
			return nil, temporary{error: fmt.Errorf("the transfer of %s broke off: %w", d.Digest, err)}
		}
		if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
			return nil, oci.Errorf(oci.CodeDigestInvalid, "what %s sent for %s is something else", c.registry, d.Digest)
		}
		return raw, nil
	})
}
