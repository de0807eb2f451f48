package registry

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/unheld"
)

// mostTouches bounds what was said to be there and is not written yet.
const mostTouches = 1 << 16

// touches are what was said to be there to callers who may push: they rely on it, and do
// not send it again. A take asks here, and whoever asks for what is being taken waits for
// the outcome.
type touches struct {
	// lost is until when, in served time, not all of them are known: those of before were
	// not written, or there were too many.
	lost atomic.Int64

	mu     sync.Mutex
	said   map[touchKey]int64
	taking map[touchKey]chan struct{}
}

type touchKey struct {
	repository int64
	digest     oci.Digest
}

func newTouches() *touches {
	return &touches{said: map[touchKey]int64{}, taking: map[touchKey]chan struct{}{}}
}

// say notes a touch; of what is being taken it waits for the outcome.
func (t *touches) say(key touchKey, served, grace time.Duration) {
	for {
		t.mu.Lock()
		going, taken := t.taking[key]
		if !taken {
			if _, there := t.said[key]; there || len(t.said) < mostTouches {
				t.said[key] = int64(served)
			} else {
				t.lost.Store(int64(served + grace))
			}
			t.mu.Unlock()
			return
		}
		t.mu.Unlock()
		<-going
	}
}

// take claims those of the keys that nobody was told of since a served time; end lets go of
// them when it is decided whether they went.
func (t *touches) take(keys []touchKey, since int64) (free []bool, end func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	free = make([]bool, len(keys))
	done := make(chan struct{})
	for i, key := range keys {
		_, others := t.taking[key]
		if said, is := t.said[key]; !others && (!is || said <= since) {
			free[i] = true
			t.taking[key] = done
		}
	}
	return free, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		for i, key := range keys {
			if free[i] {
				delete(t.taking, key)
			}
		}
		close(done)
	}
}

// unwritten returns what is to be written. It stays in memory until written is called.
func (t *touches) unwritten() (all []unheld.Touch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, served := range t.said {
		all = append(all, unheld.Touch{Repository: key.repository, Digest: key.digest, Served: served})
	}
	return all
}

func (t *touches) written(all []unheld.Touch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range all {
		if key := (touchKey{one.Repository, one.Digest}); t.said[key] == one.Served {
			delete(t.said, key)
		}
	}
}

// VouchBlob is StatBlob for a caller who may push, and who relies on the answer: what is
// there stays for the grace.
func (r *Registry) VouchBlob(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	if _, err := r.held(ctx, name, digest); err != nil {
		return 0, err
	}
	found, err := r.find(ctx, name)
	if err != nil {
		return 0, err
	}
	// Said first and asked again then: what goes in between is not there any more, and what
	// is asked for after it was said stays.
	r.touches.say(touchKey{found.ID, digest}, r.clock.Served(), r.limits.Grace)
	return r.StatBlob(ctx, name, digest)
}

// touchesAtOnce is how many touches one change writes.
const touchesAtOnce = 1000

// FlushTouches records what was said to be there.
func (r *Registry) FlushTouches() error {
	all := r.touches.unwritten()
	for start := 0; start < len(all); start += touchesAtOnce {
		some := all[start:min(start+touchesAtOnce, len(all))]
		if err := r.records.Update(context.Background(), "touches", func(tx *record.Tx) error { return tx.Unheld().Touch(some) }); err != nil {
			return err
		}
		r.touches.written(some)
	}
	return nil
}
