package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/record"
)

const (
	// lookEvery is how often schedules are looked at.
	lookEvery = 250 * time.Millisecond
	// keepEvery is how often the progress of a run is recorded.
	keepEvery = 2 * time.Second
	// atOnce is how many runs go at the same time, light ones aside.
	atOnce = 2
	// firstPause is how long a run that failed waits before it is begun again; each
	// further pause is twice as long, up to longestPause, and up to a quarter longer by
	// chance.
	firstPause   = 5 * time.Second
	longestPause = 10 * time.Minute
	// keptFor is how long runs that ended stay in the records, in served time.
	keptFor = 90 * 24 * time.Hour
)

// ErrUnknown: there is no such kind, or no such run that is open.
var ErrUnknown = errors.New("no such work")

// Works is the work of one service. It is safe for concurrent use.
type Works struct {
	records *record.Store
	clock   clock.Clock
	budget  *Budget
	kinds   []Kind

	wake  chan struct{}
	ctx   context.Context
	stop  context.CancelFunc
	ended sync.WaitGroup

	mu sync.Mutex
	// open are the runs that wait or go, by ID.
	open map[int64]*Going
	// light is how light kinds fared.
	light map[string]*lightly
	// ran is when each kind last ran by itself.
	ran map[string]moment
	// going counts the runs that go.
	going int
}

// lightly is how a light kind fared.
type lightly struct {
	running bool
	// failing is the run that tells of its failures in a row, 0 while it does well.
	failing record.Run
	// paused is until when, in served time, it is left alone after a failure.
	paused time.Duration
}

// New returns the work over the records, which stay the caller's to close, after the
// work. Nothing runs before Start.
func New(records *record.Store, clk clock.Clock, kinds ...Kind) (*Works, error) {
	w := &Works{
		records: records, clock: clk, budget: &Budget{}, kinds: kinds, wake: make(chan struct{}, 1),
		open: map[int64]*Going{}, light: map[string]*lightly{}, ran: map[string]moment{},
	}
	w.ctx, w.stop = context.WithCancel(context.Background())
	for i, k := range kinds {
		if slices.ContainsFunc(kinds[:i], func(other Kind) bool { return other.Name == k.Name }) {
			return nil, fmt.Errorf("two kinds of work are called %s", k.Name)
		}
		w.light[k.Name] = &lightly{}
	}
	view := records.View(w.ctx)
	rows, err := view.OpenRuns()
	if err != nil {
		return nil, fmt.Errorf("read the runs: %w", err)
	}
	ran, err := view.Ran()
	if err != nil {
		return nil, fmt.Errorf("read the schedules: %w", err)
	}
	for name, r := range ran {
		w.ran[name] = moment{r.RanAt.Time(), time.Duration(r.RanServed)}
	}
	for _, row := range rows {
		// What was cut waits to go on; what nobody knows any more stays as it is.
		if _, known := w.kind(row.Kind); known {
			row.State = record.RunWaiting
			w.open[row.ID] = newGoing(w, row)
		}
	}
	return w, nil
}

// Budget is what the work shares with requests.
func (w *Works) Budget() *Budget { return w.budget }

// Kinds returns the kinds of work, as they were registered.
func (w *Works) Kinds() []Kind { return w.kinds }

func (w *Works) kind(name string) (Kind, bool) {
	i := slices.IndexFunc(w.kinds, func(k Kind) bool { return k.Name == name })
	if i < 0 {
		return Kind{}, false
	}
	return w.kinds[i], true
}

// Start begins to look after schedules and goes on with what was cut.
func (w *Works) Start() { w.ended.Go(w.look) }

// Close cuts what goes, which goes on after the next start, and waits for it.
func (w *Works) Close() {
	w.stop()
	w.ended.Wait()
}

func (w *Works) now() moment { return moment{w.clock.Now(), w.clock.Served()} }

// look begins what is due, until the work is closed.
func (w *Works) look() {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		w.schedule()
		w.begin()
		select {
		case <-tick.C:
		case <-w.wake:
		case <-w.ctx.Done():
			return
		}
	}
}

// schedule asks for what is due by its schedule.
func (w *Works) schedule() {
	for _, k := range w.kinds {
		if k.When.Never() || !w.isDue(k) {
			continue
		}
		if k.Light {
			w.ended.Go(func() { w.doLightly(k) })
			continue
		}
		if err := w.records.Update(w.ctx, "schedule", func(tx *record.Tx) error { return tx.KeepRan(k.Name) }); err != nil {
			slog.Error("work: a schedule could not be kept", "kind", k.Name, "error", err)
			continue
		}
		if _, _, err := w.Ask(w.ctx, Wish{Kind: k.Name, Cause: record.BySchedule}); err != nil {
			slog.Error("work: what is due could not be begun", "kind", k.Name, "error", err)
		}
	}
}

// isDue reports whether a kind is due by its schedule, and notes that it runs now.
func (w *Works) isDue(k Kind) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.now()
	last, ran := w.ran[k.Name]
	if !ran && k.When.cron != nil {
		w.ran[k.Name] = now
		return false
	}
	l := w.light[k.Name]
	if l.running || now.served < l.paused || !k.When.due(last, now, ran) {
		return false
	}
	w.ran[k.Name] = now
	l.running = k.Light
	return true
}

// doLightly does light work, and tells of it only where it fails: of failures in a row
// there is one run.
func (w *Works) doLightly(k Kind) {
	g := newGoing(w, record.Run{Kind: k.Name, Cause: record.BySchedule, State: record.RunFailed})
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
			l.failing, err = tx.AddRun(row)
			return err
		}
		return tx.SaveRun(row)
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

