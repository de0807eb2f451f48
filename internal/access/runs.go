package access

import (
	"context"
	"fmt"

	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

// MaySeeRuns refuses whoever may not see the work beside requests: those with a role
// on the registry may, by a token of any scope.
func (a *Access) MaySeeRuns(c Caller) error { return a.watcher(c, "runs", "the work beside requests") }

// MayStopRun refuses whoever may not stop runs, and logs that one was stopped.
func (a *Access) MayStopRun(ctx context.Context, c Caller, run runs.Run) error {
	if err := a.Admin(c, "stop runs"); err != nil {
		return err
	}
	if !run.Open() {
		return nil
	}
	e := c.Event(record.EventRunStopped)
	e.Subject = fmt.Sprintf("run %d", run.ID)
	e.Detail = run.Kind
	if run.Place != "" {
		e.Detail += " of " + run.Place
	}
	return a.Change(ctx, c, e, func(*record.Tx) error { return nil })
}
