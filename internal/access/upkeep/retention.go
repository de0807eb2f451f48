package upkeep

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// The bounds of a preview of retention.
const (
	// RetentionDays is how many days to come are looked at.
	RetentionDays = 14
	// MostItems is how many things are told one by one, MostJudged how many are looked at.
	MostItems  = 20_000
	MostJudged = 300_000
	// retentionPatience is how long a preview looks, on the wall clock.
	retentionPatience = 40 * time.Second
	// sumsShown is how many rules and waits are told.
	sumsShown = 200
)

// RetentionPreview is what retention rules would do.
type RetentionPreview struct {
	// Repositories counts those that were looked at, Reaches those that a rule of the list
	// speaks of; Tags and Images count what was looked at in them.
	Repositories, Reaches, Tags, Images int
	Days                                []RetentionDay
	// Items go, in the order of days and names; Spared go by the list that is set and not by
	// this one. ItemCount counts all items.
	Items, Spared []RetentionItem
	ItemCount     int
	Rules         []RetentionRule
	Waits         []RetentionWait
	// Sealed and InGrace stay now although a rule drops them; Undecided are things of which
	// no rule speaks.
	Sealed, InGrace, Undecided int
	// Stale are lists of what is in use that are asked and count as stale or are not there.
	Stale []string
	// More tells that there is more than was looked at.
	More bool
}

// RetentionDay is how much goes on a day, 0 for now; Bytes nothing that the caller sees needs
// any more once the restore windows are over.
type RetentionDay struct {
	Day          int
	Tags, Images int
	Bytes        int64
}

// RetentionItem is a tag or an image that goes.
type RetentionItem struct {
	Day        int
	Repository oci.Name
	Tag        oci.Tag
	Digest     oci.Digest
	// WithImage tells that the image goes, Size is that of the image.
	WithImage bool
	Size      int64
	Verdict   rule.Verdict
	// New tells that the list that is set now would not let it go within those days.
	New bool
}

// RetentionRule is how much a rule decides of: what goes by it within the days, and what it
// keeps now.
type RetentionRule struct {
	Verdict     rule.Verdict
	Goes, Keeps int
}

// RetentionWait is a repository of which a list takes so much that it waits.
type RetentionWait struct {
	Repository  oci.Name
	Day         int
	Of          string
	Takes       int
	OutOf       int
	UntilServed int64
}

// PreviewRetention says what retention rules would do now and on the days to come at a place:
// those that are set, for whoever may see them, or with words a list that is not, for whoever
// may set it.
func (u *Upkeep) PreviewRetention(ctx context.Context, c access.Caller, at At, words *string) (RetentionPreview, error) {
	at.Kind = rule.Retention.Name
	p := &retentionPreview{upkeep: u, served: int64(u.Clock.Served())}
	var err error
	if p.key, p.with, err = u.retentionDraft(ctx, c, at, words); err != nil {
		return p.RetentionPreview, err
	}
	end, err := u.Look(c)
	if err != nil {
		return p.RetentionPreview, err
	}
	defer end()
	looking, cancel := context.WithTimeout(ctx, retentionPatience)
	defer cancel()
	p.Days = make([]RetentionDay, RetentionDays+1)
	for day := range p.Days {
		p.Days[day].Day = day
	}
	view := u.Records.View(ctx)
	if p.inUse, err = view.InUse().Worth(p.served); err != nil {
		return p.RetentionPreview, err
	}
	// What was not looked at when the time is over is told of as more.
	if err := p.all(looking, view); err != nil && (looking.Err() == nil || ctx.Err() != nil) {
		return p.RetentionPreview, err
	}
	p.More = p.More || looking.Err() != nil
	freed, err := view.Keeping().Freed(p.going, u.Access.Seen(c).Condition())
	for day, bytes := range freed {
		p.Days[day].Bytes = bytes
	}
	byDay := func(a, b RetentionItem) int { return a.Day - b.Day }
	slices.SortStableFunc(p.Items, byDay)
	slices.SortFunc(p.Rules, func(a, b RetentionRule) int {
		return cmp.Or(strings.Compare(a.Verdict.Of, b.Verdict.Of), a.Verdict.Number-b.Verdict.Number)
	})
	slices.SortStableFunc(p.Spared, byDay)
	return p.RetentionPreview, err
}

