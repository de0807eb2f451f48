package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"warthesis/internal/clock"
	"warthesis/internal/record"
	"warthesis/internal/record/unheld"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

// The kinds of runs of this room.
const (
	KindSweep     = "sweep"
	KindPreview   = "sweep-preview"
	KindRetention = "retention"
	KindScrub     = "scrub"
)

// Settings bound what runs do.
type Settings struct {
	// At is when sweeps run by themselves.
	At work.Schedule
	// RetentionAt is when retention rules act by themselves, Wait how long a list waits that
	// would take much of a repository.
	RetentionAt work.Schedule
	Wait        time.Duration
	// SamplesAt is when it is noted how much there is.
	SamplesAt work.Schedule
	// FilesPerSecond and BytesPerSecond bound what a sweep takes from the disk; 0 is no
	// bound.
	FilesPerSecond, BytesPerSecond int64
	// ScrubWithin is the served time within which scrubs read all files.
	ScrubWithin time.Duration
	// ScrubBytesPerSecond bounds what they read; 0 is what that needs, and at least 32 MiB.
	ScrubBytesPerSecond int64
}

// Stock is how much content there is, and when the least lately read file was read, in
// served time in nanoseconds.
type Stock struct{ Files, Bytes, Oldest int64 }

// stockFor is how long a count of the stock is told again: it looks at every file's row.
const stockFor = 20 * time.Second

// Stock counts the content, or tells what was counted a moment ago.
func (s *Sweeper) Stock(ctx context.Context) (Stock, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.counted.IsZero() && time.Since(s.counted) < stockFor {
		return s.stock, nil
	}
	all, err := s.records.View(ctx).Unheld().Bytes()
	if err == nil {
		s.stock, s.counted = all, time.Now()
	}
	return s.stock, err
}

// Sweeper does the runs. It is safe for concurrent use.
type Sweeper struct {
	registry *registry.Registry
	records  *record.Store
	clock    clock.Clock
	reports  Reports
	settings Settings

	mu      sync.Mutex
	stock   Stock
	counted time.Time
}

// New returns a sweeper that keeps the reports of its runs in a folder.
func New(r *registry.Registry, records *record.Store, clk clock.Clock, folder string, settings Settings) (*Sweeper, error) {
	reports, err := OpenReports(folder)
	return &Sweeper{registry: r, records: records, clock: clk, reports: reports, settings: settings}, err
}

// Reports are those of its runs.
func (s *Sweeper) Reports() Reports { return s.reports }

// ScrubWithin is the span within which scrubs read everything.
func (s *Sweeper) ScrubWithin() time.Duration { return s.settings.ScrubWithin }

// Kinds are the kinds of work that it does.
func (s *Sweeper) Kinds() []work.Kind {
	return []work.Kind{
		{Name: KindSweep, About: "Takes what nothing needs any more", When: s.settings.At, Tries: 3, Do: s.sweep},
		{Name: KindPreview, About: "Tells what a sweep would take now", Do: s.preview},
		{Name: KindRetention, About: "Removes what retention rules let go", When: s.settings.RetentionAt, Tries: 3, Do: s.retention},
		{Name: KindSamples, About: "Notes how much there is, a line a day, and forgets lines of two years ago", When: s.settings.SamplesAt, Do: s.sample},
		{Name: KindScrub, About: "Reads what is here against its digests", When: work.Every(s.settings.ScrubWithin / scrubs), Late: true, Tries: 3, Do: s.scrub},
	}
}

// Options are how a run is asked for.
type Options struct {
	// Unrecorded lets files go that no record names, however many they are.
	Unrecorded bool `json:"unrecorded,omitempty"`
	// Digest is the image that a scrub reads.
	Digest string `json:"digest,omitempty"`
	// All lets a scrub read everything.
	All bool `json:"all,omitempty"`
}

