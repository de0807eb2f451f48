package keeping

import (
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/seals"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// Rules are the lists of rules that repositories are judged by.
type Rules struct {
	Records
	Lists    rulelists.Lists
	Compiled *Compiled
	Sealing  *seals.Compiled
}

// Around is what stands around a repository to be judged.
type Around struct {
	rulelists.Around[*rule.RetentionFacts]
	Terms worth.Terms
}

// Of returns by what a repository is judged at a moment of served time, by terms that
// have the grace and the wait. A list that is not set yet may stand in the place of one that is.
func (r Rules) Of(p Place, terms worth.Terms, with *rulelists.With[*rule.RetentionFacts]) (a Around, err error) {
	a.Terms = terms
	if with == nil {
		a.Around, err = r.Compiled.Around(r.Lists, p.NamespaceID, p.ID, p.Name)
		a.Terms.Retention = a.Lists
	} else {
		a.Terms.Retention, _, err = r.Compiled.AroundWith(r.Lists, p.NamespaceID, p.ID, p.Name, *with)
	}
	if err != nil {
		return a, err
	}
	if a.Terms.Until = rulelists.Until(a.Terms.Retention); a.Terms.Until > terms.Served {
		if a.Terms.Prior, err = r.Compiled.Prior(r.Lists, p.NamespaceID, p.ID, p.Name, terms.Served); err != nil {
			return a, err
		}
	}
	sealing, err := r.Sealing.Around(r.Lists, p.NamespaceID, p.ID, p.Name)
	if err != nil {
		return a, err
	}
	a.Terms.Immutability = sealing.Lists
	a.Terms.Waits, err = r.Waits(p.ID)
	return a, err
}