// retentionDraft says where a preview looks, and with which list, nil for what is set.
func (u *Upkeep) retentionDraft(ctx context.Context, c access.Caller, at At, words *string) (rulelists.Key, *rulelists.With[*rule.RetentionFacts], error) {
	k, missing := u.key(ctx, at)
	if words == nil {
		err := u.MaySeeRules(ctx, c, at)
		if err == nil && at.Place == "" {
			// What goes in all places is nothing for owners of some.
			err = u.Access.MaySeeRuns(c)
		}
		return k, nil, errors.Join(err, missing)
	}
	if err := u.Access.MayManage(ctx, c, at.Place); err != nil {
		return k, nil, err
	}
	if missing != nil {
		return k, nil, missing
	}
	view := u.Records.View(ctx)
	with := &rulelists.With[*rule.RetentionFacts]{Key: k}
	list, err := view.Retention().Compile(view.RuleLists(), k, *words)
	if at.List != "" {
		// It is compiled where it is used.
		list, err = rule.Retention.Read(rule.OfName, "", []byte(*words))
	}
	if err != nil {
		return k, nil, inWords(at, err)
	}
	there, err := view.RuleLists().Get(k)
	if err != nil && !errors.Is(err, rulelists.ErrNone) {
		return k, nil, err
	}
	next := there
	next.Key, next.Words = k, *words
	if there.Words != *words || errors.Is(err, rulelists.ErrNone) {
		of, err := kindAt(at)
		if err == nil {
			there.Key = k
			err = u.wait(of, there, &next)
		}
		if err != nil {
			return k, nil, err
		}
	}
	list.ID, list.Acts, list.Widened = next.ID, time.Duration(next.ActsServed), max(list.Widened, time.Duration(next.WidenedServed))
	with.List = list
	return k, with, nil
}

type retentionPreview struct {
	RetentionPreview
	upkeep *Upkeep
	served int64
	key    rulelists.Key
	with   *rulelists.With[*rule.RetentionFacts]
	inUse  map[string]*worth.InUse
	going  []keeping.Going
}

// previewPlaces is how many repositories are looked up at a time.
const previewPlaces = 100

func (p *retentionPreview) all(ctx context.Context, view record.View) error {
	for after := int64(0); ; {
		places, err := view.Keeping().Places(p.key.NamespaceID, p.key.RepositoryID, after, previewPlaces)
		if err != nil {
			return err
		}
		for _, place := range places {
			size, err := view.Keeping().Size(place.ID, MostJudged)
			if err != nil {
				return err
			}
			if p.Tags+p.Images+size > MostJudged || ctx.Err() != nil {
				p.More = true
				return nil
			}
			if err := p.look(ctx, place); err != nil {
				return err
			}
			after = place.ID
		}
		if len(places) < previewPlaces {
			return nil
		}
	}
}

// look judges one repository on each of the days.
func (p *retentionPreview) look(ctx context.Context, place keeping.Place) error {
	var around, set keeping.Around
	var all *worth.Repository
	terms := worth.Terms{Served: p.served, Grace: int64(p.upkeep.Grace), Wait: int64(p.upkeep.RuleWait), InUse: p.inUse, Stop: func() bool { return ctx.Err() != nil }}
	err := p.upkeep.Records.Snapshot(ctx, func(view record.View) (err error) {
		if set, err = view.Judging().Of(place, terms, nil); err != nil {
			return err
		}
		if around = set; p.with != nil {
			if around, err = view.Judging().Of(place, terms, p.with); err != nil {
				return err
			}
		}
		all, err = view.Keeping().Load(place, append(around.Terms.LabelNames(), set.Terms.LabelNames()...))
		return err
	})
	if err != nil {
		return err
	}
	p.Repositories++
	p.Tags, p.Images = p.Tags+len(all.Tags), p.Images+len(all.Images)
	if p.reaches(around, place.Name) {
		p.Reaches++
	}
	for _, name := range around.Terms.Stale() {
		if !slices.Contains(p.Stale, name) {
			p.Stale = append(p.Stale, name)
		}
	}
	goesNow := map[thing]int{}
	if p.with != nil {
		then := all.Clone()
		for day, d := range then.Days(set.Terms, RetentionDays) {
			for _, f := range d.Goes {
				goesNow[thingOf(then, f)] = day
			}
		}
	}
	p.tell(all, around.Terms, goesNow)
	return nil
}

