// Package carry takes what a locked packing list names from where it is to where it is
// needed: all in one engine, whether that is another registry or a parcel.
//
// It looks first (is all there, what is new, does it fit, how long does it take), then
// copies, blobs before the manifests that name them and the tag last, and then asks the
// destination for everything again. Nothing is believed to be there because an earlier run
// said so. What fails fails alone: the rest goes on, and the report says what lacks.
package carry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"golang.org/x/time/rate"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// From is where images come from.
type From interface {
	Manifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error)
	OpenBlob(ctx context.Context, name oci.Name, d oci.Descriptor, offset int64) (body io.ReadCloser, length int64, err error)
	Referrers(ctx context.Context, name oci.Name, digest oci.Digest) ([]oci.Descriptor, error)
	Tags(ctx context.Context, name oci.Name, after string) (tags []string, next string, err error)
}

// Partial is a source that has only a part of what it names, as one volume of a parcel.
type Partial interface {
	// Holds reports whether a blob can be read from it.
	Holds(d oci.Descriptor) bool
	// Elsewhere returns where a blob is expected at the destination that it does not hold.
	Elsewhere(d oci.Descriptor) []oci.Name
}

// To is where they go.
type To interface {
	HasBlob(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error)
	HasManifest(ctx context.Context, name oci.Name, digest oci.Digest) (bool, error)
	TagDigest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error)
	// PushBlobFrom sends a blob, or mounts it from another repository where that is named and
	// has it. It reads content from the beginning, or from where an earlier run came.
	PushBlobFrom(ctx context.Context, name, from oci.Name, d oci.Descriptor, content io.ReaderAt, told func(n int)) (peer.Outcome, error)
	PushManifest(ctx context.Context, name oci.Name, d oci.Descriptor, raw []byte, tags []oci.Tag) error
	PlaceTag(ctx context.Context, name oci.Name, tag oci.Tag, d oci.Descriptor, raw []byte, was oci.Digest, knows bool) error
	Referrers(ctx context.Context, name oci.Name, digest oci.Digest) ([]oci.Descriptor, error)
}

// Options say what is carried, from where and to where.
type Options struct {
	// From returns the registry that a reference names.
	From func(registry string) (From, error)
	// Called is what the source is called where it is not the registry that references name,
	// but something that came from there.
	Called string
	To     To
	// Prefix stands before the names at the destination, "" for none.
	Prefix oci.Name
	// NoReferrers leaves out what refers to the images.
	NoReferrers bool
	// AtOnce is how many blobs travel at the same time; zero is six.
	AtOnce int
	// Conditions tells that the destination moves a tag only where it still is what it was.
	Conditions bool
	// Limit bounds the bytes a second, nil for no bound.
	Limit *rate.Limiter
	// Watch is told how it goes, nil for nobody.
	Watch Watcher
}

// Watcher is told how a copy fares. Its methods are called from several goroutines.
type Watcher interface {
	// Looked is told how many of the list's references have been looked at.
	Looked(references int)
	// Moved is told of bytes that went to the destination, Passed of those that need not go.
	Moved(bytes int64)
	Passed(bytes int64)
	// Ended is told of each image that has come through, or failed.
	Ended(*Image)
}

// silent watches nothing.
type silent struct{}

func (silent) Looked(int)   {}
func (silent) Moved(int64)  {}
func (silent) Passed(int64) {}
func (silent) Ended(*Image) {}

// The bounds of one image: what refers to it, how deep that goes, and how many bytes of
// manifests of all images are kept in memory; more are asked for again.
const (
	mostReferrers    = 1000
	deepestReferrers = 5
	mostKept         = 128 << 20
	// looksAtOnce is how many references are looked at, and how many questions are asked, at
	// the same time; imagesAtOnce how many images travel.
	looksAtOnce  = 16
	imagesAtOnce = 4
	blobsAtOnce  = 6
)

// Carrier carries the images of one list. It is used by one call at a time.
type Carrier struct {
	o Options
	// room bounds the blobs that travel at the same time.
	room chan struct{}

	mu sync.Mutex
	// kept are manifests that were read already.
	kept  map[oci.Digest][]byte
	bytes int
	blobs map[oci.Digest]*blob
	// dead are registries that do not answer, or let nobody in, by address; "" is the
	// destination.
	dead map[string]error
}

// New returns a carrier.
func New(o Options) *Carrier {
	if o.AtOnce == 0 {
		o.AtOnce = blobsAtOnce
	}
	if o.Watch == nil {
		o.Watch = silent{}
	}
	return &Carrier{o: o, room: make(chan struct{}, o.AtOnce), kept: map[oci.Digest][]byte{}, blobs: map[oci.Digest]*blob{}, dead: map[string]error{}}
}

// State is how an image of a list stands.
type State string