// Words are the options as runs keep them.
func (o Options) Words() string {
	if o == (Options{}) {
		return ""
	}
	// Plain fields always marshal.
	raw, _ := json.Marshal(o)
	return string(raw)
}

func readOptions(words string) (o Options, err error) {
	if words == "" {
		return o, nil
	}
	return o, json.Unmarshal([]byte(words), &o)
}

// Report is what came of a sweep or of its preview.
type Report struct {
	// Goes is what was planned to go, Stays what nothing needs and stays.
	Goes  []unheld.Sum `json:"goes"`
	Stays []unheld.Sum `json:"stays"`
	// Taken is what went, Since what did not, because it changed after the plan.
	Taken []unheld.Sum `json:"taken"`
	Since []unheld.Sum `json:"since"`
	// Freed are bytes, and Files files, that are gone from the disk.
	Freed int64 `json:"freed"`
	Files int64 `json:"files"`
	// Strays are files that no record names, Missing records that have no file, Adopted
	// those of which a good copy lay elsewhere.
	Strays  int64 `json:"strays"`
	Missing int64 `json:"missing"`
	Adopted int64 `json:"adopted"`
	// Waited is how many changes of others waited for the writer, and for how long.
	Waited        int64   `json:"waited"`
	WaitedLongest float64 `json:"waited_longest_ms"`
	WaitedWhole   float64 `json:"waited_whole_ms"`
	// WaitedKind is the kind of change that waited longest.
	WaitedKind string `json:"waited_kind,omitempty"`
	// PlanSeconds is how long the plan took, TakeSeconds how long the taking.
	PlanSeconds float64 `json:"plan_seconds"`
	TakeSeconds float64 `json:"take_seconds"`
	// LastManifest is the ID of the newest manifest that the plan has seen.
	LastManifest int64 `json:"last_manifest,omitempty"`
}

// sweep plans, unless it goes on with a plan, and takes.
func (s *Sweeper) sweep(ctx context.Context, g *work.Going) error {
	if err := s.records.Sound(); err != nil {
		return err
	}
	p, err := s.reports.open(g.ID())
	if err != nil {
		return err
	}
	if p == nil {
		g.Step("looking", "", 0)
		if p, err = s.plan(ctx, g, false); err != nil {
			return err
		}
	}
	defer p.close()
	err = s.take(ctx, g, p)
	// Whatever fails from here on, the report has what was deleted.
	g.Report(p.report.words())
	g.SetFacts(p.report.facts())
	if err != nil {
		g.Report(p.report.words() + ", so far")
		return err
	}
	if namespace, repository := g.PlaceID(); namespace == 0 && repository == 0 {
		if err := s.recount(ctx, g); err != nil {
			return err
		}
	}
	g.Step("finishing", "", 0)
	if _, err := s.registry.FinishRemovals(ctx, g.Breathe); err != nil {
		return err
	}
	if o, err := readOptions(g.Options()); err == nil && o.Unrecorded {
		if err := s.registry.ReleaseUnrecorded(ctx); err != nil {
			return err
		}
	}
	return errors.Join(s.reports.finish(g.ID()), s.reports.clear(s.known(ctx)))
}

// known tells which runs there are still.
func (s *Sweeper) known(ctx context.Context) func(int64) (bool, error) {
	return func(run int64) (bool, error) { return s.records.View(ctx).Runs().Has(run) }
}

func (s *Sweeper) preview(ctx context.Context, g *work.Going) error {
	g.Step("looking", "", 0)
	p, err := s.plan(ctx, g, true)
	if err != nil {
		return err
	}
	p.close()
	g.Report(fmt.Sprintf("%s would go", sumWords(p.report.Goes)))
	g.SetFacts(p.report.facts())
	return errors.Join(s.reports.finish(g.ID()), s.reports.clear(s.known(ctx)))
}

// The bounds of unrecorded files beyond which an admin must say that they may go: more
// than one in so many files, and more than so many.
const (
	oneIn     = 100
	fewStrays = 20
)

