package work

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

// Going is a run as the work that does it sees it. It is used by one goroutine, that
// of Do.
type Going struct {
	works *Works
	ctx   context.Context
	lung  lung
	kept  time.Time

	// The rest is guarded by the mutex of the works.
	row runs.Run
	// cut ends the run; nil while it does not go.
	cut context.CancelFunc
	// stopped tells that somebody stopped it, planned that it takes nobody in any more.
	stopped, planned bool
	// paused is until when, in served time, it waits after a failure.
	paused time.Duration
}

func newGoing(w *Works, row runs.Run) *Going { return &Going{works: w, row: row, ctx: w.ctx} }

// do does the work; a panic in it is an error of the run alone.
func (g *Going) do(k Kind) (err error) {
	defer func() {
		if r := recover(); r != nil {
			slog.Error("work: a run panicked", "kind", k.Name, "panic", r, "stack", string(debug.Stack()))
			err = fmt.Errorf("it panicked: %v", r)
		}
	}()
	g.works.budget.runs.Add(1)
	defer g.works.budget.runs.Add(-1)
	g.lung = lung{budget: g.works.budget, since: time.Now()}
	g.kept = time.Now()
	return k.Do(g.ctx, g)
}

// Place is what the run works on, "" for the whole registry.
func (g *Going) Place() string { return g.row.Place }

// ID is the number of the run.
func (g *Going) ID() int64 { return g.row.ID }

// PlaceID is the number of the place: of a namespace or of a repository, 0 for none.
func (g *Going) PlaceID() (namespace, repository int64) {
	return g.row.NamespaceID, g.row.RepositoryID
}

// Options are how the run was asked for.
func (g *Going) Options() string { return g.row.Options }

// SetFacts says what came of the run so far in figures, in words of its kind.
func (g *Going) SetFacts(words string) { g.change(func(r *runs.Run) { r.Facts = words }) }

// Facts are what SetFacts said last, also before the run was cut.
func (g *Going) Facts() string {
	g.works.mu.Lock()
	defer g.works.mu.Unlock()
	return g.row.Facts
}

// Stopped reports whether somebody stopped the run: then it does not go on after a start.
func (g *Going) Stopped() bool {
	g.works.mu.Lock()
	defer g.works.mu.Unlock()
	return g.stopped
}

// Busy reports whether requests are being served.
func (g *Going) Busy() bool { return g.works.budget.Busy() }

// Point is what Keep kept last, "" where it begins anew.
func (g *Going) Point() string {
	g.works.mu.Lock()
	defer g.works.mu.Unlock()
	return g.row.Point
}

// Planned says that the run has made its plan: whoever asks from now on waits for
// another run.
func (g *Going) Planned() {
	g.works.mu.Lock()
	defer g.works.mu.Unlock()
	g.planned = true
}

// Breathe is called between two pieces of work of some milliseconds: it lets requests
// go first, and fails where the run is stopped or cut.
func (g *Going) Breathe() error { return g.lung.breathe(g.ctx) }

// Step says what the run does now, and that it begins to count anew.
func (g *Going) Step(words, unit string, total int64) {
	g.change(func(r *runs.Run) { r.Step, r.Unit, r.Done, r.Total = words, unit, 0, total })
}

// Did counts what is done.
func (g *Going) Did(n int64) { g.change(func(r *runs.Run) { r.Done += n }) }

// Report says what came of the run.
func (g *Going) Report(words string) { g.change(func(r *runs.Run) { r.Report = words }) }

func (g *Going) change(do func(*runs.Run)) {
	g.works.mu.Lock()
	defer g.works.mu.Unlock()
	do(&g.row)
}

// Keep notes where the run goes on if it is cut, and records it with the progress, at
// most every two seconds: what was done since is done again.
func (g *Going) Keep(point string) error {
	g.change(func(r *runs.Run) { r.Point = point })
	if time.Since(g.kept) < keepEvery {
		return nil
	}
	g.kept = time.Now()
	return g.keep()
}

func (g *Going) keep() error {
	g.works.mu.Lock()
	row := g.row
	g.works.mu.Unlock()
	if row.ID == 0 {
		return nil
	}
	return g.works.records.Update(g.ctx, "run", func(tx *record.Tx) error { return tx.Runs().Save(row) })
}
