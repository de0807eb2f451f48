package peer

import (
	"context"
	"errors"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Spent is what failed for a passing reason, longer than there was patience for.
type Spent struct {
	error
	// After is how long the registry asks to wait; zero where it does not say.
	After time.Duration
}

// Unwrap returns what failed.
func (s Spent) Unwrap() error { return s.error }

// BrokeOff is a transfer that failed for a passing reason.
func BrokeOff(err error) error { return Spent{error: err} }

// try repeats what fails for a passing reason, with growing pauses. Patience counts
// from the first failure, and begins anew whenever a try has brought it on: moved,
// where given, says how far it came.
func try[T any](ctx context.Context, c *Client, moved func() int64, once func() (T, error)) (T, error) {
	pauses := backoff.NewExponentialBackOff()
	var since time.Time
	reached := int64(0)
	for {
		v, err := once()
		var passing temporary
		if err == nil || !errors.As(err, &passing) {
			return v, err
		}
		if moved != nil && moved() > reached {
			reached, since = moved(), time.Time{}
			pauses.Reset()
		}
		if since.IsZero() {
			since = time.Now()
		}
		pause := max(pauses.NextBackOff(), passing.after)
		if time.Since(since)+pause > c.options.Patience {
			return v, Spent{passing.error, passing.after}
		}
		timer := time.NewTimer(pause)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return v, ctx.Err()
		}
	}
}
