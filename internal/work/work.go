package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

const (
	// lookEvery is how often schedules are looked at.
	lookEvery = 250 * time.Millisecond
	// keepEvery is how often the progress of a run is recorded.
	keepEvery = 2 * time.Second
	// atOnce is how many runs go at the same time, light ones aside, and ofPlaces how many
	// of them may be of places: what owners ask for never keeps the registry's own waiting.
	atOnce   = 3
	ofPlaces = 2
	// saveEvery is how often the end of a run is tried to be recorded again.
	saveEvery = time.Second
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
	// unsaved are the ends of runs that could not be recorded yet, and trySaving is when
	// that is tried again.
	unsaved   map[int64]runs.Run
	trySaving time.Time
	// light is how light kinds fared.
	light map[string]*lightly
	// ran is when each kind last ran by itself.
	ran map[string]moment
	// going counts the runs that go.
	going int
}

// New returns the work over the records, which stay the caller's to close, after the
// work. Nothing runs before Start.
func New(records *record.Store, clk clock.Clock, kinds ...Kind) (*Works, error) {
	w := &Works{
		records: records, clock: clk, budget: &Budget{}, kinds: kinds, wake: make(chan struct{}, 1),
		open: map[int64]*Going{}, unsaved: map[int64]runs.Run{}, light: map[string]*lightly{}, ran: map[string]moment{},
	}
	w.ctx, w.stop = context.WithCancel(context.Background())
	for i, k := range kinds {
		if slices.ContainsFunc(kinds[:i], func(other Kind) bool { return other.Name == k.Name }) {
			return nil, fmt.Errorf("two kinds of work are called %s", k.Name)
		}
		w.light[k.Name] = &lightly{}
	}
	view := records.View(w.ctx)
	rows, err := view.Runs().Open()
	if err != nil {
		return nil, fmt.Errorf("read the runs: %w", err)
	}
	ran, err := view.Runs().Ran()
	if err != nil {
		return nil, fmt.Errorf("read the schedules: %w", err)
	}
	for name, r := range ran {
		w.ran[name] = moment{r.RanAt.Time(), time.Duration(r.RanServed)}
	}
	for _, row := range rows {
		// What was cut waits to go on; what nobody knows any more stays as it is.
		if _, known := w.kind(row.Kind); known {
			row.State = runs.Waiting
			w.open[row.ID] = newGoing(w, row)
		}
	}
	return w, nil
}

// Budget is what the work shares with requests.
func (w *Works) Budget() *Budget { return w.budget }

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
		w.saveEnds()
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
		if k.When.Never() {
			continue
		}
		due, begins := w.isDue(k)
		if !due && !begins {
			continue
		}
		if k.Light {
			w.ended.Go(func() { w.doLightly(k) })
			continue
		}
		if err := w.records.Update(w.ctx, "schedule", func(tx *record.Tx) error { return tx.Runs().KeepRan(k.Name, tx.Now(), tx.Served()) }); err != nil {
			slog.Error("work: a schedule could not be kept", "kind", k.Name, "error", err)
			continue
		}
		if begins {
			continue
		}
		if _, _, err := w.Ask(w.ctx, Wish{Kind: k.Name, Cause: runs.BySchedule}); err != nil {
			slog.Error("work: what is due could not be begun", "kind", k.Name, "error", err)
		}
	}
}

// isDue reports whether a kind is due by its schedule, and notes that it runs now; or
// whether the time until its first run begins now.
func (w *Works) isDue(k Kind) (due, begins bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.now()
	last, ran := w.ran[k.Name]
	if !ran && (k.When.cron != nil || k.Late) {
		w.ran[k.Name] = now
		return false, true
	}
	l := w.light[k.Name]
	if l.running || now.served < l.paused || !k.When.due(last, now, ran) {
		return false, false
	}
	w.ran[k.Name] = now
	l.running = k.Light
	return true, false
}

// Wish is a run that is asked for.
type Wish struct {
	Kind string
	// Place is what it shall work on, "" for the whole registry, and its number as one of
	// the others; Options are how, in words of the kind.
	Place                     string
	NamespaceID, RepositoryID int64
	Options                   string
	Cause                     runs.Cause
	// Account is who asks, 0 for nobody.
	Account int64
}

