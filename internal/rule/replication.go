package rule

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"warthesis/internal/oci"
)

// ReplicationText is a replication rule as it is written.
type ReplicationText struct {
	Name string `json:"name,omitempty"`
	// Copy are the patterns of what is copied, Except those of what is not, by the names
	// where it comes from.
	Copy   []string `json:"copy"`
	Except []string `json:"except,omitempty"`
	// To or From is the peer.
	To   string `json:"to,omitempty"`
	From string `json:"from,omitempty"`
	// As is how it is called on the other side.
	As string `json:"as,omitempty"`
	// When is AsPushed, ByHand, an interval or a cron expression.
	When string `json:"when,omitempty"`
	// Hours are those in which it is copied, in UTC, as in 22:00-05:00.
	Hours string `json:"hours,omitempty"`
	// Rate is how much is copied in a second, as in 4MiB.
	Rate string `json:"rate,omitempty"`
	// ArtifactTypes are those that are copied.
	ArtifactTypes []string `json:"artifact_types,omitempty"`
	// Referrers is false where what refers to an image stays where it is.
	Referrers *bool  `json:"referrers,omitempty"`
	Removals  string `json:"removals,omitempty"`
	Conflicts string `json:"conflicts,omitempty"`
	Because   string `json:"because,omitempty"`
}

// What a replication rule may say.
const (
	AsPushed = "pushed"
	ByHand   = "by hand"
	// KeepRemoved leaves at the other side what is removed here, TakeRemoved removes it there.
	KeepRemoved = "keep"
	TakeRemoved = "remove"
	// ReportConflicts leaves a tag that both sides moved, Ours and Theirs let one side win:
	// that of the registry whose rule it is, or that of its peer.
	ReportConflicts = "report"
	Ours            = "ours"
	Theirs          = "theirs"
)

// sameName is how things are called on the other side where nothing is said.
const sameName = "{namespace}/{repository}:{tag}"

// SlowestRate is the lowest rate in bytes a second: less is a connection that stalls.
const SlowestRate = 16 << 10

// Replication is a replication rule that was read.
type Replication struct {
	ReplicationText
	patterns, except Patterns
	hours            hours
	rate             Size
	repository, tag  string
}

// ReadReplication reads a rule, but for when it runs, which is another room's to read. What
// is not said is filled in.
func ReadReplication(t ReplicationText) (r Replication, err error) {
	r.ReplicationText = t
	if r.Name != "" {
		if err := CheckListName(r.Name); err != nil {
			return r, fmt.Errorf("%.70q is no name of a replication rule; it has 1 to 64 small letters, digits and dashes between them", r.Name)
		}
	}
	if (r.To == "") == (r.From == "") {
		return r, errors.New("name one peer: to copies to it, from copies from it")
	}
	if r.patterns, err = namePatterns("copy", t.Copy); err == nil && len(t.Copy) == 0 {
		err = errors.New("say what is copied, as in copy: \"signals/*:<version>\"")
	}
	if err == nil {
		r.except, err = namePatterns("except", t.Except)
	}
	if err == nil {
		r.hours, err = readHours(t.Hours)
	}
	if err == nil && t.Rate != "" {
		if r.rate, err = ParseSize(t.Rate); err == nil && r.rate < SlowestRate {
			err = fmt.Errorf("rate: at least %s a second, and this is %s", Size(SlowestRate), r.rate)
		}
	}
	if err == nil {
		err = r.readAs()
	}
	if err != nil {
		return r, err
	}
	if len(t.ArtifactTypes) > MostPatterns {
		return r, fmt.Errorf("a rule has at most %d artifact types", MostPatterns)
	}
	if r.Because = oneLine(r.Because); utf8.RuneCountInString(r.Because) > MostBecause {
		return r, fmt.Errorf("because says why in at most %d characters", MostBecause)
	}
	for _, choice := range []struct {
		key   string
		value *string
		from  []string
	}{
		{"removals", &r.Removals, []string{KeepRemoved, TakeRemoved}}, {"conflicts", &r.Conflicts, []string{ReportConflicts, Ours, Theirs}},
	} {
		if *choice.value == "" {
			*choice.value = choice.from[0]
		}
		if !slices.Contains(choice.from, *choice.value) {
			return r, fmt.Errorf("%s: %.70q is not known; write %s", choice.key, *choice.value, either(choice.from))
		}
	}
	if r.When == "" && r.From == "" {
		r.When = AsPushed
	}
	if r.When == "" {
		r.When = ByHand
	}
	if r.When == AsPushed && r.From != "" {
		return r, errors.New("when: a peer does not tell when something is pushed there; write an interval such as 15m, a cron expression, or by hand")
	}
	return r, nil
}

