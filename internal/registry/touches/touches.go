// Package touches is what a registry said to be there, to callers who rely on it.
package touches

import (
	"sync"
	"sync/atomic"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record/unheld"
)

// mostTouches bounds what was said to be there and is not written yet.
const mostTouches = 1 << 16

// Touches are what was said to be there to callers who may push: they rely on it, and do
// not send it again. A take asks here, and whoever asks for what is being taken waits for
// the outcome.
type Touches struct {
	// Lost is until when, in served time, not all of them are known: those of before were
	// not written, or there were too many.
	Lost atomic.Int64

	mu     sync.Mutex
	said   map[Key]int64
	taking map[Key]chan struct{}
}

// Key is a blob in a repository.
type Key struct {
	Repository int64
	Digest     oci.Digest
}

// New returns none.
func New() *Touches {
	return &Touches{said: map[Key]int64{}, taking: map[Key]chan struct{}{}}
}

// Say notes a touch; of what is being taken it waits for the outcome.
func (t *Touches) Say(key Key, served, grace time.Duration) {
	for {
		t.mu.Lock()
		going, taken := t.taking[key]
		if !taken {
			if _, there := t.said[key]; there || len(t.said) < mostTouches {
				t.said[key] = int64(served)
			} else {
				t.Lost.Store(int64(served + grace))
			}
			t.mu.Unlock()
			return
		}
		t.mu.Unlock()
		<-going
	}
}

// Take claims those of the keys that nobody was told of since a served time; end lets go of
// them when it is decided whether they went.
func (t *Touches) Take(keys []Key, since int64) (free []bool, end func()) {
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

// Unwritten returns what is to be written. It stays in memory until Written is called.
func (t *Touches) Unwritten() (all []unheld.Touch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, served := range t.said {
		all = append(all, unheld.Touch{Repository: key.Repository, Digest: key.Digest, Served: served})
	}
	return all
}

// Written forgets what was written, unless it was said again since.
func (t *Touches) Written(all []unheld.Touch) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, one := range all {
		if key := (Key{one.Repository, one.Digest}); t.said[key] == one.Served {
			delete(t.said, key)
		}
	}
}