// Wish is a run that is asked for.
type Wish struct {
	Kind string
	// Place is what it shall work on, "" for the whole registry.
	Place string
	Cause record.RunCause
	// Account is who asks, 0 for nobody.
	Account int64
}

// Ask asks for a run. Where one of the kind and place waits already, or goes and has
// not made its plan yet, that one is returned, and joined is true. It fails with
// ErrUnknown where there is no such kind.
func (w *Works) Ask(ctx context.Context, wish Wish) (run record.Run, joined bool, err error) {
	if k, known := w.kind(wish.Kind); !known || k.Light {
		return run, false, fmt.Errorf("%s: %w", wish.Kind, ErrUnknown)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, g := range w.open {
		if g.row.Kind == wish.Kind && g.row.Place == wish.Place && !g.planned && !g.stopped {
			return g.row, true, nil
		}
	}
	err = w.records.Update(ctx, "run", func(tx *record.Tx) (err error) {
		run, err = tx.AddRun(record.Run{Kind: wish.Kind, Place: wish.Place, Cause: wish.Cause, AskedBy: wish.Account, State: record.RunWaiting})
		return err
	})
	if err != nil {
		return run, false, err
	}
	w.open[run.ID] = newGoing(w, run)
	w.nudge()
	return run, false, nil
}

func (w *Works) nudge() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Stop stops an open run. One that goes is cut and ends soon after. It fails with
// ErrUnknown where no such run is open.
func (w *Works) Stop(ctx context.Context, id int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	g := w.open[id]
	if g == nil {
		return fmt.Errorf("run %d: %w", id, ErrUnknown)
	}
	g.stopped = true
	if g.cut != nil {
		g.cut()
		return nil
	}
	row := g.row
	w.finish(&row, record.RunStopped, nil)
	if err := w.records.Update(ctx, "run", func(tx *record.Tx) error { return tx.SaveRun(row) }); err != nil {
		g.stopped = false
		return err
	}
	delete(w.open, id)
	return nil
}

// Run returns a run as it is at this moment, where it is open.
func (w *Works) Run(id int64) (record.Run, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	g := w.open[id]
	if g == nil {
		return record.Run{}, false
	}
	return g.row, true
}

// begin begins runs that wait, the oldest first, as long as there is room.
func (w *Works) begin() {
	w.mu.Lock()
	defer w.mu.Unlock()
	var waiting []*Going
	for _, g := range w.open {
		if g.cut == nil && !g.stopped && g.paused <= w.clock.Served() && !w.goes(g) {
			waiting = append(waiting, g)
		}
	}
	slices.SortFunc(waiting, func(a, b *Going) int { return int(a.row.ID - b.row.ID) })
	for _, g := range waiting {
		// Of one kind and place the older one goes first, and alone.
		if w.going == atOnce || w.goes(g) {
			continue
		}
		k, _ := w.kind(g.row.Kind)
		var ctx context.Context
		ctx, g.cut = context.WithCancel(w.ctx)
		g.ctx = ctx
		w.going++
		w.ended.Go(func() { w.run(k, g) })
	}
}

// goes reports whether another run of the same kind and place goes.
func (w *Works) goes(g *Going) bool {
	for _, other := range w.open {
		if other != g && other.cut != nil && other.row.Kind == g.row.Kind && other.row.Place == g.row.Place {
			return true
		}
	}
	return false
}

// run does a run from its beginning, or from where it was cut, to its end.
func (w *Works) run(k Kind, g *Going) {
	defer g.cut()
	w.mu.Lock()
	g.row.State, g.row.Error = record.RunGoing, ""
	g.row.Tries++
	if g.row.BeganAt == 0 {
		g.row.BeganAt = record.StampOf(w.clock.Now())
	}
	w.mu.Unlock()
	err := g.keep()
	if err == nil {
		err = g.do(k)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.going--
	g.cut = nil
	switch {
	case g.stopped:
		w.finish(&g.row, record.RunStopped, nil)
	case w.ctx.Err() != nil:
		// The service stops: it goes on after the next start, and that was no try.
		g.row.State = record.RunWaiting
		g.row.Tries--
	case err == nil:
		w.finish(&g.row, record.RunDone, nil)
	case g.row.Tries < k.Tries:
		g.row.State, g.row.Error = record.RunWaiting, err.Error()
		g.paused = w.clock.Served() + pause(g.row.Tries)
		g.planned = false
	default:
		w.finish(&g.row, record.RunFailed, err)
	}
	if !g.row.Open() {
		delete(w.open, g.row.ID)
	}
	row := g.row
	if err := w.records.Update(context.Background(), "run", func(tx *record.Tx) error { return tx.SaveRun(row) }); err != nil {
		slog.Error("work: the end of a run could not be recorded", "run", row.ID, "kind", row.Kind, "error", err)
	}
	w.nudge()
}

func (w *Works) finish(row *record.Run, state record.RunState, err error) {
	row.State, row.Point = state, ""
	row.EndedAt, row.EndedServed = record.StampOf(w.clock.Now()), int64(w.clock.Served())
	if err != nil {
		row.Error = err.Error()
		slog.Error("work: a run failed", "run", row.ID, "kind", row.Kind, "place", row.Place, "tries", row.Tries, "error", err)
	}
}

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
					more, err = tx.DropRuns(int64(clk.Served() - keptFor))
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
