package sweep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/seals"
	"warthesis/internal/registry"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
	"warthesis/internal/work"
)

// RetentionReport is what came of a run of retention rules.
type RetentionReport struct {
	Repositories int64 `json:"repositories"`
	// Tags and Images went; images go with their last tag or by themselves.
	Tags   int64 `json:"tags"`
	Images int64 `json:"images"`
	// Rules are those that let something go.
	Rules []RuleSum `json:"rules"`
	// Sealed, Waiting and InGrace stayed although a rule drops them.
	Sealed  int64 `json:"sealed"`
	Waiting int64 `json:"waiting"`
	InGrace int64 `json:"in_grace"`
	// Waits are lists that wait once more, of which the first are told.
	Waits []WaitOf `json:"waits"`
	// Busy are repositories that changed all the time, and are left to the next run.
	Busy []oci.Name `json:"busy"`
	// Stale are lists of what is in use that count as stale: all of their patterns stays.
	Stale []string `json:"stale"`
}

// RuleSum is how much went by a rule.
type RuleSum struct {
	Of     string `json:"of"`
	Number int    `json:"number"`
	Words  string `json:"words"`
	Tags   int64  `json:"tags"`
	Images int64  `json:"images"`
}

// WaitOf is a repository of which a list would take so much that it waits.
type WaitOf struct {
	Repository oci.Name `json:"repository"`
	Of         string   `json:"of"`
	Takes      int      `json:"takes"`
	OutOf      int      `json:"out_of"`
}

const (
	// placesAtOnce is how many repositories are looked up at a time.
	placesAtOnce = 100
	// judgements is how often a repository is judged in a run, where something is taken away
	// from it or moved in it while its rules act; judgedThings bounds how many tags and images
	// are judged by that: a large repository is judged once, and what is left by the next run.
	judgements, judgedThings = 25, 100_000
	// reportShown is how many lines of each a report has.
	reportShown = 100
)

// retention judges one repository after the other by its rules, and removes what goes.
func (s *Sweeper) retention(ctx context.Context, g *work.Going) error {
	if err := s.records.Sound(); err != nil {
		return err
	}
	namespace, repository := g.PlaceID()
	run := retaining{Sweeper: s, g: g, began: int64(s.clock.Served())}
	after, err := run.resume(g.Point())
	if err != nil {
		return err
	}
	g.Step("judging", "repositories", 0)
	for {
		places, err := s.records.View(ctx).Keeping().Places(namespace, repository, after, placesAtOnce)
		if err != nil {
			return err
		}
		for _, p := range places {
			if err := run.repository(ctx, p); err != nil {
				return fmt.Errorf("retention in %s: %w", p.Name, err)
			}
			after = p.ID
			run.report.Repositories++
			g.Did(1)
			g.SetFacts(run.facts())
			if err := errors.Join(g.Keep(strconv.FormatInt(after, 10)), g.Breathe()); err != nil {
				return err
			}
		}
		if len(places) < placesAtOnce {
			g.Report(run.report.words())
			g.SetFacts(run.facts())
			return nil
		}
	}
}

// retaining is a run of retention rules.
type retaining struct {
	*Sweeper
	g      *work.Going
	began  int64
	report RetentionReport

	inUse   map[string]*worth.InUse
	version string
}

// resume goes on behind the repository at which the run was cut.
func (r *retaining) resume(point string) (after int64, err error) {
	if point == "" {
		return 0, nil
	}
	if facts := r.g.Facts(); facts != "" {
		if err := json.Unmarshal([]byte(facts), &r.report); err != nil {
			return 0, err
		}
	}
	return strconv.ParseInt(point, 10, 64)
}

func (r *retaining) facts() string {
	// Plain fields always marshal.
	raw, _ := json.Marshal(r.report)
	return string(raw)
}

// repository judges a repository and lets go of what goes, as often as it changes meanwhile.
func (r *retaining) repository(ctx context.Context, p keeping.Place) error {
	things := 0
	for range judgements {
		judged, done, err := r.judge(ctx, p)
		if done || err != nil {
			return err
		}
		if things += judged; things+judged > judgedThings {
			break
		}
		if err := r.g.Breathe(); err != nil {
			return err
		}
	}
	if len(r.report.Busy) < reportShown {
		r.report.Busy = append(r.report.Busy, p.Name)
	}
	return nil
}

// judge judges a repository and takes what goes. It returns how many tags and images it judged.
func (r *retaining) judge(ctx context.Context, p keeping.Place) (things int, done bool, err error) {
	if err := errors.Join(r.registry.FlushPulls(), r.registry.FlushTouches()); err != nil {
		return 0, false, err
	}
	j := &registry.Judgement{Run: r.g.ID()}
	var judged worth.Judged
	err = r.records.Snapshot(ctx, func(view record.View) error {
		if j.Place, err = view.Keeping().Place(p.ID); err != nil {
			return err
		}
		if err := r.inUseOf(view); err != nil {
			return err
		}
		j.InUse = r.version
		terms := worth.Terms{Served: r.began, Grace: r.registry.Terms().Grace, Wait: int64(r.settings.Wait), InUse: r.inUse, Stop: func() bool { return ctx.Err() != nil }}
		if j.Around, err = view.Judging().Of(j.Place, terms, nil); err != nil || !drops(j.Around.Lists) {
			return err
		}
		if j.All, err = view.Keeping().Load(j.Place, j.Around.Terms.LabelNames()); err == nil {
			judged = j.All.Judge(j.Around.Terms)
		}
		return err
	})
	if errors.Is(err, keeping.ErrNone) {
		return 0, true, nil
	}
	if err != nil || j.All == nil {
		return 0, err == nil, err
	}
	if judged.Stopped {
		return 0, false, ctx.Err()
	}
	for _, name := range j.Around.Terms.Stale() {
		if !slices.Contains(r.report.Stale, name) {
			r.report.Stale = append(r.report.Stale, name)
		}
	}
	if err := r.wait(ctx, j, judged); err != nil {
		return 0, false, err
	}
	done, err = r.take(ctx, j, slices.DeleteFunc(slices.Clone(judged.Findings), func(f worth.Finding) bool { return !f.Goes }))
	if done {
		r.stays(judged)
	}
	return len(j.All.Tags) + len(j.All.Images), done, err
}

