// Package seals decides, from the records, which tags are sealed: by hand, or by the
// immutability rules that stand around them.
package seals

import (
	"fmt"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
)

// Compiled are the immutability rules that were read.
type Compiled = rulelists.Compiled[rule.TagFacts]

// NewCompiled returns immutability rules, none of which was read yet.
func NewCompiled() *Compiled { return rulelists.NewCompiled(rule.Immutability) }

// Tag is what is asked of a tag.
type Tag struct {
	Name   oci.Tag
	Digest oci.Digest
	// FirstServed is when there first was a tag of the name, in nanoseconds of served time.
	FirstServed int64
	// SealedAt is 0 while no hand seals it; SealedBy is the account that does.
	SealedAt   int64
	SealedBy   int64
	SealReason string
}

// Seals are those of one repository at a moment of served time, in nanoseconds.
type Seals struct {
	Lists        rulelists.Lists
	Compiled     *Compiled
	NamespaceID  int64
	RepositoryID int64
	Repository   oci.Name
	Served       int64
}

// Sealed is a tag that is sealed, and why; as an error it refuses a change of it.
type Sealed struct {
	Repository oci.Name
	Tag        Tag
	// Verdict is that of the rule, undecided where a hand sealed it.
	Verdict rule.Verdict
}

// ByHand tells that no rule but somebody sealed the tag.
func (s *Sealed) ByHand() bool { return !s.Verdict.Decided() }

// Error says it without the name of who sealed it, which the records alone do not know.
func (s *Sealed) Error() string {
	return fmt.Sprintf("the tag %s of %s is sealed", s.Tag.Name, s.Repository)
}

// ByHand says who sealed a tag.
func ByHand(name, reason string) string {
	if name == "" {
		name = "somebody"
	}
	return name + " sealed it by hand (" + reason + ")"
}

// Around returns the rules that stand around the repository.
func (s Seals) Around() (rulelists.Around[rule.TagFacts], error) {
	return s.Compiled.Around(s.Lists, s.NamespaceID, s.RepositoryID, s.Repository)
}

// Facts are what rules ask of a tag.
func (s Seals) Facts(tag oci.Tag, first int64) rule.TagFacts {
	return rule.TagFacts{Name: rule.Name{Repository: s.Repository, Tag: tag}, Since: time.Duration(s.Served - first)}
}

// By returns why a tag is sealed by its own seal or by rules, or nil.
func (s Seals) By(around []rule.List[rule.TagFacts], t Tag) *Sealed {
	if t.SealedAt != 0 {
		return &Sealed{Repository: s.Repository, Tag: t}
	}
	if v := rule.Decide(s.Facts(t.Name, t.FirstServed), around...); v.Verb == rule.Seal {
		return &Sealed{Repository: s.Repository, Tag: t, Verdict: v}
	}
	return nil
}

// Check fails with *Sealed where the tag may not be changed.
func (s Seals) Check(t Tag) error {
	if t.SealedAt != 0 {
		return s.By(nil, t)
	}
	around, err := s.Around()
	if err != nil {
		return err
	}
	if sealed := s.By(around.Lists, t); sealed != nil {
		return sealed
	}
	return nil
}
