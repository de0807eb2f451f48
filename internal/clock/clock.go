// Package clock keeps two times apart: wall time, which is only shown to people,
// and served time, by which windows, waits and ages are decided. Served time
// counts how long the service has run, over all its starts; a wall clock that
// jumps a year does not move it.
package clock

import (
	"sync"
	"time"
)

// Clock tells both times. Implementations are safe for concurrent use.
type Clock interface {
	// Now returns the wall time in UTC.
	Now() time.Time
	// Served returns the served time. It never goes back.
	Served() time.Duration
}

// Running is the clock of a running service.
type Running struct {
	started time.Time
	before  time.Duration
}

// NewRunning returns a clock whose served time goes on from what earlier runs had reached.
func NewRunning(before time.Duration) *Running {
	return &Running{started: time.Now(), before: before}
}

// Now returns the wall time in UTC.
func (r *Running) Now() time.Time { return time.Now().UTC() }

// Served returns what earlier runs served and, by the monotonic clock, this one.
func (r *Running) Served() time.Duration { return r.before + time.Since(r.started) }

// Set is a clock that stands until it is moved; served time moves along with wall
// time. It makes histories: of the sample world, and of tests.
type Set struct {
	mu     sync.Mutex
	now    time.Time
	served time.Duration
}

// NewSet returns a clock standing at now, with no served time.
func NewSet(now time.Time) *Set { return &Set{now: now.UTC()} }

// Now returns the wall time it was set to.
func (s *Set) Now() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// Served returns the time it has been moved on since the start.
func (s *Set) Served() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.served
}

// Jump sets the wall time alone, as a clock does that is set wrong.
func (s *Set) Jump(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now = now.UTC()
}

// MoveTo sets the wall time. Served time grows by the step, or stays where the
// step goes back.
func (s *Set) MoveTo(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if step := now.Sub(s.now); step > 0 {
		s.served += step
	}
	s.now = now.UTC()
}