// plan looks at the disk and the records, and writes what goes into a file.
func (s *Sweeper) plan(ctx context.Context, g *work.Going, preview bool) (*plan, error) {
	o, err := readOptions(g.Options())
	if err != nil {
		return nil, err
	}
	var report Report
	namespace, repository := g.PlaceID()
	whole := namespace == 0 && repository == 0
	if whole && !preview {
		if err := errors.Join(s.registry.ClearErased(ctx), s.look(ctx, g, &report)); err != nil {
			return nil, err
		}
		if err := errors.Join(s.registry.EndIdleUploads(ctx), s.registry.Files().ClearAside(ctx)); err != nil {
			return nil, err
		}
	}
	// What was said to be there counts in the plan as well.
	if err := s.registry.FlushTouches(); err != nil {
		return nil, err
	}
	g.Step("planning", "", 0)
	g.Planned()
	began := time.Now()
	terms := s.registry.Terms()
	terms.NamespaceID, terms.RepositoryID = namespace, repository
	file, err := s.reports.begin(g.ID())
	if err != nil {
		return nil, err
	}
	defer file.drop()
	sums, err := s.registry.Plan(ctx, terms, g.Breathe, file.add)
	if err != nil {
		return nil, fmt.Errorf("plan what goes: %w", err)
	}
	report.Goes, report.Stays, report.LastManifest = sums.Goes, sums.Stays, sums.LastManifest
	if whole {
		if err := s.files(ctx, terms, o, file, &report); err != nil {
			return nil, err
		}
	}
	report.PlanSeconds = time.Since(began).Seconds()
	if err := file.end(report); err != nil {
		return nil, err
	}
	return s.reports.open(g.ID())
}

// look compares the disk with the records.
func (s *Sweeper) look(ctx context.Context, g *work.Going, report *Report) error {
	groups, err := s.registry.Files().Folders(ctx)
	if err != nil {
		return err
	}
	g.Step("looking at the files", "parts", int64(len(groups)))
	for _, folders := range groups {
		l, err := s.registry.Files().Look(ctx, folders)
		if err != nil {
			return err
		}
		report.Strays += int64(l.Strays)
		report.Missing += int64(l.Missing)
		report.Adopted += int64(l.Adopted)
		g.Did(1)
		if err := g.Breathe(); err != nil {
			return err
		}
	}
	return nil
}

// files adds the files that no record names.
func (s *Sweeper) files(ctx context.Context, terms unheld.Terms, o Options, file *planFile, report *Report) error {
	records := s.records.View(ctx).Unheld()
	counts, err := records.CountStrays()
	if err != nil {
		return err
	}
	tooMany := counts.Strays > fewStrays && counts.Strays*oneIn > counts.Files && !o.Unrecorded
	older, err := s.registry.UnrecordedHeld(ctx)
	if err != nil {
		return err
	}
	held := tooMany || older && !o.Unrecorded
	goes := unheld.Sum{Kind: unheld.Stray, Why: unheld.Unrecorded}
	if recorded, err := records.RecordedStrays(); err != nil || len(recorded) > 0 {
		if len(recorded) > 0 {
			err = &unheld.DisputedError{Table: "contents", Index: "contents_by_digest", What: fmt.Sprintf("the file of %s is recorded, and was taken for one that is not", recorded[0].Digest)}
			s.records.ReportDamage(record.Damage{Table: "contents", Index: "contents_by_digest", What: err.Error()})
			err = errors.Join(err, s.records.Sound())
		}
		return err
	}
	if !held {
		err = records.DueStrays(terms, func(f unheld.File) error {
			goes.Count, goes.Bytes = goes.Count+1, goes.Bytes+f.Size
			return file.found(unheld.Found{Kind: unheld.Stray, Digest: f.Digest, Name: f.Place, Size: f.Size, Why: unheld.Unrecorded, Since: f.FoundServed})
		})
		if err != nil {
			return err
		}
	}
	stays := unheld.Sum{Kind: unheld.Stray, Why: unheld.InWindow, Count: counts.Strays - goes.Count, Bytes: counts.Bytes - goes.Bytes}
	if tooMany {
		stays.Why = unheld.TooMany
	}
	if older {
		stays.Why = unheld.RecordsOlder
	}
	left, err := s.registry.Leftovers(ctx)
	if err != nil {
		return err
	}
	behind := unheld.Sum{Kind: unheld.Leftover, Why: unheld.LeftBehind, Count: int64(len(left))}
	for _, f := range left {
		behind.Bytes += f.Size
		if err := file.found(f); err != nil {
			return err
		}
	}
	for _, sum := range []unheld.Sum{goes, behind} {
		if sum.Count > 0 {
			report.Goes = append(report.Goes, sum)
		}
	}
	if stays.Count > 0 {
		report.Stays = append(report.Stays, stays)
	}
	return nil
}