// The states: what a look finds, and how a copy ends.
const (
	// Absent: the destination lacks it, or a part of it.
	Absent State = "new"
	// There: it is at the destination under its name, whole.
	There State = "already there"
	// Moves: the name means something else at the destination.
	Moves State = "tag moves"
	// Missing: its source does not have it.
	Missing State = "missing"
	// Failed: it could not be read, or not be sent.
	Failed State = "failed"
	Copied State = "copied"
	// Waiting: what its source holds of it is at the destination, and the rest is to come.
	Waiting State = "waiting"
)

// Image is one reference of a list with all that belongs to it.
type Image struct {
	Item packing.Item
	// Name is what its repository is called at the destination, with the prefix.
	Name oci.Name
	// Root is what the reference names.
	Root  oci.Descriptor
	State State
	// Was is what the tag points to at the destination, "" for no such tag.
	Was oci.Digest
	// Err is why it is missing or failed.
	Err error
	// Instead are tags that are there where the one that was meant is not.
	Instead []string
	// Bytes is what it has, New what of it the destination lacks, each blob counted with the
	// first image of the list that needs it. Sent is what went, once it is copied.
	Bytes, New, Sent int64
	// Referrers is how many manifests refer to it, or to what does.
	Referrers int

	// Awaits are the blobs that a waiting image lacks.
	Awaits []oci.Descriptor

	from  From
	parts []part
}

// part is an image, or something that refers to it, with all it names.
type part struct {
	root      oci.Descriptor
	documents []oci.Descriptor
	blobs     []oci.Descriptor
	// whole tells that the destination has the manifest, and so all it names.
	whole bool
}

// Lacks reports whether the image is not whole at the destination, and will not be.
func (i *Image) Lacks() bool { return i.State == Missing || i.State == Failed }

// Target is what the image is called at the destination.
func (i *Image) Target() string {
	if i.Item.Tag != "" {
		return fmt.Sprintf("%s:%s", i.Name, i.Item.Tag)
	}
	return fmt.Sprintf("%s@%s", i.Name, i.Root.Digest)
}

// blob is content that some images of the list need.
type blob struct {
	oci.Descriptor
	// turn lets one at a time ask for it and send it.
	turn chan struct{}
	// has are the repositories of the destination that have it.
	has map[oci.Name]bool
	// named are those that have an image which names it: it is mounted from there, if it can.
	named map[oci.Name]bool
	// counted tells that an image counts it as its own.
	counted bool
}

// isNew reports whether nothing at the destination is known to have the blob.
func (b *blob) isNew() bool { return len(b.has)+len(b.named) == 0 }

// blobOf returns the record of a blob.
func (c *Carrier) blobOf(d oci.Descriptor) *blob {
	c.mu.Lock()
	defer c.mu.Unlock()
	b := c.blobs[d.Digest]
	if b == nil {
		b = &blob{Descriptor: d, turn: make(chan struct{}, 1), has: map[oci.Name]bool{}, named: map[oci.Name]bool{}}
		c.blobs[d.Digest] = b
	}
	return b
}

// lock waits for a blob's turn.
func (b *blob) lock(ctx context.Context) error {
	select {
	case b.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

func (b *blob) unlock() { <-b.turn }

// manifest reads a manifest of an image from its source, or from memory.
func (c *Carrier) manifest(ctx context.Context, i *Image, d oci.Descriptor) ([]byte, error) {
	c.mu.Lock()
	raw := c.kept[d.Digest]
	c.mu.Unlock()
	if raw != nil {
		return raw, nil
	}
	_, raw, err := i.from.Manifest(ctx, i.Item.Ref.Name, d.Digest.String())
	if err == nil {
		c.keep(d.Digest, raw)
	}
	return raw, c.fromFails(i, err)
}

func (c *Carrier) keep(digest oci.Digest, raw []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.kept[digest] == nil && c.bytes+len(raw) <= mostKept {
		c.kept[digest] = raw
		c.bytes += len(raw)
	}
}

// fromFails says that it was the source that failed, and remembers one that does not answer.
func (c *Carrier) fromFails(i *Image, err error) error {
	return c.fails(i.Item.Ref.Registry, "read from "+c.source(i), err)
}

// source is what an image's source is called.
func (c *Carrier) source(i *Image) string {
	if c.o.Called != "" {
		return c.o.Called
	}
	return i.Item.Ref.Registry
}

// toFails is fromFails for the destination.
func (c *Carrier) toFails(err error) error { return c.fails("", "the destination", err) }

func (c *Carrier) fails(registry, whose string, err error) error {
	if err == nil {
		return nil
	}
	var spent peer.Spent
	// What leads nowhere, or to somebody else, does so for each image; so does a destination that
	// lets nobody in.
	var answered *oci.Error
	nowhere := !errors.As(err, &answered) && !errors.Is(err, context.Canceled) || errors.Is(err, oci.CodeDistrusted) || errors.Is(err, oci.CodeUnauthorized)
	if errors.As(err, &spent) || registry == "" && nowhere {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.dead[registry] = err
	}
	return fmt.Errorf("%s: %w", whose, err)
}

// isDead fails where a registry did not answer for longer than there was patience: nothing
// else waits for it as long again.
func (c *Carrier) isDead(registry string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.dead[registry]
}
