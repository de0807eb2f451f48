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
	"warthesis/internal/record/inuse"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
)

// At says where a list of rules stands: at a repository, at a namespace or, with no place,
// at the registry; or under a name, for others to use. Kind is which rules it has, "" for
// immutability rules.
type At struct {
	Kind  string
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

// key returns where in the records a list stands. It fails with
// oci.CodeNameUnknown.
func (u *Upkeep) key(ctx context.Context, at At) (rulelists.Key, error) {
	kind, err := kindAt(at)
	k := rulelists.Key{Kind: kind.name, Name: at.List}
	if err != nil {
		return k, err
	}
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
	name := inside(at.Place)
	v, err := u.Access.Verdict(ctx, c, name, access.Push)
	if err != nil || v.Allowed {
		return err
	}
	if !v.Known && !c.Nobody() {
		return u.Access.Denied(c, string(at.Place), "there is no %s here that %s may know of", at.Place, c.Who())
	}
	return u.Access.Denied(c, string(at.Place), "%s", strings.Replace(v.Reason, string(name), string(at.Place), 1))
}

// inside is the name by which a right in a place is asked for: that of a namespace means all
// in it.
func inside(place oci.Name) oci.Name {
	if !strings.Contains(string(place), "/") {
		place += "/"
	}
	return place
}

// RuleList is a list as it stands, with the places that use it.
type RuleList struct {
	rulelists.List
	At At
	// Rules are read; UsedBy are places, of a list with a name.
	Rules  []Rule
	UsedBy []At
	// Waits tells that it does not act yet; Reaches counts the repositories that it speaks
	// of, of kinds of rules that wait.
	Waits   bool
	Reaches int
	// Waiting are repositories of which it would take so much that it waits once more, the
	// first of them.
	Waiting []keeping.Waiting
	// Unknown are lists of what is in use that it asks and that are not there.
	Unknown []string
}

// Rules returns the list of a place or of a name; of a place that has none an empty one.
func (u *Upkeep) Rules(ctx context.Context, c access.Caller, at At) (RuleList, error) {
	found := RuleList{At: at}
	k, missing := u.key(ctx, at)
	if err := u.MaySeeRules(ctx, c, at); err != nil {
		return found, err
	}
	if missing != nil {
		return found, missing
	}
	view := u.Records.View(ctx)
	lists := view.RuleLists()
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
	kind, err := kindAt(at)
	if err != nil {
		return found, err
	}
	read, err := kind.read(view, k.Level(), list.Words)
	if err != nil {
		return found, err
	}
	found.Rules = read.rules
	if at.List != "" {
		found.UsedBy, err = u.places(ctx, lists, list.ID)
	}
	if kind.waits {
		err = errors.Join(err, u.retentionOf(view, &found, read))
	}
	return found, err
}

// waitingShown is how many repositories are told in which a list waits.
const waitingShown = 100

// retentionOf adds what is told of a list of retention rules.
func (u *Upkeep) retentionOf(view record.View, found *RuleList, read read) error {
	served := int64(u.Clock.Served())
	found.Waits = found.List.Waits(served)
	repositories, err := view.RepositoriesIn(found.NamespaceID, found.RepositoryID, previewRepositories)
	if err != nil {
		return err
	}
	for _, r := range repositories {
		if read.reaches(r.Name) {
			found.Reaches++
		}
	}
	for _, name := range read.inUse {
		if _, err := view.InUse().Get(name); errors.Is(err, inuse.ErrNone) {
			found.Unknown = append(found.Unknown, name)
		} else if err != nil {
			return err
		}
	}
	found.Waiting, err = view.Keeping().WaitsOf(found.ID, served, waitingShown)
	return err
}

// NamedLists returns the lists of a kind that have names, with the places that use them.
func (u *Upkeep) NamedLists(ctx context.Context, c access.Caller, of string) (all []RuleList, err error) {
	kind, err := kindAt(At{Kind: of})
	if err := errors.Join(err, u.MaySeeRules(ctx, c, At{})); err != nil {
		return nil, err
	}
	view := u.Records.View(ctx)
	lists := view.RuleLists()
	rows, err := lists.Named(kind.name)
	for _, row := range rows {
		one := RuleList{List: row, At: At{Kind: kind.name, List: row.Name}, Waits: row.Waits(int64(u.Clock.Served()))}
		read, err := kind.read(view, rule.OfName, row.Words)
		if err != nil {
			return nil, err
		}
		one.Rules = read.rules
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
func (u *Upkeep) onRules(ctx context.Context, c access.Caller, at At, kind record.EventKind, reason string, words []string, do func(kind, rulelists.Lists, rulelists.List) (said string, err error)) error {
	k, missing := u.key(ctx, at)
	if err := u.Access.MayManage(ctx, c, at.Place); err != nil {
		return err
	}
	if missing != nil {
		return missing
	}
	of, err := kindAt(at)
	if err := errors.Join(err, access.CheckReason(reason, true)); err != nil {
		return err
	}
	if err := u.warm(ctx, of, k, words...); err != nil {
		return inWords(at, err)
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
		if errors.Is(err, rulelists.ErrNone) && kind != record.EventRulesSet {
			return in, rulelists.ErrNone
		}
		there.Key = k
		said, err := do(of, tx.RuleLists(), there)
		in.Detail = reason + ": " + of.sayOf(said)
		return in, err
	}))
}

// warm reads what a change of a list will read, so that the change finds it read: the new
// words, the present ones, and the lists that they use.
func (u *Upkeep) warm(ctx context.Context, of kind, k rulelists.Key, words ...string) error {
	view := u.Records.View(ctx)
	there, err := view.RuleLists().Get(k)
	if err != nil && !errors.Is(err, rulelists.ErrNone) {
		return err
	}
	for _, before := range []string{there.Words, there.PriorWords} {
		if _, err := of.read(view, k.Level(), before); err != nil {
			return err
		}
	}
	for _, text := range words {
		if err := of.check(view, view.RuleLists(), k, text); err != nil {
			return err
		}
	}
	return nil
}

// SetRules sets the list of a place or of a name, as YAML, with a reason. A list of a kind
// that waits acts after a while where it could take more than before. It fails with
// oci.CodeQueryInvalid where the words are wrong.
func (u *Upkeep) SetRules(ctx context.Context, c access.Caller, at At, words, reason string) error {
	return u.onRules(ctx, c, at, record.EventRulesSet, reason, []string{words}, func(of kind, lists rulelists.Lists, was rulelists.List) (string, error) {
		if err := of.check(u.Records.View(ctx), lists, was.Key, words); err != nil {
			return "", err
		}
		return u.setRules(c, of, lists, was, words, reason)
	})
}

func (u *Upkeep) setRules(c access.Caller, of kind, lists rulelists.Lists, was rulelists.List, words, reason string) (string, error) {
	view := u.Records.View(context.Background())
	next, err := of.read(view, was.Level(), words)
	if err != nil {
		return "", err
	}
	before, err := of.read(view, was.Level(), was.Words)
	if err != nil {
		return "", err
	}
	list := was
	list.Words, list.Reason, list.ChangedBy, list.ChangedAt = words, reason, c.Account.ID, u.Clock.Now().UnixNano()
	if of.waits {
		if err := u.wait(of, was, &list); err != nil {
			return "", err
		}
	}
	return sayChange(before, next), lists.Set(list, next.uses)
}

// wait lets a list wait that could take more than what acts now.
func (u *Upkeep) wait(of kind, was rulelists.List, list *rulelists.List) error {
	served := int64(u.Clock.Served())
	acting := was.ActingWords(served)
	widens, err := of.widens(u.Records.View(context.Background()), list.Level(), acting, list.Words)
	switch {
	case err != nil:
		return err
	case widens:
		list.ActsServed, list.WidenedServed, list.PriorWords = served+int64(u.RuleWait), served, acting
	case was.Waits(served):
		list.ActsServed, list.PriorWords = served, ""
	}
	return nil
}

// RemoveRules removes the list of a place or of a name, with a reason. Where it kept
// something that a wider list drops, it keeps that for as long as a change of it waits.
func (u *Upkeep) RemoveRules(ctx context.Context, c access.Caller, at At, reason string) error {
	return u.onRules(ctx, c, at, record.EventRulesRemoved, reason, nil, func(of kind, lists rulelists.Lists, was rulelists.List) (string, error) {
		if of.waits && at.List == "" {
			widens, err := of.widens(u.Records.View(ctx), was.Level(), was.ActingWords(int64(u.Clock.Served())), "")
			if err != nil || widens {
				said, failed := u.setRules(c, of, lists, was, "", reason)
				return said, errors.Join(err, failed)
			}
		}
		before, err := of.read(u.Records.View(ctx), was.Level(), was.Words)
		if err != nil {
			return "", err
		}
		return sayChange(before, read{}), lists.Remove(was.Key)
	})
}

// ActRules lets a list that waits act at once, everywhere, with a reason.
func (u *Upkeep) ActRules(ctx context.Context, c access.Caller, at At, reason string) error {
	return u.onRules(ctx, c, at, record.EventRulesAct, reason, nil, func(of kind, lists rulelists.Lists, was rulelists.List) (string, error) {
		served := int64(u.Clock.Served())
		ended, err := keeping.Records{DB: lists.DB}.EndWaits(was.ID, served)
		if err != nil {
			return "", err
		}
		if !was.Waits(served) && ended == 0 {
			return "", oci.Errorf(oci.CodeQueryInvalid, "the %s rules of %s do not wait", of.name, at)
		}
		return "they act at once", lists.Act(was.ID, served)
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
func sayChange(before, next read) string {
	words := func(l read) (all []string) {
		for _, r := range l.rules {
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
		return oci.Cut(all, mostSaid) + " …"
	}
	return all
}
