package bring

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// Report is what came of a run. It is kept as JSON.
type Report struct {
	Import  string    `json:"import"`
	Peer    string    `json:"peer"`
	Preview bool      `json:"preview,omitempty"`
	Began   time.Time `json:"began"`
	Ended   time.Time `json:"ended"`
	// Equal tells that both sides had the same tags with the same digests, compared from
	// ComparedFrom to ComparedUntil.
	Equal         bool         `json:"equal"`
	ComparedFrom  time.Time    `json:"compared_from,omitzero"`
	ComparedUntil time.Time    `json:"compared_until,omitzero"`
	Says          string       `json:"says"`
	Totals        Totals       `json:"totals"`
	Repositories  []Repository `json:"repositories"`
	Namespaces    []Namespace  `json:"namespaces"`
	// Differs are the first tags that are not equal.
	Differs []Tag `json:"differs"`
}

// Counts are tags, and the bytes of what was brought of them.
type Counts struct {
	Tags int64 `json:"tags"`
	// Equal have the same digest on both sides. Behind have another here, Lacks are not here.
	Equal  int64 `json:"equal"`
	Behind int64 `json:"behind"`
	Lacks  int64 `json:"lacks"`
	// Ours have another digest here and were moved here by somebody, and stay.
	Ours int64 `json:"ours"`
	// Extra are here alone.
	Extra int64 `json:"extra"`
	Brings
}

// Brings is what a run did.
type Brings struct {
	Failed  int64 `json:"failed"`
	Brought int64 `json:"brought"`
	Bytes   int64 `json:"bytes"`
	Sent    int64 `json:"sent"`
}

func (c *Counts) add(more Counts) {
	c.Tags += more.Tags
	c.Equal += more.Equal
	c.Behind += more.Behind
	c.Lacks += more.Lacks
	c.Ours += more.Ours
	c.Extra += more.Extra
	c.Failed += more.Failed
	c.Brought += more.Brought
	c.Bytes += more.Bytes
	c.Sent += more.Sent
}

// Totals are the sums of a report.
type Totals struct {
	Repositories int `json:"repositories"`
	// Unread is how many repositories could not be read.
	Unread int `json:"unread"`
	Counts
}

// Repository is how one repository stands.
type Repository struct {
	From oci.Name `json:"from"`
	To   oci.Name `json:"to"`
	Counts
	Why string `json:"why,omitempty"`

	differs []Tag
	// tagOf is a tag of it.
	tagOf oci.Tag
}

// Namespace is one that the import brings something into.
type Namespace struct {
	Name string `json:"name"`
	// There tells that it is there; else the import makes it.
	There bool `json:"there"`
	// Repositories is how many it gets, Description what is proposed for it, by what its
	// images say of themselves.
	Repositories int    `json:"repositories"`
	Description  string `json:"description,omitempty"`
}

// Tag is one that is not equal, or was not.
type Tag struct {
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag"`
	State      string     `json:"state"`
	There      oci.Digest `json:"there,omitempty"`
	Here       oci.Digest `json:"here,omitempty"`
	Why        string     `json:"why,omitempty"`
}

// The states of tags that differ.
const (
	IsBehind  = "behind"
	IsLacking = "lacks"
	IsOurs    = "moved here"
	IsFailed  = "failed"
	IsExtra   = "here alone"
)

// add adds what was found of a repository.
func (r *bringing) add(found Repository) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := &r.report.Totals
	t.Repositories++
	if found.Why != "" {
		t.Unread++
	}
	t.add(found.Counts)
	if room := mostNamed - len(r.report.Differs); room > 0 {
		r.report.Differs = append(r.report.Differs, found.differs[:min(room, len(found.differs))]...)
	}
	found.differs = nil
	// The sums are of all; named are as many as one looks through.
	if len(r.report.Repositories) < mostListed {
		r.report.Repositories = append(r.report.Repositories, found)
	}
}

// settle puts together what the first round did and what the second one found.
func (r *Report) settle(first Report) {
	by := map[oci.Name]Brings{}
	for _, one := range first.Repositories {
		by[one.To] = one.Brings
	}
	for at := range r.Repositories {
		r.Repositories[at].Brings = by[r.Repositories[at].To]
	}
	r.Totals.Brings = first.Totals.Brings
	// Why something failed is known of the first round.
	why := map[[2]string]string{}
	for _, d := range first.Differs {
		why[[2]string{string(d.Repository), string(d.Tag)}] = d.Why
	}
	for at := range r.Differs {
		d := &r.Differs[at]
		if d.Why == "" {
			d.Why = why[[2]string{string(d.Repository), string(d.Tag)}]
		}
	}
}

// state says in a sentence how it stands.
func (r *Report) state(failed error) {
	slices.SortFunc(r.Repositories, func(a, b Repository) int { return cmp.Compare(a.To, b.To) })
	slices.SortFunc(r.Differs, func(a, b Tag) int {
		return cmp.Or(cmp.Compare(a.Repository, b.Repository), cmp.Compare(a.Tag, b.Tag))
	})
	t := r.Totals
	r.Equal = failed == nil && t.Unread+int(t.Behind+t.Lacks+t.Ours+t.Extra) == 0
	var parts []string
	for _, part := range []struct {
		n     int64
		words string
	}{{t.Lacks, "lacking here"}, {t.Behind, "behind"}, {t.Ours, "moved here by somebody"}, {t.Extra, "here alone"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.words))
		}
	}
	if t.Unread > 0 {
		parts = append(parts, counted(int64(t.Unread), "repository", "repositories")+" that could not be read or written")
	}
	compared := counted(t.Tags, "tag", "tags") + " in " + counted(int64(t.Repositories), "repository", "repositories")
	switch {
	case failed != nil:
		r.Says = "it did not come to its end: " + failed.Error()
	case r.Equal:
		r.Says = fmt.Sprintf("both sides are equal by digest: %s", compared)
	default:
		r.Says = fmt.Sprintf("%s: %s", compared, strings.Join(parts, ", "))
	}
	if r.Equal && !r.ComparedUntil.IsZero() {
		r.Says += fmt.Sprintf(", compared from %s to %s", r.ComparedFrom.Format(time.RFC3339), r.ComparedUntil.Format(time.RFC3339))
	}
	if t.Brought > 0 {
		r.Says += fmt.Sprintf("; %d brought", t.Brought)
	}
}

func counted(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func compareNames(a, b pair) int { return cmp.Or(cmp.Compare(a.to, b.to), cmp.Compare(a.from, b.from)) }
