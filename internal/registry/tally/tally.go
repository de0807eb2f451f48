// Package tally gathers in memory what was pulled and pushed, so that a pull costs no write.
package tally

import (
	"sync"

	"warthesis/internal/oci"
	"warthesis/internal/record/pulls"
	"warthesis/internal/record/usage"
)

type pullKey struct {
	repository int64
	digest     oci.Digest
	tag        oci.Tag
}

// Tally is what was counted since it was taken last. The zero value is empty; it is safe for
// concurrent use.
type Tally struct {
	mu      sync.Mutex
	pulls   map[pullKey]pulls.Pull
	traffic map[usage.Key]usage.Traffic
}

// Pull counts pulls of one manifest.
func (t *Tally) Pull(p pulls.Pull) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pull(p)
}

func (t *Tally) pull(p pulls.Pull) {
	if t.pulls == nil {
		t.pulls = map[pullKey]pulls.Pull{}
	}
	key := pullKey{p.Repository, p.Digest, p.Tag}
	there := t.pulls[key]
	p.Count += there.Count
	p.Last, p.LastServed = max(p.Last, there.Last), max(p.LastServed, there.LastServed)
	t.pulls[key] = p
}

// Traffic counts what went in and out.
func (t *Tally) Traffic(of usage.Key, is usage.Traffic) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pass(of, is)
}

func (t *Tally) pass(of usage.Key, is usage.Traffic) {
	if t.traffic == nil {
		t.traffic = map[usage.Key]usage.Traffic{}
	}
	t.traffic[of] = t.traffic[of].Plus(is)
}

// Counted is what was taken out of a tally.
type Counted struct {
	Pulls   []pulls.Pull
	Traffic map[usage.Key]usage.Traffic
}

// Take takes all that was counted.
func (t *Tally) Take() (c Counted) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, p := range t.pulls {
		c.Pulls = append(c.Pulls, p)
	}
	c.Traffic = t.traffic
	t.pulls, t.traffic = nil, nil
	return c
}

// GiveBack counts again what could not be written.
func (t *Tally) GiveBack(c Counted) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, p := range c.Pulls {
		t.pull(p)
	}
	for of, is := range c.Traffic {
		t.pass(of, is)
	}
}
