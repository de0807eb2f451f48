package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
)

// At says where a list of rules stands: at a repository, at a namespace or, with no place,
// at the registry; or under a name, for others to use.
type At struct {
	Place oci.Name
	List  string
}

// String says where it is, as people do.
func (at At) String() string {
	switch {
	case at.List != "":
		return "the list " + at.List
	case at.Place == "":
		return "the registry"
	}
	return "the " + access.SayPlace(at.Place)
}

// key returns where in the records a list of a kind stands. It fails with
// oci.CodeNameUnknown.
func (u *Upkeep) key(ctx context.Context, kind string, at At) (rulelists.Key, error) {
	k := rulelists.Key{Kind: kind, Name: at.List}
	if at.List != "" {
		if err := rule.CheckListName(at.List); err != nil {
			return k, oci.Errorf(oci.CodeQueryInvalid, "%s", err)
		}
		return k, nil
	}
	place, err := u.Access.Place(ctx, at.Place)
	k.NamespaceID, k.RepositoryID = place.NamespaceID, place.RepositoryID
	return k, err
}

// MaySeeRules refuses whoever may not see a list: those of a place are for writers there,
// those of the registry and named ones for whoever may list accounts.
func (u *Upkeep) MaySeeRules(ctx context.Context, c access.Caller, at At) error {
	if at.Place == "" {
		offers, err := u.Access.Offers(ctx, c)
		if err != nil || offers.ListsAccounts {
			return err
		}
		return u.Access.Denied(c, "rules", "%s may not see the rules of the registry and the lists with names: that takes an owner of a namespace or a role on the registry", c.Who())
	}
	name := at.Place
	if !strings.Contains(string(name), "/") {
		name += "/"
	}
	v, err := u.Access.Verdict(ctx, c, name, access.Push)
	if err != nil || v.Allowed {
		return err
	}
	if !v.Known && !c.Nobody() {
		return u.Access.Denied(c, string(at.Place), "there is no %s here that %s may know of", at.Place, c.Who())
	}
	return u.Access.Denied(c, string(at.Place), "%s", strings.Replace(v.Reason, string(name), string(at.Place), 1))
}

// RuleList is a list as it stands, with the places that use it.
type RuleList struct {
	rulelists.List
	At At
	// Rules are read; UsedBy are places, of a list with a name.
	Rules  []rule.Rule[rule.TagFacts]
	UsedBy []At
}

// Rules returns the list of a place or of a name; of a place that has none an empty one.
func (u *Upkeep) Rules(ctx context.Context, c access.Caller, at At) (RuleList, error) {
	found := RuleList{At: at}
	k, missing := u.key(ctx, rule.Immutability.Name, at)
	if err := u.MaySeeRules(ctx, c, at); err != nil {
		return found, err
	}
	if missing != nil {
		return found, missing
	}
	lists := u.Records.View(ctx).RuleLists()
	list, err := lists.Get(k)
	switch {
	case errors.Is(err, rulelists.ErrNone) && at.List != "":
		return found, oci.Errorf(oci.CodeNameUnknown, "there is no list %s here", at.List)
	case errors.Is(err, rulelists.ErrNone):
		return found, nil
	case err != nil:
		return found, err
	}
	found.List = list
	read, err := rule.Immutability.Read(k.Level(), at.String(), []byte(list.Words))
	if err != nil {
		return found, err
	}
	found.Rules = read.Rules
	if at.List != "" {
		found.UsedBy, err = u.places(ctx, lists, list.ID)
	}
	return found, err
}

