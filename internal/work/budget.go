package work

import (
	"context"
	"sync/atomic"
	"time"
)

const (
	// busyFor is how long the service counts as busy after the last sign of a request.
	busyFor = 100 * time.Millisecond
	// share is how much of the time runs have while it is busy: one part in so many.
	share = 10
)

// began is what the monotonic clock counts from.
var began = time.Now()

// Budget is what requests and runs share: disk and processor, measured as time. The
// zero value is ready. It is safe for concurrent use.
type Budget struct {
	// sign is how long after began a request last gave a sign of life; 0 for never.
	sign atomic.Int64
	// runs counts those that go: where there are none, requests leave no signs.
	runs atomic.Int64
}

// Sign notes that a request is being served: it came, ended, or moved bytes.
func (b *Budget) Sign() {
	if b.runs.Load() > 0 {
		b.sign.Store(int64(time.Since(began)))
	}
}

// Busy reports whether requests are being served.
func (b *Budget) Busy() bool {
	last := b.sign.Load()
	return last != 0 && time.Since(began)-time.Duration(last) < busyFor
}

// lung lets one run breathe.
type lung struct {
	budget *Budget
	// since is when the run last came back from breathing.
	since time.Time
}

// breathe waits, while requests are served, nine times as long as the run has worked
// since it last breathed. It returns early where ctx is done or the requests are over.
func (l *lung) breathe(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	owed := time.Since(l.since) * (share - 1)
	for owed > 0 && l.budget.Busy() {
		step := min(owed, busyFor/4)
		select {
		case <-time.After(step):
		case <-ctx.Done():
			return ctx.Err()
		}
		owed -= step
	}
	l.since = time.Now()
	return nil
}
