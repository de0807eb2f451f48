package work

import (
	"log/slog"
	"math/rand/v2"
	"time"

	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

// lightly is how a light kind fared.
type lightly struct {
	running bool
	// failing is the run that tells of its failures in a row, 0 while it does well.
	failing runs.Run
	// paused is until when, in served time, it is left alone after a failure.
	paused time.Duration
}

// doLightly does light work, and tells of it only where it fails: of failures in a row
// there is one run.
func (w *Works) doLightly(k Kind) {
	g := newGoing(w, runs.Run{Kind: k.Name, Cause: runs.BySchedule, State: runs.Failed})
	err := g.do(k)
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.light[k.Name]
	l.running = false
	if err == nil || w.ctx.Err() != nil {
		*l = lightly{}
		return
	}
	slog.Error("work: what is done at intervals failed and is tried again", "kind", k.Name, "error", err)
	row := l.failing
	if row.ID == 0 {
		row = g.row
		row.BeganAt = record.StampOf(w.clock.Now())
	}
	row.Tries++
	row.Error, row.EndedAt, row.EndedServed = err.Error(), record.StampOf(w.clock.Now()), int64(w.clock.Served())
	l.paused = w.clock.Served() + pause(row.Tries)
	l.failing = row
	// Where the records fail themselves there is nowhere to tell of it but the log.
	_ = w.records.Update(w.ctx, "run", func(tx *record.Tx) (err error) {
		if row.ID == 0 {
			l.failing, err = tx.Runs().Add(row, tx.Now(), tx.Served())
			return err
		}
		return tx.Runs().Save(row)
	})
}

// pause returns how long to wait after so many tries.
func pause(tries int) time.Duration {
	wait := firstPause
	for range min(tries-1, 20) {
		wait = min(2*wait, longestPause)
	}
	return wait + time.Duration(rand.Int64N(int64(wait/4)))
}
