package work

import (
	"context"
	"errors"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/record"
)

// Fared is how a kind of work fares.
type Fared struct {
	Kind Kind
	// RanAt is when it last ran by itself, zero for never; Next is in how long it does
	// again, below zero for never.
	RanAt time.Time
	Next  time.Duration
	// Failing is why it fails now, "" where it does not.
	Failing string
}

// Fares returns how each kind of work fares, as they were registered.
func (w *Works) Fares() []Fared {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.now()
	all := make([]Fared, len(w.kinds))
	for i, k := range w.kinds {
		all[i] = Fared{Kind: k, Next: -1, Failing: w.light[k.Name].failing.Error}
		last, ran := w.ran[k.Name]
		if ran {
			all[i].RanAt = last.at
		}
		if !k.When.Never() {
			all[i].Next = k.When.next(last, now)
		}
	}
	return all
}

// OldRuns is the kind that forgets runs which ended long ago.
func OldRuns(records *record.Store, clk clock.Clock) Kind {
	return Kind{
		Name: "old-runs", About: "Forgets runs that ended more than 90 days ago", When: Every(time.Hour), Light: true,
		Do: func(ctx context.Context, g *Going) error {
			for more := true; more; {
				err := records.Update(ctx, "old-runs", func(tx *record.Tx) (err error) {
					more, err = tx.Runs().Drop(int64(clk.Served() - keptFor))
					return err
				})
				if err := errors.Join(err, g.Breathe()); err != nil {
					return err
				}
			}
			return nil
		},
	}
}
