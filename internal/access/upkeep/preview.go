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
	with, err := u.draft(ctx, c, at, words)
	if err != nil {
		return Preview{}, err
	}
	end, err := u.Look(c)
	if err != nil {
		return Preview{}, err
	}
	defer end()
	view, k := u.Records.View(ctx), with.Key
	repositories, err := view.RepositoriesIn(k.NamespaceID, k.RepositoryID, previewRepositories+1)
	if err != nil {
		return Preview{}, err
	}
	p := &preview{view: view, served: int64(u.Clock.Served()), with: with}
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

// draft reads a list that is not set yet, for whoever may set it: what it would do tells of
// all tags there, as much as they may see.
func (u *Upkeep) draft(ctx context.Context, c access.Caller, at At, words string) (with rulelists.With[rule.TagFacts], err error) {
	k, missing := u.key(ctx, at)
	if err := u.Access.MayManage(ctx, c, at.Place); err != nil {
		return with, err
	}
	if missing != nil {
		return with, missing
	}
	with.Key = k
	view := u.Records.View(ctx)
	if at.List != "" {
		// It is compiled where it is used.
		with.List, err = rule.Immutability.Read(rule.OfName, "", []byte(words))
	} else {
		with.List, err = view.Immutability().Compile(view.RuleLists(), k, words)
	}
	return with, inWords(at, err)
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