// atMost is how many findings of a kind go by one change.
var atMost = map[unheld.Kind]int{unheld.Manifest: 20, unheld.Repository: 1, unheld.Namespace: 1, unheld.Stray: 50, unheld.Leftover: 50}

const (
	usuallyAtMost = 200
	// heldIdle and heldBusy are how long a change may hold the writer: alone, and beside
	// requests.
	heldIdle = 4 * time.Millisecond
	heldBusy = time.Millisecond
)

// take takes what the plan has, some at a time: as many as hold the writer for a few
// milliseconds.
func (s *Sweeper) take(ctx context.Context, g *work.Going, p *plan) error {
	began := time.Now()
	g.Step("taking", "things", p.total)
	g.Did(p.at)
	files, bytes := limiter(s.settings.FilesPerSecond), limiter(s.settings.BytesPerSecond)
	size := 20
	since := unheld.NewRecent(p.report.LastManifest)
	if err := since.Kept(s.records.View(ctx).Unheld(), p.kept); err != nil {
		return err
	}
	for {
		found, err := p.next(size, func(kind unheld.Kind) int {
			if most, has := atMost[kind]; has {
				return most
			}
			return usuallyAtMost
		})
		if err != nil || len(found) == 0 {
			p.report.TakeSeconds += time.Since(began).Seconds()
			return err
		}
		t, err := s.registry.TakeUnheld(ctx, found, since)
		if err == nil || slices.Contains(t.Went, true) {
			err = errors.Join(err, p.note(found, t))
		}
		if err != nil {
			p.report.TakeSeconds += time.Since(began).Seconds()
			return fmt.Errorf("delete what nothing references: %w", err)
		}
		g.Did(int64(len(found)))
		g.SetFacts(p.report.facts())
		size = next(size, t.Held, g.Busy())
		// A run that is stopped takes nothing more; what it took is noted.
		if err := errors.Join(wait(ctx, files, t.Files), wait(ctx, bytes, t.Bytes), g.Keep(""), g.Breathe()); err != nil {
			return err
		}
	}
}

// next returns how many findings go by the next change.
func next(size int, held time.Duration, busy bool) int {
	target := heldIdle
	if busy {
		target = heldBusy
	}
	switch {
	case held > target:
		size = max(1, int(float64(size)*float64(target)/float64(held)))
	case held < target/2:
		size = min(2*size, usuallyAtMost)
	}
	return size
}

func limiter(perSecond int64) *rate.Limiter {
	if perSecond == 0 {
		return nil
	}
	return rate.NewLimiter(rate.Limit(perSecond), int(perSecond))
}

// wait waits until a limit lets n more through.
func wait(ctx context.Context, l *rate.Limiter, n int64) error {
	for l != nil && n > 0 {
		some := min(n, int64(l.Burst()))
		if err := l.WaitN(ctx, int(some)); err != nil {
			return err
		}
		n -= some
	}
	return nil
}
