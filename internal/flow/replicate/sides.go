package replicate

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
)

// eachBlob lets the blobs of an image travel, some at a time.
func eachBlob(ctx context.Context, blobs []oci.Descriptor, travel func(context.Context, oci.Descriptor) error) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(blobsAtOnce)
	for _, d := range blobs {
		group.Go(func() error { return travel(ctx, d) })
	}
	return group.Wait()
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
