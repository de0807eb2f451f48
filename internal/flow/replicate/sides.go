package replicate

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/taglist"
)

// side is one of the two registries between which a rule copies, as it is listed.
type side interface {
	// names visits the repositories.
	names(ctx context.Context, visit func(oci.Name) error) error
	// tags lists those of a repository, none where there is no such repository. Where asking
	// for the digests of all takes no more, they are known: asked is false then.
	tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error)
	// digest is what a tag points to, "" for no such tag.
	digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error)
}

// here is this registry.
type here struct{ records *record.Store }

// pageHere is how much is read of the records at a time.
const pageHere = 1000

// each reads a list of the records page by page, behind the key of the last row, and visits
// its rows.
func each[Row any](read func(after string) ([]Row, error), visit func(Row) (key string, err error)) error {
	for after := ""; ; {
		page, err := read(after)
		if err != nil {
			return err
		}
		for _, row := range page {
			if after, err = visit(row); err != nil {
				return err
			}
		}
		if len(page) < pageHere {
			return nil
		}
	}
}

func (h here) names(ctx context.Context, visit func(oci.Name) error) error {
	return each(func(after string) ([]oci.Name, error) {
		return h.records.RepositoryNames(ctx, after, pageHere, record.Seen{Everything: true})
	}, func(name oci.Name) (string, error) { return string(name), visit(name) })
}

func (h here) tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error) {
	found, err := h.records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	err = each(func(after string) ([]taglist.Digest, error) {
		return h.records.View(ctx).TagDigests(found.ID, after, pageHere)
	}, func(t taglist.Digest) (string, error) {
		all = append(all, peer.TagDigest(t))
		return string(t.Name), nil
	})
	return all, false, err
}

func (h here) digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	found, err := h.records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	digest, err := h.records.TagTarget(ctx, found.ID, tag)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil
	}
	return digest, err
}

// there is a peer; names are below its prefix.
type there struct {
	client *peer.Client
	is     peers.Peer
}

func (t there) names(ctx context.Context, visit func(oci.Name) error) error {
	within := ""
	if t.is.Prefix != "" {
		within = string(t.is.Prefix) + "/"
	}
	count := 0
	for after := within; ; {
		page, next, err := t.client.Repositories(ctx, after)
		if err != nil {
			return err
		}
		for _, text := range page {
			below, meant := strings.CutPrefix(text, within)
			name, err := oci.ParseName(below)
			if !meant || err != nil {
				continue
			}
			if err := visit(name); err != nil {
				return err
			}
		}
		if count += len(page); count > mostNames {
			return oci.Errorf(oci.CodeUnsupported, "the peer %s lists more than %d repositories; name those that are meant", t.is.Name, mostNames)
		}
		if next == "" || within != "" && next > within && !strings.HasPrefix(next, within) {
			return nil
		}
		if next <= after {
			return oci.Errorf(oci.CodeUnsupported, "the peer %s lists the same repositories again and again", t.is.Name)
		}
		after = next
	}
}

// mostTags is how many tags of one repository are compared, mostNames how many repositories
// are looked through.
const (
	mostTags  = 1_000_000
	mostNames = 1_000_000
)

func (t there) tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error) {
	at := t.is.Repository(name)
	for after := ""; ; {
		var next string
		if t.is.Can.Digests {
			var page []peer.TagDigest
			page, next, err = t.client.Digests(ctx, at, after)
			for _, one := range page {
				_, noTag := oci.ParseTag(string(one.Name))
				_, noDigest := oci.ParseDigest(one.Digest.String())
				if noTag == nil && noDigest == nil {
					all = append(all, one)
				}
			}
		} else {
			var page []string
			page, next, err = t.client.Tags(ctx, at, after)
			for _, text := range page {
				// What lists referrers is no tag of anybody's.
				if tag, err := oci.ParseTag(text); err == nil && !peer.IsReferrersTag(tag) {
					all = append(all, peer.TagDigest{Name: tag})
				}
			}
		}
		switch {
		case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown):
			return nil, false, nil
		case err != nil:
			return nil, false, err
		case next == "":
			return all, !t.is.Can.Digests, nil
		case next == after || len(all) > mostTags:
			return nil, false, oci.Errorf(oci.CodeUnsupported, "the peer %s lists the tags of %s without end", t.is.Name, at)
		}
		after = next
	}
}