// thing is a tag or an image.
type thing struct{ tag, image int64 }

func thingOf(all *worth.Repository, f worth.Finding) thing {
	if f.Tag >= 0 {
		return thing{tag: all.Tags[f.Tag].ID}
	}
	return thing{image: all.Images[f.Image].ID}
}

// tell adds what goes in a repository.
func (p *retentionPreview) tell(all *worth.Repository, terms worth.Terms, goesNow map[thing]int) {
	goes := map[thing]bool{}
	for day, d := range all.Days(terms, RetentionDays) {
		for _, of := range d.TooMuch {
			p.waits(all, terms, day, of)
		}
		for _, f := range d.Goes {
			is := thingOf(all, f)
			goes[is] = true
			_, now := goesNow[is]
			p.goes(itemOf(all, f, day), p.with != nil && !now)
			if f.WithImage {
				p.Days[day].Images++
				p.going = append(p.going, keeping.Going{ID: all.Images[f.Image].ID, Day: int64(day)})
			}
			if f.Tag >= 0 {
				p.Days[day].Tags++
			}
			p.rule(f.Verdict).Goes++
		}
		for _, f := range d.All {
			p.stays(f)
		}
	}
	for i := range all.Tags {
		is := thing{tag: all.Tags[i].ID}
		if day, now := goesNow[is]; now && !goes[is] && len(p.Spared) < MostItems {
			p.Spared = append(p.Spared, RetentionItem{Day: day, Repository: all.Name, Tag: all.Tags[i].Name, Digest: all.ImageOf(i).Digest, Size: all.ImageOf(i).ContentSize})
		}
	}
}

func itemOf(all *worth.Repository, f worth.Finding, day int) RetentionItem {
	m := &all.Images[f.Image]
	item := RetentionItem{Day: day, Repository: all.Name, Digest: m.Digest, WithImage: f.WithImage, Size: m.ContentSize, Verdict: f.Verdict}
	if f.Tag >= 0 {
		item.Tag = all.Tags[f.Tag].Name
	}
	return item
}

func (p *retentionPreview) goes(item RetentionItem, isNew bool) {
	item.New = isNew
	if p.ItemCount++; len(p.Items) < MostItems {
		p.Items = append(p.Items, item)
	}
}

// stays counts what stays now, by what.
func (p *retentionPreview) stays(f worth.Finding) {
	switch {
	case !f.Verdict.Decided():
		p.Undecided++
	case f.Verdict.Verb == rule.Keep:
		p.rule(f.Verdict).Keeps++
	case f.Stays == worth.Sealed:
		p.Sealed++
	case f.Stays == worth.InGrace:
		p.InGrace++
	}
}

func (p *retentionPreview) rule(v rule.Verdict) *RetentionRule {
	at := slices.IndexFunc(p.Rules, func(r RetentionRule) bool { return r.Verdict.Of == v.Of && r.Verdict.Number == v.Number })
	if at < 0 {
		if len(p.Rules) == sumsShown {
			return &RetentionRule{}
		}
		at = len(p.Rules)
		p.Rules = append(p.Rules, RetentionRule{Verdict: v})
	}
	return &p.Rules[at]
}

// waits tells of a list that would take much of a repository.
func (p *retentionPreview) waits(all *worth.Repository, terms worth.Terms, day int, of worth.TooMuchOf) {
	if len(p.Waits) == sumsShown {
		return
	}
	w := RetentionWait{Repository: all.Name, Day: day, Takes: of.Takes, OutOf: of.OutOf, UntilServed: p.served + int64(day)*int64(24*time.Hour) + terms.Wait}
	for _, list := range terms.Retention {
		if list.ID == of.List {
			w.Of = list.Of
		}
	}
	p.Waits = append(p.Waits, w)
}

func (p *retentionPreview) reaches(around keeping.Around, name oci.Name) bool {
	if p.with != nil {
		return p.with.List.Reaches(name)
	}
	return slices.ContainsFunc(around.Terms.Retention, func(l rule.List[*rule.RetentionFacts]) bool { return l.Reaches(name) })
}
