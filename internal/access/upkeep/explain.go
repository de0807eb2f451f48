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
	// of lists that the caller may not see, are left out, and Hidden counts them for who may
	// push there; to others also how many there are is nobody's business.
	Answers []rule.Answer
	Hidden  int
}

// Explain says which rule decides of a name, and why the others do not. The caller may pull
// there.
func (u *Upkeep) Explain(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag) (e Explained, err error) {
	return u.explain(ctx, c, name, tag, func(there seals.Seals) ([]rule.List[rule.TagFacts], error) {
		around, err := there.Around()
		return around.Lists, err
	})
}

// Try is Explain as it would be with a list at a place or under a name, for whoever may set
// that.
func (u *Upkeep) Try(ctx context.Context, c access.Caller, at At, words string, name oci.Name, tag oci.Tag) (e Explained, err error) {
	with, err := u.draft(ctx, c, at, words)
	if err != nil {
		return e, err
	}
	return u.explain(ctx, c, name, tag, func(there seals.Seals) ([]rule.List[rule.TagFacts], error) {
		lists, _, err := there.Compiled.AroundWith(there.Lists, there.NamespaceID, there.RepositoryID, there.Repository, with)
		return lists, err
	})
}

func (u *Upkeep) explain(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, listsOf func(seals.Seals) ([]rule.List[rule.TagFacts], error)) (e Explained, err error) {
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
	lists, err := listsOf(there)
	if err != nil {
		return e, err
	}
	if e.Tag, err = view.SealTagOf(in.ID, tag); notMissing(err) != nil {
		return e, err
	}
	if e.There = err == nil; e.There {
		e.Sealed = there.By(lists, e.Tag)
	} else {
		e.Tag = seals.Tag{Name: tag, FirstServed: there.Served}
	}
	e.Answers, e.Hidden = u.seenOf(ctx, c, name, rule.Explain(there.Facts(tag, e.Tag.FirstServed), lists...))
	return e, nil
}

// seesRules is MaySeeRules where nothing is refused.
func (u *Upkeep) seesRules(ctx context.Context, c access.Caller, at At) bool {
	if at.Place == "" {
		offers, err := u.Access.Offers(ctx, c)
		return err == nil && offers.ListsAccounts
	}
	v, err := u.Access.Verdict(ctx, c, inside(at.Place), access.Push)
	return err == nil && v.Allowed
}
