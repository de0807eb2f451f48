// Package turns lines up the changes that wait for the one writer of the records: those
// that somebody waits for go first, and quiet ones when nobody does.
package turns

import (
	"context"
	"errors"
	"sync"
	"time"
)

const (
	// most is how many turns are lined up; who comes then waits for room.
	most = 1024
	// patience is how long a quiet turn waits behind others before it is taken all the
	// same: what runs beside requests must come to an end.
	patience = 100 * time.Millisecond
)

// ErrClosed: nothing more is taken.
var ErrClosed = errors.New("the records are closed")

// Waited is how others waited for quiet changes.
type Waited struct {
	// Turns is how many waited, Longest how long one did at most, Whole how long all did
	// together.
	Turns          int
	Longest, Whole time.Duration
	// Kind is the kind of change that waited longest.
	Kind string
}

// Add returns both together.
func (w Waited) Add(other Waited) Waited {
	longest := w
	if other.Longest > w.Longest {
		longest = other
	}
	return Waited{w.Turns + other.Turns, longest.Longest, w.Whole + other.Whole, longest.Kind}
}

// Turn is one change on its way through the writer.
type Turn[C any] struct {
	Ctx context.Context
	// Kind names what is done, for the figures.
	Kind   string
	Change C
	// Quiet tells that nobody waits for it.
	Quiet bool
	// Waited is how others waited for a quiet turn, once it is answered.
	Waited Waited

	asked time.Time
	done  chan error
}

// Answer says how the change ended.
func (t *Turn[C]) Answer(err error) { t.done <- err }

// Queue is the turns of one writer. It is safe for concurrent use.
type Queue[C any] struct {
	slots  chan struct{}
	closed chan struct{}
	more   chan struct{}

	mu            sync.Mutex
	urgent, quiet []*Turn[C]
	over          bool
}

// NewQueue returns a queue with nothing in it.
func NewQueue[C any]() *Queue[C] {
	return &Queue[C]{slots: make(chan struct{}, most), closed: make(chan struct{}), more: make(chan struct{}, 1)}
}

// Ask lines a change up and waits until it was answered. It fails with ErrClosed, and
// with the error of the context while there is no room.
func (q *Queue[C]) Ask(t *Turn[C]) error {
	select {
	case q.slots <- struct{}{}:
		defer func() { <-q.slots }()
	case <-q.closed:
		return ErrClosed
	case <-t.Ctx.Done():
		return t.Ctx.Err()
	}
	t.asked, t.done = time.Now(), make(chan error, 1)
	if !q.add(t) {
		return ErrClosed
	}
	select {
	case q.more <- struct{}{}:
	default:
	}
	return <-t.done
}

func (q *Queue[C]) add(t *Turn[C]) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.over {
		return false
	}
	if t.Quiet {
		q.quiet = append(q.quiet, t)
	} else {
		q.urgent = append(q.urgent, t)
	}
	return true
}

// Next waits for turns and takes up to limit of those that go together: a quiet one goes
// alone. It returns none once the queue is closed and empty.
func (q *Queue[C]) Next(limit int) []*Turn[C] {
	for {
		turns, over := q.take(limit)
		if len(turns) > 0 || over {
			return turns
		}
		select {
		case <-q.more:
		case <-q.closed:
		}
	}
}

func (q *Queue[C]) take(limit int) (turns []*Turn[C], over bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.quiet) > 0 && (len(q.urgent) == 0 || time.Since(q.quiet[0].asked) > patience) {
		turns, q.quiet = q.quiet[:1:1], q.quiet[1:]
		return turns, false
	}
	n := min(len(q.urgent), limit)
	turns, q.urgent = q.urgent[:n:n], q.urgent[n:]
	return turns, q.over
}

// Waiting returns how those who wait now, and are not quiet, have waited since a moment.
func (q *Queue[C]) Waiting(since time.Time) (w Waited) {
	q.mu.Lock()
	defer q.mu.Unlock()
	now := time.Now()
	for _, t := range q.urgent {
		from := since
		if t.asked.After(since) {
			from = t.asked
		}
		one := now.Sub(from)
		w = w.Add(Waited{1, one, one, t.Kind})
	}
	return w
}

// Close takes nothing more: what is lined up is still handed out.
func (q *Queue[C]) Close() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !q.over {
		q.over = true
		close(q.closed)
	}
}
