// Package bring brings repositories in from peers by naming them: one, several, or all that a
// peer has, once or again and again until nothing differs. It compares tags on both sides,
// carries what differs by the engine of copies, and says of both sides what is equal, at which
// moment.
package bring

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/flow"
	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/arrivals"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/runs"
	"warthesis/internal/registry"
	"warthesis/internal/rule"
	"warthesis/internal/work"
)

// Kind is the kind of its runs; a run's place is the name of the import.
const Kind = "import"

// The bounds of one run: the repositories of it that are worked on at the same time, those
// that it may have, the tags that differ and the repositories that its report names.
const (
	repositoriesAtOnce = 4
	mostRepositories   = 100_000
	mostNamed          = 2000
	mostListed         = 20_000
)

// Bringer brings in what is kept as imports. It is safe for concurrent use.
type Bringer struct {
	registry *registry.Registry
	records  *record.Store
	peers    *flow.Peers
}

// New returns a bringer.
func New(reg *registry.Registry, records *record.Store, p *flow.Peers) *Bringer {
	return &Bringer{reg, records, p}
}

// Options are how a run is asked for.
type Options struct {
	// Preview only compares.
	Preview bool `json:"preview,omitempty"`
	// By is who asked, whose name stands in the list of what is carried in.
	By int64 `json:"by,omitempty"`
}

// String writes the options as runs keep them.
func (o Options) String() string {
	// These always marshal.
	raw, _ := json.Marshal(o)
	return string(raw)
}

// Kinds is the work that it does. ask asks for a run.
func (b *Bringer) Kinds(ask func(context.Context, work.Wish) error) []work.Kind {
	const looksEvery = 10 * time.Second
	return []work.Kind{
		{Name: Kind, About: "Brings in repositories of a peer, and compares both sides", Do: b.run},
		{Name: "imports-due", About: "Begins imports that run at times", When: work.Every(looksEvery), Light: true, Do: func(ctx context.Context, _ *work.Going) error { return b.due(ctx, ask) }},
	}
}

// ReadWhen reads when an import runs by itself; "" is never.
func ReadWhen(text string) (work.Schedule, error) {
	if text == "" {
		return work.Schedule{}, nil
	}
	return work.ParseSchedule(text)
}