// NamedLists returns the lists that have names, with the places that use them.
func (u *Upkeep) NamedLists(ctx context.Context, c access.Caller) (all []RuleList, err error) {
	if err := u.MaySeeRules(ctx, c, At{}); err != nil {
		return nil, err
	}
	lists := u.Records.View(ctx).RuleLists()
	rows, err := lists.Named(rule.Immutability.Name)
	for _, row := range rows {
		one := RuleList{List: row, At: At{List: row.Name}}
		read, err := rule.Immutability.Read(rule.OfName, "", []byte(row.Words))
		if err != nil {
			return nil, err
		}
		one.Rules = read.Rules
		if one.UsedBy, err = u.places(ctx, lists, row.ID); err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, err
}

// places returns where lists stand that use one.
func (u *Upkeep) places(ctx context.Context, lists rulelists.Lists, id int64) (all []At, err error) {
	keys, err := lists.UsedBy(id)
	view := u.Records.View(ctx)
	for _, k := range keys {
		at := At{}
		switch {
		case k.RepositoryID != 0:
			r, err := view.LiveRepository(k.RepositoryID)
			if err := notMissing(err); err != nil {
				return nil, err
			}
			at.Place = r.Name
		case k.NamespaceID != 0:
			n, err := view.LiveNamespace(k.NamespaceID)
			if err := notMissing(err); err != nil {
				return nil, err
			}
			at.Place = oci.Name(n.Name)
		}
		if at.Place != "" || k.NamespaceID == 0 && k.RepositoryID == 0 {
			all = append(all, at)
		}
	}
	return all, err
}

// event starts a line of the audit log about a list.
func (at At) event(c access.Caller, kind record.EventKind) record.Event {
	e := c.PlaceEvent(kind, at.Place)
	if at.List != "" {
		e.Subject = at.String()
	}
	return e
}

// onRules changes a list of a place that is there still, by whoever may manage it, with
// what it was.
func (u *Upkeep) onRules(ctx context.Context, c access.Caller, at At, kind record.EventKind, reason string, do func(rulelists.Lists, rulelists.List) (said string, err error)) error {
	k, missing := u.key(ctx, rule.Immutability.Name, at)
	if err := u.Access.MayManage(ctx, c, at.Place); err != nil {
		return err
	}
	if missing != nil {
		return missing
	}
	if err := access.CheckReason(reason, true); err != nil {
		return err
	}
	return inWords(at, u.Access.ChangeIn(ctx, c, at.event(c, kind), func(tx *record.Tx) (record.Event, error) {
		in, err := access.LivePlace(tx, record.GrantKey{NamespaceID: k.NamespaceID, RepositoryID: k.RepositoryID})
		if err != nil {
			return in, oci.Errorf(oci.CodeNameUnknown, "%s was removed a moment ago", at)
		}
		there, err := tx.RuleLists().Get(k)
		if err != nil && !errors.Is(err, rulelists.ErrNone) {
			return in, err
		}
		if errors.Is(err, rulelists.ErrNone) && kind == record.EventRulesRemoved {
			return in, rulelists.ErrNone
		}
		there.Key = k
		said, err := do(tx.RuleLists(), there)
		in.Detail = reason + ": " + said
		return in, err
	}))
}

// SetRules sets the list of a place or of a name, as YAML, with a reason. It fails with
// oci.CodeQueryInvalid where the words are wrong.
func (u *Upkeep) SetRules(ctx context.Context, c access.Caller, at At, words, reason string) error {
	return u.onRules(ctx, c, at, record.EventRulesSet, reason, func(lists rulelists.Lists, was rulelists.List) (string, error) {
		if _, err := u.Records.View(ctx).Immutability().Compile(lists, was.Key, words); err != nil {
			return "", err
		}
		next, err := rule.Immutability.Read(was.Level(), "", []byte(words))
		if err != nil {
			return "", err
		}
		before, err := rule.Immutability.Read(was.Level(), "", []byte(was.Words))
		if err != nil {
			return "", err
		}
		list := was
		list.Words, list.Reason, list.ChangedBy, list.ChangedAt = words, reason, c.Account.ID, u.Clock.Now().UnixNano()
		return sayChange(before, next), lists.Set(list, next.Uses())
	})
}

// RemoveRules removes the list of a place or of a name, with a reason.
func (u *Upkeep) RemoveRules(ctx context.Context, c access.Caller, at At, reason string) error {
	return u.onRules(ctx, c, at, record.EventRulesRemoved, reason, func(lists rulelists.Lists, was rulelists.List) (string, error) {
		before, err := rule.Immutability.Read(was.Level(), "", []byte(was.Words))
		if err != nil {
			return "", err
		}
		return sayChange(before, rule.List[rule.TagFacts]{}), lists.Remove(was.Key)
	})
}

// inWords says what is wrong with a list.
func inWords(at At, err error) error {
	var fault *rule.Fault
	var unknown *rulelists.UnknownError
	var used *rulelists.UsedError
	switch {
	case errors.As(err, &fault):
		return oci.Errorf(oci.CodeQueryInvalid, "the rules were not set: %s", fault)
	case errors.As(err, &unknown):
		return oci.Errorf(oci.CodeQueryInvalid, "the rules were not set: there is no list %s to use; a registry admin can make it", unknown.Name)
	case errors.As(err, &used):
		return oci.Errorf(oci.CodeInUse, "%s stays: %d other lists use it; take the use out of them first", at, len(used.By))
	case errors.Is(err, rulelists.ErrNone):
		return oci.Errorf(oci.CodeNameUnknown, "%s has no rules of its own", at)
	case errors.Is(err, rulelists.ErrMost):
		return oci.Errorf(oci.CodeQueryInvalid, "there are %d lists with names, which is the most", rulelists.MostNamed)
	}
	return err
}

// mostSaid bounds what the audit log says of a change, in bytes.
const mostSaid = 2000

// sayChange says which rules came, and which went.
func sayChange(before, next rule.List[rule.TagFacts]) string {
	words := func(l rule.List[rule.TagFacts]) (all []string) {
		for _, r := range l.Rules {
			said := r.Words
			if r.Because != "" {
				said += " (" + r.Because + ")"
			}
			all = append(all, said)
		}
		return all
	}
	was, is := words(before), words(next)
	var said []string
	for _, w := range was {
		if !slices.Contains(is, w) {
			said = append(said, "without "+w)
		}
	}
	for i, w := range is {
		if !slices.Contains(was, w) {
			said = append(said, fmt.Sprintf("with %s as rule %d", w, i+1))
		}
	}
	if len(said) == 0 && !slices.Equal(was, is) {
		said = append(said, "the same rules in another order: "+strings.Join(is, "; "))
	}
	if len(said) == 0 {
		return "the same rules"
	}
	all := strings.Join(said, "; ")
	if len(all) > mostSaid {
		return strings.ToValidUTF8(all[:mostSaid], "") + " …"
	}
	return all
}