func namePatterns(key string, texts []string) (all Patterns, err error) {
	if len(texts) > MostPatterns {
		return nil, fmt.Errorf("%s: a rule has at most %d patterns in a list, and this one %d", key, MostPatterns, len(texts))
	}
	for _, text := range texts {
		p, err := ParsePattern(text)
		if err == nil && p.kind == none {
			err = errors.New("<none> means what has no tag, and such things travel with what names them")
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		all = append(all, p)
	}
	return all, nil
}

var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

// readAs reads how things are called on the other side.
func (r *Replication) readAs() error {
	as := r.As
	if as == "" {
		as = sameName
	}
	// The tag stands behind the last colon; where there is none it stays the same.
	r.repository, r.tag = as, "{tag}"
	if at := strings.LastIndexByte(as, ':'); at >= 0 {
		r.repository, r.tag = as[:at], as[at+1:]
	}
	if len(as) > MostPattern || !strings.Contains(r.tag, "{tag}") || strings.Contains(r.repository, "{tag}") {
		return fmt.Errorf("as: %.70q is no name; write one with {namespace}, {repository} (what stands behind the namespace) and behind a colon {tag}, as in copies/{repository}:hq-{tag}", as)
	}
	for _, word := range placeholder.FindAllString(as, -1) {
		if !slices.Contains([]string{"{namespace}", "{repository}", "{tag}"}, word) {
			return fmt.Errorf("as: %.70q stands for nothing; there are {namespace}, {repository} and {tag}", word)
		}
	}
	if strings.Count(r.tag, "{tag}") > 1 {
		return errors.New("as: {tag} stands there once")
	}
	_, _, err := r.Target(Name{"sample/name", "1"})
	return err
}

// Target returns how a tag is called on the other side.
func (r Replication) Target(n Name) (oci.Name, oci.Tag, error) {
	repository, err := r.TargetRepository(n.Repository)
	if err != nil {
		return "", "", err
	}
	tag, err := oci.ParseTag(strings.ReplaceAll(r.tag, "{tag}", string(n.Tag)))
	if err != nil {
		return "", "", fmt.Errorf("as: %w", err)
	}
	return repository, tag, nil
}

// TargetRepository returns how a repository is called on the other side.
func (r Replication) TargetRepository(name oci.Name) (oci.Name, error) {
	namespace, rest, _ := strings.Cut(string(name), "/")
	text := strings.NewReplacer("{namespace}", namespace, "{repository}", rest).Replace(r.repository)
	// A namespace's own repository has nothing behind it.
	parts := slices.DeleteFunc(strings.Split(text, "/"), func(part string) bool { return part == "" })
	target, err := oci.ParseName(strings.Join(parts, "/"))
	if err != nil {
		return "", fmt.Errorf("as: %s would be called %q on the other side: %w", name, text, err)
	}
	return target, nil
}

// Source returns what a tag of the other side is called where it comes from, and whether it
// could come from there.
func (r Replication) Source(tag oci.Tag) (oci.Tag, bool) {
	before, after, _ := strings.Cut(r.tag, "{tag}")
	text := string(tag)
	if len(text) <= len(before)+len(after) || !strings.HasPrefix(text, before) || !strings.HasSuffix(text, after) {
		return "", false
	}
	return oci.Tag(text[len(before) : len(text)-len(after)]), true
}

// SourceRepository returns what a repository of the other side is called where it comes from,
// and whether its name tells.
func (r Replication) SourceRepository(target oci.Name) (oci.Name, bool) {
	if strings.Count(r.repository, "{namespace}") != 1 || strings.Count(r.repository, "{repository}") != 1 {
		return "", false
	}
	text := strings.NewReplacer(regexp.QuoteMeta("{namespace}"), "(?P<n>[^/]+)", regexp.QuoteMeta("{repository}"), "(?P<r>.+)").Replace(regexp.QuoteMeta(r.repository))
	found := regexp.MustCompile("^" + text + "$").FindStringSubmatch(string(target))
	if found == nil {
		return "", false
	}
	// In whichever order they stand.
	namespace, rest := found[1], found[2]
	if strings.Index(r.repository, "{repository}") < strings.Index(r.repository, "{namespace}") {
		namespace, rest = rest, namespace
	}
	name, err := oci.ParseName(namespace + "/" + rest)
	return name, err == nil
}

// Means reports whether the rule speaks of a tag.
func (r Replication) Means(n Name) bool {
	by := &asked{Name: n}
	return r.patterns.match(by) && !r.except.match(by)
}

// Reaches reports whether the rule may speak of a tag of a repository.
func (r Replication) Reaches(repository oci.Name) bool {
	return slices.ContainsFunc(r.patterns, func(p Pattern) bool { return p.repository.matches(string(repository)) })
}

// Exact returns the repositories that the rule names, and whether it names all that it means.
func (r Replication) Exact() (names []oci.Name, all bool) {
	all = true
	for _, p := range r.patterns {
		if p.repository.exact {
			names = append(names, oci.Name(p.repository.first))
		} else {
			all = false
		}
	}
	slices.Sort(names)
	return slices.Compact(names), all
}

// TakesType reports whether the rule copies things of an artifact type, "" for container
// images.
func (r Replication) TakesType(artifactType string) bool {
	if artifactType == "" || oci.IsImageConfig(artifactType) {
		artifactType = "image"
	}
	return len(r.ArtifactTypes) == 0 || slices.Contains(r.ArtifactTypes, artifactType)
}

// WithReferrers reports whether what refers to an image travels with it.
func (r Replication) WithReferrers() bool { return r.Referrers == nil || *r.Referrers }

// Rate is how many bytes a second it may copy, 0 for as many as it can.
func (r Replication) BytesASecond() int64 { return int64(r.rate) }

// Globs returns texts with * for any text: repositories of which one, and names
// REPOSITORY:TAG of which one must be true of whatever the rule means.
func (r Replication) Globs() (names, repositories []string) {
	for _, p := range r.patterns {
		tags := "*"
		if glob, whole := p.Tags(); whole && glob != "" {
			tags = glob
		}
		names = append(names, p.Repository()+":"+tags)
		repositories = append(repositories, p.Repository())
	}
	return names, repositories
}

// Overlaps reports whether two rules may speak of the same repository where it comes from.
func (r Replication) Overlaps(other Replication) bool {
	for _, p := range r.patterns {
		for _, q := range other.patterns {
			if globsMeet(p.Repository(), q.Repository()) {
				return true
			}
		}
	}
	return false
}

// globsMeet reports whether a text is what both say, in time that grows with the product of
// their lengths.
func globsMeet(a, b string) bool {
	// meet[j] tells whether what is left of a and b[j:] meet; it is filled from the end of a.
	meet, next := make([]bool, len(b)+1), make([]bool, len(b)+1)
	for i := len(a); i >= 0; i-- {
		for j := len(b); j >= 0; j-- {
			star := i < len(a) && a[i] == '*'
			other := j < len(b) && b[j] == '*'
			switch {
			case i == len(a) && j == len(b):
				meet[j] = true
			case star || other:
				meet[j] = i < len(a) && (star || j < len(b)) && next[j] || j < len(b) && (other || i < len(a)) && meet[j+1]
			default:
				meet[j] = i < len(a) && j < len(b) && a[i] == b[j] && next[j+1]
			}
		}
		meet, next = next, meet
	}
	return next[0]
}

// hours are a part of the day, in minutes of UTC; both the same is all of it.
type hours struct{ from, to int }

var hoursText = regexp.MustCompile(`^([01]\d|2[0-3]):([0-5]\d)-([01]\d|2[0-3]):([0-5]\d)$`)

func readHours(text string) (h hours, err error) {
	if text == "" {
		return h, nil
	}
	if !hoursText.MatchString(text) {
		return h, fmt.Errorf("hours: %.70q is no part of a day; write from and to, in UTC, as in 22:00-05:00", text)
	}
	var fromHour, fromMinute, toHour, toMinute int
	if _, err := fmt.Sscanf(text, "%d:%d-%d:%d", &fromHour, &fromMinute, &toHour, &toMinute); err != nil {
		return h, err
	}
	return hours{fromHour*60 + fromMinute, toHour*60 + toMinute}, nil
}

// Open reports whether the rule copies at a moment, as far as its hours go.
func (r Replication) Open(at time.Time) bool {
	at = at.UTC()
	minute := at.Hour()*60 + at.Minute()
	switch h := r.hours; {
	case h.from == h.to:
		return true
	case h.from < h.to:
		return minute >= h.from && minute < h.to
	default:
		return minute >= h.from || minute < h.to
	}
}