func (t there) digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	return t.client.TagDigest(ctx, t.is.Repository(name), tag)
}

// questionsAtOnce is how many tags of a peer are asked for at the same time.
const questionsAtOnce = 16

// eachBlob lets the blobs of an image travel, some at a time.
func eachBlob(ctx context.Context, blobs []oci.Descriptor, travel func(context.Context, oci.Descriptor) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(blobsAtOnce)
	for _, d := range blobs {
		group.Go(func() error { return travel(ctx, d) })
	}
	return group.Wait()
}

// digests asks for what tags point to, some at a time.
func digests(ctx context.Context, of side, names []tagAt) (all []oci.Digest, err error) {
	all = make([]oci.Digest, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(questionsAtOnce)
	for i, at := range names {
		group.Go(func() (err error) {
			all[i], err = of.digest(ctx, at.name, at.tag)
			return err
		})
	}
	return all, group.Wait()
}

// tagAt is a tag of a repository.
type tagAt struct {
	name oci.Name
	tag  oci.Tag
}

// known remembers for a while which repositories of peers have which blobs, so that images
// that share layers ask once. It is safe for concurrent use.
type known struct {
	mu sync.Mutex
	// coming are those that are being sent: closed when that ended.
	coming map[blobAt]chan struct{}
	// at is until when a repository has a blob, of which repositories of a peer have it.
	at map[blobAt]time.Time
	in map[blobOf]oci.Name
}

type blobAt struct {
	peer int64
	name oci.Name
	blob oci.Digest
}

type blobOf struct {
	peer int64
	blob oci.Digest
}

const (
	knownFor  = 10 * time.Minute
	mostKnown = 100_000
)

func newKnown() *known {
	return &known{coming: map[blobAt]chan struct{}{}, at: map[blobAt]time.Time{}, in: map[blobOf]oci.Name{}}
}

// alone waits until nobody else sends a blob to a repository of a peer: images that travel
// together share layers, and each is sent once. It returns how that ends.
func (k *known) alone(ctx context.Context, b blobAt) (end func(), err error) {
	for {
		k.mu.Lock()
		other := k.coming[b]
		if other == nil {
			mine := make(chan struct{})
			k.coming[b] = mine
			k.mu.Unlock()
			return func() {
				k.mu.Lock()
				defer k.mu.Unlock()
				delete(k.coming, b)
				close(mine)
			}, nil
		}
		k.mu.Unlock()
		select {
		case <-other:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// has reports whether a repository of a peer had a blob a moment ago.
func (k *known) has(b blobAt) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return time.Now().Before(k.at[b])
}

// elsewhere returns another repository of a peer that had a blob, "" for none.
func (k *known) elsewhere(b blobAt) oci.Name {
	k.mu.Lock()
	defer k.mu.Unlock()
	if name := k.in[blobOf{b.peer, b.blob}]; name != b.name {
		return name
	}
	return ""
}

// note remembers that a repository of a peer has a blob.
func (k *known) note(b blobAt) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.at) >= mostKnown || len(k.in) >= mostKnown {
		clear(k.at)
		clear(k.in)
	}
	k.at[b], k.in[blobOf{b.peer, b.blob}] = time.Now().Add(knownFor), b.name
}

// forget drops what is remembered of a repository of a peer.
func (k *known) forget(id int64, name oci.Name) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for b := range k.at {
		if b.peer == id && b.name == name {
			delete(k.at, b)
			delete(k.in, blobOf{id, b.blob})
		}
	}
}
