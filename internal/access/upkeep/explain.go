package upkeep

import (
	"context"
	"errors"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
	"warthesis/internal/rule"
)

// Explained says why a tag is sealed or is not.
type Explained struct {
	// There tells that there is such a tag; a new one can be made whatever rules say.
	There bool
	Tag   seals.Tag
	// Sealed is nil where it is not.
	Sealed *seals.Sealed
	// Answers are the rules in the order in which they are asked. Those that do not decide,
	// of lists that the caller may not see, are left out, and Hidden counts them.
	Answers []rule.Answer
	Hidden  int
}

// Explain says which rule decides of a name, and why the others do not. The caller may pull
// there.
func (u *Upkeep) Explain(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag) (e Explained, err error) {
	view := u.Records.View(ctx)
	in, err := view.Repository(name)
	if errors.Is(err, record.ErrNotFound) {
		// One that a push would make.
		namespace, missing := view.Namespace(name.Namespace())
		if err := notMissing(missing); err != nil {
			return e, err
		}
		in, err = record.Repository{ID: -1, NamespaceID: namespace.ID, Name: name}, nil
		if namespace.ID == 0 {
			in.NamespaceID = -1
		}
	}
	if err != nil {
		return e, err
	}
	there := view.Seals(in, int64(u.Clock.Served()))
	around, err := there.Around()
	if err != nil {
		return e, err
	}
	if e.Tag, err = view.SealTagOf(in.ID, tag); notMissing(err) != nil {
		return e, err
	}
	if e.There = err == nil; e.There {
		e.Sealed = there.By(around.Lists, e.Tag)
	} else {
		e.Tag = seals.Tag{Name: tag, FirstServed: there.Served}
	}
	seen := map[rule.Level]bool{}
	for level, at := range map[rule.Level]At{rule.OfRepository: {Place: name}, rule.OfNamespace: {Place: oci.Name(name.Namespace())}, rule.OfRegistry: {}} {
		seen[level] = u.seesRules(ctx, c, at)
	}
	for _, a := range rule.Explain(there.Facts(tag, e.Tag.FirstServed), around.Lists...) {
		if !a.Decides && !seen[a.Level] {
			e.Hidden++
			continue
		}
		e.Answers = append(e.Answers, a)
	}
	return e, nil
}

// seesRules is MaySeeRules where nothing is refused.
func (u *Upkeep) seesRules(ctx context.Context, c access.Caller, at At) bool {
	if at.Place == "" {
		offers, err := u.Access.Offers(ctx, c)
		return err == nil && offers.ListsAccounts
	}
	name := at.Place
	if name == oci.Name(name.Namespace()) {
		name += "/"
	}
	v, err := u.Access.Verdict(ctx, c, name, access.Push)
	return err == nil && v.Allowed
}