// due asks for runs of the imports whose time it is.
func (b *Bringer) due(ctx context.Context, ask func(context.Context, work.Wish) error) error {
	all, err := b.records.View(ctx).Arrivals().Imports()
	if err != nil {
		return err
	}
	clk := b.records.Clock()
	for _, i := range all {
		when, err := ReadWhen(i.RunWhen)
		if err != nil || when.Never() || !when.Due(i.RanAt.Time(), clk.Now(), time.Duration(i.RanServed), clk.Served(), i.RanAt != 0) {
			continue
		}
		err = b.records.Update(ctx, "import", func(tx *record.Tx) error { return tx.Arrivals().Ran(i.ID, tx.Now(), tx.Served()) })
		if err == nil {
			err = ask(ctx, work.Wish{Kind: Kind, Place: i.Name, Options: Options{By: i.MadeBy}.String(), Cause: runs.BySchedule, Account: i.MadeBy})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// pair is a repository of the peer with what it is called here.
type pair struct{ from, to oci.Name }

// bringing is one run.
type bringing struct {
	b    *Bringer
	is   arrivals.Importing
	peer peers.Peer
	src  sides.There
	here sides.Here
	o    Options

	mu     sync.Mutex
	report Report
	// arrival is how the run stands, as it is listed.
	arrival arrivals.Arrival
	began   time.Time
	told    time.Time
}

func (b *Bringer) run(ctx context.Context, g *work.Going) error {
	var o Options
	if err := json.Unmarshal([]byte(g.Options()), &o); err != nil {
		return fmt.Errorf("the options of the run: %w", err)
	}
	is, err := b.records.View(ctx).Arrivals().GetImport(g.Place())
	if errors.Is(err, arrivals.ErrNoImport) {
		return oci.Errorf(oci.CodeQueryInvalid, "the import %s is not there any more", g.Place())
	}
	if err != nil {
		return err
	}
	p, err := b.records.View(ctx).Peers().ByID(is.PeerID)
	if err != nil {
		return err
	}
	client, err := b.peers.Client(p)
	if err != nil {
		return err
	}
	// Whoever made it is an admin: what it brings may make namespaces.
	ctx = registry.WithCaller(ctx, registry.Caller{Makes: record.Maker{Namespace: true, By: "import " + is.Name}})
	r := &bringing{b: b, is: is, peer: p, src: sides.There{Client: client, Is: p}, here: sides.Here{Records: b.records}, o: o, began: time.Now()}
	r.report = Report{Import: is.Name, Peer: p.Name, Preview: o.Preview, Began: b.records.Clock().Now().UTC(), Repositories: []Repository{}, Namespaces: []Namespace{}, Differs: []Tag{}}
	g.Step("listing", "repositories", 0)
	pairs, err := r.list(ctx)
	if err != nil {
		return err
	}
	if err := r.begin(ctx, pairs); err != nil {
		return err
	}
	err = r.all(ctx, g, pairs)
	return errors.Join(err, r.end(context.WithoutCancel(ctx), g, err))
}

// list finds out which repositories are meant.
func (r *bringing) list(ctx context.Context) (pairs []pair, err error) {
	var patterns []rule.Pattern
	for _, what := range r.is.What {
		if what.Pattern == "" {
			pairs = append(pairs, pair{what.From, what.To})
			continue
		}
		p, err := rule.ParsePattern(what.Pattern)
		if err != nil {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "%v", err)
		}
		patterns = append(patterns, p)
	}
	if len(patterns) > 0 {
		err = r.src.Names(ctx, func(name oci.Name) error {
			if !slices.ContainsFunc(patterns, func(p rule.Pattern) bool { return rule.MatchText(p.Repository(), string(name)) }) {
				return nil
			}
			if len(pairs) >= mostRepositories {
				return oci.Errorf(oci.CodeUnsupported, "it means more than %d repositories; make several imports of it", mostRepositories)
			}
			pairs = append(pairs, pair{name, name.Below(r.is.Prefix)})
			return ctx.Err()
		})
		if errors.Is(err, oci.CodeUnsupported) {
			err = oci.Errorf(oci.CodeUnsupported, "the peer %s lists no repositories (%v); name those that are meant, by a list", r.peer.Name, err)
		}
	}
	slices.SortFunc(pairs, func(a, b pair) int { return compareNames(a, b) })
	return slices.CompactFunc(pairs, func(a, b pair) bool { return a == b }), err
}

// all works on each repository, and then compares both sides once more, where something was
// brought: what it says of them is as of that moment.
func (r *bringing) all(ctx context.Context, g *work.Going, pairs []pair) error {
	doing := "bringing"
	if r.o.Preview {
		doing = "comparing"
	}
	if err := r.round(ctx, g, pairs, doing, func(ctx context.Context, p pair) Repository { return r.repository(ctx, p, !r.o.Preview) }); err != nil {
		return err
	}
	r.propose(ctx)
	if r.o.Preview {
		return nil
	}
	r.report.ComparedFrom = r.b.records.Clock().Now().UTC()
	first := r.report
	r.report.Repositories, r.report.Differs, r.report.Totals = []Repository{}, []Tag{}, Totals{}
	err := r.round(ctx, g, pairs, "comparing again", func(ctx context.Context, p pair) Repository { return r.repository(ctx, p, false) })
	r.report.ComparedUntil = r.b.records.Clock().Now().UTC()
	r.report.settle(first)
	return err
}

// round works on each repository, some at a time.
func (r *bringing) round(ctx context.Context, g *work.Going, pairs []pair, doing string, one func(context.Context, pair) Repository) error {
	g.Step(doing, "repositories", int64(len(pairs)))
	var did sync.Mutex
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(repositoriesAtOnce)
	for _, p := range pairs {
		group.Go(func() error {
			found := one(within, p)
			if within.Err() != nil {
				return within.Err()
			}
			r.add(found)
			did.Lock()
			g.Did(1)
			did.Unlock()
			r.tell(ctx)
			return nil
		})
	}
	return group.Wait()
}

// begin notes what is carried in.
func (r *bringing) begin(ctx context.Context, pairs []pair) error {
	if r.o.Preview {
		return nil
	}
	names := make([]oci.Name, 0, len(pairs))
	for _, p := range pairs {
		names = append(names, p.to)
	}
	names = names[:min(len(names), arrivals.MostPlaces)]
	return r.b.records.Update(ctx, "import", func(tx *record.Tx) error {
		// A run that was cut goes on, perhaps with more repositories.
		open, err := tx.Arrivals().OpenOf(arrivals.Import, r.is.Name)
		if err == nil {
			r.arrival = open
			return tx.Arrivals().Hold(open.ID, names)
		}
		if !errors.Is(err, arrivals.ErrNone) {
			return err
		}
		r.arrival, err = tx.Arrivals().Make(arrivals.Arrival{
			Kind: arrivals.Import, Name: r.is.Name, Source: r.peer.Name, AccountID: r.o.By, State: arrivals.Going, BeganAt: tx.Now(), BeganServed: tx.Served(),
			UntilServed: tx.Served() + int64(arrivals.Longest), Days: int64(arrivals.Longest / (24 * time.Hour)), HeardAt: tx.Now(), HeardServed: tx.Served(),
		}, names)
		return err
	})
}

// tell notes how far it is, now and then.
func (r *bringing) tell(ctx context.Context) {
	const every = 2 * time.Second
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.o.Preview || time.Since(r.told) < every {
		return
	}
	r.told = time.Now()
	if err := r.change(ctx, arrivals.Going, ""); err != nil && ctx.Err() == nil {
		slog.Warn("import: how far it is could not be noted", "import", r.is.Name, "error", err)
	}
}

// change writes how it stands. The mutex is held.
func (r *bringing) change(ctx context.Context, state arrivals.State, says string) error {
	t := r.report.Totals
	return r.b.records.Update(ctx, "import", func(tx *record.Tx) error {
		a, err := tx.Arrivals().Get(r.arrival.ID)
		if err != nil {
			return err
		}
		a.HeardAt, a.HeardServed = tx.Now(), tx.Served()
		a.Renew(tx.Served())
		a.State, a.Says = state, says
		// What was brought is equal once it was compared again.
		a.Images, a.ImagesDone, a.Lacks = t.Tags, min(t.Tags, t.Equal+t.Brought), t.Failed
		a.Bytes, a.BytesDone = t.Bytes, t.Sent
		if took := time.Since(r.began); took > 0 {
			a.Rate = int64(float64(t.Sent) / took.Seconds())
		}
		if state != arrivals.Going {
			a.EndedAt = tx.Now()
		}
		if state == arrivals.Done {
			// What was here already did not come, and is here as well.
			a.BytesDone = a.Bytes
		}
		return tx.Arrivals().Change(a)
	})
}

// end keeps the report.
func (r *bringing) end(ctx context.Context, g *work.Going, failed error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.report.Ended = r.b.records.Clock().Now().UTC()
	r.report.state(failed)
	raw, err := json.Marshal(r.report)
	if err != nil {
		return err
	}
	g.Report(r.report.Says)
	if errors.Is(failed, context.Canceled) {
		if g.Stopped() && !r.o.Preview {
			return r.change(ctx, arrivals.Stopped, "the run was stopped")
		}
		// It goes on after the next start.
		return nil
	}
	err = r.b.records.Update(ctx, "import", func(tx *record.Tx) error { return tx.Arrivals().Reported(r.is.ID, raw) })
	if err != nil || r.o.Preview {
		return err
	}
	state := arrivals.Done
	if failed != nil || r.report.Totals.Failed+int64(r.report.Totals.Unread) > 0 {
		state = arrivals.Failed
	}
	err = r.change(ctx, state, r.report.Says)
	if errors.Is(err, arrivals.ErrNone) {
		return nil
	}
	return err
}
