package record

import (
	"context"

	"gorm.io/gorm"

	"warthesis/internal/record/inuse"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// Keeping reads what retention rules judge.
func (v View) Keeping() keeping.Records { return keeping.Records{DB: v.db} }

// Retention are the retention rules that were read.
func (v View) Retention() *keeping.Compiled { return v.keeping }

// InUse are the lists of what is in use.
func (v View) InUse() inuse.Lists { return inuse.Lists{DB: v.db} }

// Snapshot reads the records at one moment; it takes no longer than some seconds.
func (s *Store) Snapshot(ctx context.Context, read func(View) error) error {
	return s.read.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		view := s.View(ctx)
		view.db = db
		// Which lists stand now is asked for as of the same moment.
		view.rules.Known = func() *rulelists.Known { return nil }
		return read(view)
	})
}

// Around is what stands around a repository to be judged.
type Around struct {
	rulelists.Around[*rule.RetentionFacts]
	Terms worth.Terms
}

// Judging returns by what a repository is judged at a moment of served time, by terms that
// have the grace and the wait. A list that is not set yet may stand in the place of one that is.
func (v View) Judging(p keeping.Place, terms worth.Terms, with *rulelists.With[*rule.RetentionFacts]) (a Around, err error) {
	lists := v.RuleLists()
	a.Terms = terms
	if with == nil {
		a.Around, err = v.keeping.Around(lists, p.NamespaceID, p.ID, p.Name)
		a.Terms.Retention = a.Lists
	} else {
		a.Terms.Retention, _, err = v.keeping.AroundWith(lists, p.NamespaceID, p.ID, p.Name, *with)
	}
	if err != nil {
		return a, err
	}
	if a.Terms.Until = rulelists.Until(a.Terms.Retention); a.Terms.Until > terms.Served {
		if a.Terms.Prior, err = v.keeping.Prior(lists, p.NamespaceID, p.ID, p.Name, terms.Served); err != nil {
			return a, err
		}
	}
	sealing, err := v.sealing.Around(lists, p.NamespaceID, p.ID, p.Name)
	if err != nil {
		return a, err
	}
	a.Terms.Immutability = sealing.Lists
	a.Terms.Waits, err = v.Keeping().Waits(p.ID)
	return a, err
}
