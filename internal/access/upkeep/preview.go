package upkeep

import (
	"context"
	"errors"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/seals"
	"warthesis/internal/rule"
)

// The bounds of a preview: it stops where it has looked at that much, and says so.
const (
	// PreviewBack is how far back the tag log is looked at, in served time.
	PreviewBack = 30 * 24 * time.Hour

	previewRepositories = 5000
	previewTags         = 500_000
	previewMoves        = 100_000
	// previewShown is how many lines of each are told.
	previewShown = 100
	movesAtOnce  = 2000
)

// Preview is what a list would do.
type Preview struct {
	// Reaches counts the repositories that its rules speak of, Names the first of them.
	Reaches int
	Names   []oci.Name
	// Tags counts the tags that were looked at; Sealed those that would be sealed then,
	// NewlySealed and Freed of them what is otherwise now.
	Tags        int
	Sealed      int
	NewlySealed []seals.Sealed
	Freed       []seals.Sealed
	New, Free   int
	// Refused counts the moves and removals since PreviewBack that it would have refused.
	Refused  int
	Refusals []Refusal
	// More tells that there is more than was looked at.
	More bool
}

// Refusal is a move or a removal of a tag that would have been refused.
type Refusal struct {
	Repository oci.Name
	Tag        oci.Tag
	At         int64
	By         int64
	Moved      bool
	Verdict    rule.Verdict
}

// PreviewRules says what a list would do at a place or under a name, of what the caller may
// see all.
func (u *Upkeep) PreviewRules(ctx context.Context, c access.Caller, at At, words string) (Preview, error) {
	k, missing := u.key(ctx, rule.Immutability.Name, at)
	// What it would do tells of all tags there: as much as who sets it may see.
	if err := u.Access.MayManage(ctx, c, at.Place); err != nil {
		return Preview{}, err
	}
	if missing != nil {
		return Preview{}, missing
	}
	view := u.Records.View(ctx)
	list, err := view.Immutability().Compile(view.RuleLists(), k, words)
	if err != nil {
		return Preview{}, inWords(at, err)
	}
	if at.List != "" {
		if list, err = rule.Immutability.Read(rule.OfName, "", []byte(words)); err != nil {
			return Preview{}, inWords(at, err)
		}
	}
	repositories, err := view.RepositoriesIn(k.NamespaceID, k.RepositoryID, previewRepositories+1)
	if err != nil {
		return Preview{}, err
	}
	p := &preview{view: view, served: int64(u.Clock.Served()), with: rulelists.With[rule.TagFacts]{Key: k, List: list}}
	if len(repositories) > previewRepositories {
		repositories, p.More = repositories[:previewRepositories], true
	}
	for _, r := range repositories {
		if err := p.look(ctx, r); err != nil {
			return p.Preview, err
		}
	}
	return p.Preview, nil
}

type preview struct {
	Preview
	view   record.View
	with   rulelists.With[rule.TagFacts]
	served int64
	moves  int
}

var errEnough = errors.New("enough was looked at")

func (p *preview) look(ctx context.Context, r record.Repository) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	there := p.view.Seals(r, p.served)
	before, err := there.Around()
	if err != nil {
		return err
	}
	next, reached, err := there.Compiled.AroundWith(there.Lists, r.NamespaceID, r.ID, r.Name, p.with)
	if err != nil {
		return err
	}
	if reached {
		if p.Reaches++; len(p.Names) < previewShown {
			p.Names = append(p.Names, r.Name)
		}
	}
	err = there.EachTag(func(t seals.Tag) error {
		if p.Tags >= previewTags {
			p.More = true
			return errEnough
		}
		p.Tags++
		was, is := there.By(before.Lists, t), there.By(next, t)
		if is != nil {
			p.Sealed++
		}
		switch {
		case is != nil && was == nil:
			if p.New++; len(p.NewlySealed) < previewShown {
				p.NewlySealed = append(p.NewlySealed, *is)
			}
		case is == nil && was != nil:
			if p.Free++; len(p.Freed) < previewShown {
				p.Freed = append(p.Freed, *was)
			}
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	return p.log(r, there, next)
}

// log looks at what was done to tags.
func (p *preview) log(r record.Repository, there seals.Seals, next []rule.List[rule.TagFacts]) error {
	for before := int64(0); ; {
		rows, err := p.view.TagLog(r.ID).Changes(p.served-int64(PreviewBack), before, movesAtOnce)
		if err != nil {
			return err
		}
		for _, row := range rows {
			if p.moves++; p.moves > previewMoves {
				p.More = true
				return nil
			}
			then := there
			then.Served = row.MovedServed
			v := rule.Decide(then.Facts(row.Tag, row.FirstServed), next...)
			if v.Verb != rule.Seal {
				continue
			}
			if p.Refused++; len(p.Refusals) < previewShown {
				p.Refusals = append(p.Refusals, Refusal{r.Name, row.Tag, row.MovedAt, row.MovedBy, row.Moved, v})
			}
		}
		if len(rows) < movesAtOnce {
			return nil
		}
		before = rows[len(rows)-1].ID
	}
}

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

// SealTag seals a tag by hand, with a reason; the caller may push and delete there.
func (u *Upkeep) SealTag(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string) error {
	return u.seal(ctx, c, name, tag, reason, record.EventTagSealed)
}

// UnsealTag takes the seal that a hand put on a tag away, with a reason; that takes an owner.
func (u *Upkeep) UnsealTag(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string) error {
	if err := u.Access.MayManageRepository(ctx, c, name); err != nil {
		return err
	}
	return u.seal(ctx, c, name, tag, reason, record.EventTagUnsealed)
}

func (u *Upkeep) seal(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string, kind record.EventKind) error {
	if err := access.CheckReason(reason, true); err != nil {
		return err
	}
	in, err := u.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	if err != nil {
		return err
	}
	e := c.RepositoryEvent(kind, name).In(in)
	e.Tag, e.Detail = tag, reason
	return u.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		in, err := tx.LiveRepository(in.ID)
		if err != nil {
			return oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed a moment ago", name)
		}
		there, err := tx.SealTagOf(in.ID, tag)
		if errors.Is(err, record.ErrNotFound) {
			return oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no tag %s", name, tag)
		}
		if err != nil {
			return err
		}
		if kind == record.EventTagSealed {
			if there.SealedAt != 0 {
				return oci.Errorf(oci.CodeInUse, "the tag %s of %s is sealed by hand already (%s)", tag, name, there.SealReason)
			}
			return tx.SealTag(in, tag, reason, record.Actor{Account: c.Account.ID, Token: c.TokenName()})
		}
		if there.SealedAt == 0 {
			sealed := tx.Seals(in, tx.Served()).Check(there)
			var by *seals.Sealed
			if errors.As(sealed, &by) {
				return oci.Errorf(oci.CodeInUse, "nobody sealed the tag %s of %s by hand: %s; change that list, with a rule before it that frees the tag", tag, name, by.Verdict)
			}
			return oci.Errorf(oci.CodeInUse, "the tag %s of %s is not sealed", tag, name)
		}
		return tx.SealTag(in, tag, "", record.Actor{Account: c.Account.ID, Token: c.TokenName()})
	})
}
