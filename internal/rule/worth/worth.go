// Package worth says what a repository keeps and what goes, by its retention rules: it
// judges tags and images that no tag, index or subject keeps, and knows what goes along and
// what begins its own time then.
//
// It is pure: a repository in, findings out; the same code tells what would go on a day to
// come and what a run takes. One goroutine uses a repository.
package worth

import (
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// Image is a live manifest. What ends in Served is served time in nanoseconds, 0 for never.
type Image struct {
	ID, ContentID           int64
	Digest, Subject         oci.Digest
	MediaType, ArtifactType string
	Platforms               string
	// Annotations and Labels are JSON; those that no rule asks for may be left out.
	Annotations, Labels       string
	ContentSize               int64
	PushedServed, AgainServed int64
	TouchedServed             int64
	// AskedServed is when somebody who may push was last told that it exists.
	AskedServed    int64
	PulledServed   int64
	UntaggedServed int64

	tags, parents, children, referrers []int
	subject                            int
	// lastPull is that of the image and of all that it names, once it was asked.
	lastPull    int64
	labels      []string
	asked, gone bool
}

// Tag is a live tag; Image is the place of its image among those of the repository.
type Tag struct {
	ID, ManifestID            int64
	Name                      oci.Tag
	OrderKey                  []byte
	MovedServed, PushedServed int64
	FirstServed, SealedAt     int64

	image int
	gone  bool
}

// HasTags is how many tags an image had when the repository was read.
func (m Image) HasTags() int { return len(m.tags) }

// Names is an index with a child, by ID.
type Names struct{ Parent, Child int64 }

// Repository is all that is live in a repository.
type Repository struct {
	ID, NamespaceID int64
	Name            oci.Name
	Labels          map[string]string
	Images          []Image
	Tags            []Tag
}

// Join finds who keeps whom: before it nothing is asked. Tags of what is not there are left
// out.
func (r *Repository) Join(names []Names) {
	byID, byDigest := make(map[int64]int, len(r.Images)), make(map[oci.Digest]int, len(r.Images))
	for i := range r.Images {
		byID[r.Images[i].ID], byDigest[r.Images[i].Digest] = i, i
	}
	r.Tags = slices.DeleteFunc(r.Tags, func(t Tag) bool { _, there := byID[t.ManifestID]; return !there })
	for i := range r.Tags {
		at := byID[r.Tags[i].ManifestID]
		r.Tags[i].image = at
		r.Images[at].tags = append(r.Images[at].tags, i)
	}
	for _, n := range names {
		parent, p := byID[n.Parent]
		child, c := byID[n.Child]
		if p && c && parent != child {
			r.Images[parent].children = append(r.Images[parent].children, child)
			r.Images[child].parents = append(r.Images[child].parents, parent)
		}
	}
	for i := range r.Images {
		r.Images[i].subject = -1
		if subject, there := byDigest[r.Images[i].Subject]; there && subject != i {
			r.Images[i].subject = subject
			r.Images[subject].referrers = append(r.Images[subject].referrers, i)
		}
	}
	for i := range r.Images {
		r.pulled(i)
	}
}

// Terms are by what a repository is judged. Moments are served time, in nanoseconds.
type Terms struct {
	Served int64
	// Grace is how long an image without a tag stays after it was last asked for by who
	// may push.
	Grace int64
	// Wait is how long a list waits once more that would take much.
	Wait int64
	// Retention and Immutability are the lists that stand around the repository.
	Retention []rule.List[*rule.RetentionFacts]
	// Prior are those lists as they were before some were changed that wait, Until when the
	// last of these acts; what they kept stays until then.
	Prior        []rule.List[*rule.RetentionFacts]
	Until        int64
	Immutability []rule.List[rule.TagFacts]
	// InUse are the lists of what is in use, by name.
	InUse map[string]*InUse
	// Waits are until when a list waits once more, because it would take so much.
	Waits map[Wait]int64
	// Stop tells to stop, which Judge does soon; nil for never.
	Stop func() bool
}

// LabelNames returns the names of the labels that the retention lists ask for: no other label
// of an image is needed.
func (t Terms) LabelNames() []string {
	var names []string
	for _, l := range slices.Concat(t.Retention, t.Prior) {
		names = append(names, l.LabelNames()...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Wait is a list as it was last given more to take.
type Wait struct{ List, Widened int64 }

// Why is why something stays that a rule drops.
type Why string

// Why something stays.
const (
	// Sealed: the tag neither moves nor goes.
	Sealed Why = "sealed"
	// Waiting: the list does not act yet.
	Waiting Why = "waiting"
	// TooMuch: the list would take more than a fifth of the repository, and waits once more.
	TooMuch Why = "too-much"
	// InGrace: the image was touched within the grace.
	InGrace Why = "grace"
)

// Finding is a tag, or an image that nothing keeps, and what the rules say of it.
type Finding struct {
	// Tag is its place among the tags, -1 for an image without one; Image that among the
	// images.
	Tag, Image int
	Verdict    rule.Verdict
	// Goes tells that it goes now; WithImage that the image goes with the tag.
	Goes, WithImage bool
	// Stays is why it does not although a rule drops it, Seal the rule that seals it, which
	// is undecided where a hand does, Until when it acts.
	Stays Why
	Seal  rule.Verdict
	Until int64
}

// Judged is what the rules say of a repository.
type Judged struct {
	Findings []Finding
	// TooMuch are lists that would take more than a fifth, and do not wait yet.
	TooMuch []TooMuchOf
	// Stopped tells that it was told to stop: the findings are of no use.
	Stopped bool

	survey *rule.Survey[*rule.RetentionFacts]
}

// TooMuchOf says how much a list would take, out of all that is judged.
type TooMuchOf struct {
	Wait
	Takes, OutOf int
}

// slack is how much earlier than a wait is over what waited may go, so that a run of every
// night is not a moment too early.
func (t Terms) slack() int64 { return min(int64(time.Minute), t.Wait/1000) }

// Judge asks the rules of all that is in the repository.
func (r *Repository) Judge(t Terms) Judged {
	facts, findings := r.things(t)
	j := Judged{Findings: findings, survey: rule.NewSurveyUntil(t.Stop, facts, t.Retention...)}
	var prior *rule.Survey[*rule.RetentionFacts]
	if t.Until > t.Served+t.slack() {
		prior = rule.NewSurveyUntil(t.Stop, facts, t.Prior...)
	}
	takes := map[Wait]int{}
	for i := range j.Findings {
		if i%askEvery == 0 && j.survey.Stopped() {
			return Judged{Stopped: true}
		}
		f := &j.Findings[i]
		if f.Verdict = j.survey.Verdict(i); f.Verdict.Verb == rule.Drop {
			r.mayGo(f, t)
		}
		if f.Goes && prior != nil && prior.Verdict(i).Verb == rule.Keep {
			f.Goes, f.Stays, f.Until = false, Waiting, t.Until
		}
		if f.Goes {
			takes[waitOf(f.Verdict)]++
		}
	}
	for w, n := range takes {
		if n*mostOneIn <= len(findings) {
			continue
		}
		until, waits := t.Waits[w]
		if waits && until <= t.Served+t.slack() {
			continue
		}
		if !waits {
			j.TooMuch = append(j.TooMuch, TooMuchOf{w, n, len(findings)})
			until = t.Served + t.Wait
		}
		for i := range j.Findings {
			if f := &j.Findings[i]; f.Goes && waitOf(f.Verdict) == w {
				f.Goes, f.Stays, f.Until = false, TooMuch, until
			}
		}
	}
	slices.SortFunc(j.TooMuch, func(a, b TooMuchOf) int { return int(a.List - b.List) })
	r.withImages(j.Findings, t)
	return j
}

// askEvery is how many things are judged between two questions whether to stop.
const askEvery = 1024

// mostOneIn is of how many things in a repository a list takes one at most without waiting
// once more.
const mostOneIn = 5

func waitOf(v rule.Verdict) Wait { return Wait{v.List, int64(v.Widened)} }

// Explain returns the rules as they were asked of a finding, by its place.
func (j Judged) Explain(finding int) []rule.Answer { return j.survey.Explain(finding) }

// mayGo says whether what a rule drops goes.
func (r *Repository) mayGo(f *Finding, t Terms) {
	if f.Tag >= 0 {
		tag := &r.Tags[f.Tag]
		since := rule.TagFacts{Name: rule.Name{Repository: r.Name, Tag: tag.Name}, Since: time.Duration(t.Served - tag.FirstServed)}
		if f.Seal = rule.Decide(since, t.Immutability...); tag.SealedAt != 0 || f.Seal.Verb == rule.Seal {
			f.Stays = Sealed
			return
		}
		f.Seal = rule.Verdict{}
	} else if touched := max(r.Images[f.Image].TouchedServed, r.Images[f.Image].AskedServed); touched+t.Grace > t.Served {
		f.Stays, f.Until = InGrace, touched+t.Grace
		return
	}
	if until := int64(f.Verdict.Acts); until > t.Served+t.slack() {
		f.Stays, f.Until = Waiting, until
		return
	}
	f.Goes = true
}

// withImages finds which images go with their last tag: those that no other tag, no index
// and no subject keeps. What they name goes later, by itself.
func (r *Repository) withImages(findings []Finding, t Terms) {
	going := make(map[int]int)
	for _, f := range findings {
		if f.Goes && f.Tag >= 0 {
			going[f.Image]++
		}
	}
	for i := len(findings) - 1; i >= 0; i-- {
		f := &findings[i]
		if !f.Goes {
			continue
		}
		m := &r.Images[f.Image]
		switch {
		case f.Tag < 0:
			f.WithImage = true
		case going[f.Image] == r.live(m.tags) && !r.kept(m):
			// It goes with one of its tags, the last in order.
			going[f.Image] = -1
			if m.AskedServed > 0 && m.AskedServed+t.Grace > t.Served {
				// Somebody who may push relies on it.
				f.Goes, f.Stays, f.Until = false, InGrace, m.AskedServed+t.Grace
				continue
			}
			f.WithImage = true
		}
	}
}

// live counts the tags that are there.
func (r *Repository) live(tags []int) (n int) {
	for _, i := range tags {
		if !r.Tags[i].gone {
			n++
		}
	}
	return n
}

// kept reports whether an index or a subject keeps an image.
func (r *Repository) kept(m *Image) bool {
	return m.subject >= 0 && !r.Images[m.subject].gone || slices.ContainsFunc(m.parents, func(p int) bool { return !r.Images[p].gone })
}

// things are all that the rules are asked of: tags in the order of their names, then images
// that nothing keeps.
func (r *Repository) things(t Terms) (facts []*rule.RetentionFacts, findings []Finding) {
	numbers := map[int]int{}
	add := func(tag, image int) {
		number, there := numbers[image]
		if !there {
			number = len(numbers)
			numbers[image] = number
		}
		f := r.facts(tag, image, t)
		f.Image = number
		facts, findings = append(facts, f), append(findings, Finding{Tag: tag, Image: image})
	}
	uses := r.uses(t)
	for i := range r.Tags {
		if !r.Tags[i].gone {
			add(i, r.Tags[i].image)
		}
	}
	for i := range r.Images {
		if m := &r.Images[i]; !m.gone && r.live(m.tags) == 0 && !r.kept(m) {
			add(-1, i)
		}
	}
	for i, f := range facts {
		f.Used = uses.of(findings[i].Image)
	}
	return facts, findings
}

// Go lets go of what goes, as of a moment: what an image that went named begins its own
// time then.
func (r *Repository) Go(findings []Finding, served int64) {
	for _, f := range findings {
		if !f.Goes {
			continue
		}
		m := &r.Images[f.Image]
		if f.Tag >= 0 {
			r.Tags[f.Tag].gone = true
			m.UntaggedServed = served
		}
		if !f.WithImage {
			continue
		}
		m.gone = true
		for _, i := range slices.Concat(m.children, m.referrers) {
			r.Images[i].UntaggedServed = served
		}
	}
}