// drops reports whether anything could go by lists.
func drops(lists []rule.List[*rule.RetentionFacts]) bool {
	return slices.ContainsFunc(lists, func(l rule.List[*rule.RetentionFacts]) bool { return l.Drops() })
}

// inUseOf reads the lists of what is in use anew where one was refreshed.
func (r *retaining) inUseOf(view record.View) error {
	version, err := view.InUse().Version()
	if err != nil || r.inUse != nil && version == r.version {
		return err
	}
	r.version = version
	r.inUse, err = view.InUse().Worth(r.began)
	return err
}

// wait lets lists wait that would take much of the repository.
func (r *retaining) wait(ctx context.Context, j *registry.Judgement, judged worth.Judged) error {
	for _, of := range judged.TooMuch {
		at := slices.IndexFunc(judged.Findings, func(f worth.Finding) bool { return f.Stays == worth.TooMuch && f.Verdict.List == of.List })
		list := judged.Findings[at].Verdict.Of
		err := r.records.Update(ctx, "retention-waits", func(tx *record.Tx) error {
			in, err := tx.LiveRepository(j.Place.ID)
			if errors.Is(err, record.ErrNotFound) {
				return nil
			}
			if err != nil {
				return err
			}
			said := fmt.Sprintf("the retention rules of %s would take %d of the %d tags and untagged images in %s, and wait once more", list, of.Takes, of.OutOf, in.Name)
			return errors.Join(tx.Keeping().Wait(in.ID, of, r.began+int64(r.settings.Wait)), tx.Log(record.Event{Kind: record.EventRulesWait, Detail: said}.In(in)))
		})
		if err != nil {
			return err
		}
		if len(r.report.Waits) < reportShown {
			r.report.Waits = append(r.report.Waits, WaitOf{j.Place.Name, list, of.Takes, of.OutOf})
		}
	}
	return nil
}

// take removes findings, some at a time; it is not done where the repository changed.
func (r *retaining) take(ctx context.Context, j *registry.Judgement, going []worth.Finding) (done bool, err error) {
	size := 5
	for len(going) > 0 {
		some := going[:min(size, len(going))]
		t, err := r.registry.TakeByRules(ctx, j, some)
		var sealed *seals.Sealed
		if errors.Is(err, registry.ErrJudgeAgain) || errors.As(err, &sealed) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		j.Place.Mark = t.Mark
		for _, f := range some {
			r.went(f)
		}
		r.report.Images += int64(t.Images)
		going = going[len(some):]
		size = next(size, t.Held, r.g.Busy())
		if err := r.g.Breathe(); err != nil {
			return false, err
		}
	}
	return true, nil
}

// went counts what went by its rule.
func (r *retaining) went(f worth.Finding) {
	v := f.Verdict
	at := slices.IndexFunc(r.report.Rules, func(s RuleSum) bool { return s.Of == v.Of && s.Number == v.Number && s.Words == v.Words })
	if at < 0 {
		if len(r.report.Rules) == reportShown {
			at = reportShown - 1
			r.report.Rules[at] = RuleSum{Of: "other lists", Words: "rules that are not told one by one", Tags: r.report.Rules[at].Tags, Images: r.report.Rules[at].Images}
		} else {
			at = len(r.report.Rules)
			r.report.Rules = append(r.report.Rules, RuleSum{Of: v.Of, Number: v.Number, Words: v.Words})
		}
	}
	if f.Tag >= 0 {
		r.report.Tags++
		r.report.Rules[at].Tags++
	}
	if f.WithImage {
		r.report.Rules[at].Images++
	}
}

// stays counts what stayed although a rule drops it.
func (r *retaining) stays(judged worth.Judged) {
	for _, f := range judged.Findings {
		switch f.Stays {
		case worth.Sealed:
			r.report.Sealed++
		case worth.Waiting, worth.TooMuch:
			r.report.Waiting++
		case worth.InGrace:
			r.report.InGrace++
		}
	}
}

// words are the report in a sentence.
func (r RetentionReport) words() string {
	said := []string{fmt.Sprintf("%s and %s went", count(r.Tags, "tag", "tags"), count(r.Images, "image", "images"))}
	for _, s := range []struct {
		n     int64
		words string
	}{{r.Sealed, "sealed"}, {r.Waiting, "waiting"}, {r.InGrace, "touched within the grace"}} {
		if s.n > 0 {
			said = append(said, fmt.Sprintf("%d stay: %s", s.n, s.words))
		}
	}
	if len(r.Busy) > 0 {
		said = append(said, count(int64(len(r.Busy)), "repository", "repositories")+" changed all the time")
	}
	if len(r.Stale) > 0 {
		said = append(said, "nobody refreshed "+strings.Join(r.Stale, ", "))
	}
	return strings.Join(said, "; ")
}