// Ask asks for a run. Where one of the kind and place, asked for in the same way, waits already, or goes and has
// not made its plan yet, that one is returned, and joined is true. It fails with
// ErrUnknown where there is no such kind.
func (w *Works) Ask(ctx context.Context, wish Wish) (run runs.Run, joined bool, err error) {
	if k, known := w.kind(wish.Kind); !known || k.Light {
		return run, false, fmt.Errorf("%s: %w", wish.Kind, ErrUnknown)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, g := range w.open {
		if g.row.Kind == wish.Kind && g.row.Place == wish.Place && g.row.NamespaceID == wish.NamespaceID && g.row.RepositoryID == wish.RepositoryID && g.row.Options == wish.Options && !g.planned && !g.stopped {
			return g.row, true, nil
		}
	}
	// That who asks has gone must not leave a run that nobody knows of.
	err = w.records.Update(context.WithoutCancel(ctx), "run", func(tx *record.Tx) (err error) {
		run, err = tx.Runs().Add(runs.Run{Kind: wish.Kind, Place: wish.Place, NamespaceID: wish.NamespaceID, RepositoryID: wish.RepositoryID, Options: wish.Options, Cause: wish.Cause, AskedBy: wish.Account, State: runs.Waiting}, tx.Now(), tx.Served())
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
	w.finish(&row, runs.Stopped, nil)
	if err := w.records.Update(context.WithoutCancel(ctx), "run", func(tx *record.Tx) error { return tx.Runs().Save(row) }); err != nil {
		g.stopped = false
		return err
	}
	delete(w.open, id)
	return nil
}

// Run returns a run as it is at this moment, where it is open or its end is not recorded yet.
func (w *Works) Run(id int64) (runs.Run, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if g := w.open[id]; g != nil {
		return g.row, true
	}
	row, unsaved := w.unsaved[id]
	return row, unsaved
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
		if w.going == atOnce || w.goes(g) || g.row.Place != "" && w.goingInPlaces() == ofPlaces {
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

// goingInPlaces counts the runs of places that go.
func (w *Works) goingInPlaces() (n int) {
	for _, g := range w.open {
		if g.cut != nil && g.row.Place != "" {
			n++
		}
	}
	return n
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
	g.row.State, g.row.Error = runs.Going, ""
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
		w.finish(&g.row, runs.Stopped, nil)
	case w.ctx.Err() != nil:
		// The service stops: it goes on after the next start, and that was no try.
		g.row.State = runs.Waiting
		g.row.Tries--
	case err == nil:
		w.finish(&g.row, runs.Done, nil)
	case g.row.Tries < k.Tries:
		g.row.State, g.row.Error = runs.Waiting, err.Error()
		g.paused = w.clock.Served() + pause(g.row.Tries)
		g.planned = false
	default:
		w.finish(&g.row, runs.Failed, err)
	}
	if !g.row.Open() {
		delete(w.open, g.row.ID)
	}
	row := g.row
	if err := w.save(row); err != nil {
		slog.Error("work: the end of a run could not be recorded, and is tried again", "run", row.ID, "kind", row.Kind, "error", err)
		w.unsaved[row.ID], w.trySaving = row, time.Now().Add(saveEvery)
	}
	w.nudge()
}

func (w *Works) save(row runs.Run) error {
	return w.records.Update(context.Background(), "run", func(tx *record.Tx) error { return tx.Runs().Save(row) })
}

// saveEnds tries again to record the ends of runs: on a full disk the first try fails.
func (w *Works) saveEnds() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.unsaved) == 0 || time.Now().Before(w.trySaving) {
		return
	}
	w.trySaving = time.Now().Add(saveEvery)
	for id, row := range w.unsaved {
		if _, open := w.open[id]; !open && w.save(row) != nil {
			return
		}
		delete(w.unsaved, id)
	}
}

func (w *Works) finish(row *runs.Run, state runs.State, err error) {
	row.State, row.Point = state, ""
	row.EndedAt, row.EndedServed = record.StampOf(w.clock.Now()), int64(w.clock.Served())
	if err != nil {
		row.Error = err.Error()
		slog.Error("work: a run failed", "run", row.ID, "kind", row.Kind, "place", row.Place, "tries", row.Tries, "error", err)
	}
}
