package access

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// PlaceChange is what is to be changed of a namespace or a repository; nil fields stay.
type PlaceChange struct {
	Description *string
	Labels      *record.Labels
	// Open is for namespaces, Visibility for repositories.
	Open           *bool
	Visibility     *record.Visibility
	PushMakes      *record.Role
	NewDescription *string
	NewLabels      *record.Labels
	LogPulls       *bool
	// Rename is another name.
	Rename *string
}

const (
	mostDescription = 2000
	mostLabels      = 64
	mostLabel       = 256
)

func (p PlaceChange) check() error {
	for _, d := range []*string{p.Description, p.NewDescription} {
		if d != nil && len(*d) > mostDescription {
			return oci.Errorf(oci.CodeQueryInvalid, "the description has %d bytes, at most %d may be", len(*d), mostDescription)
		}
	}
	for _, labels := range []*record.Labels{p.Labels, p.NewLabels} {
		if labels == nil {
			continue
		}
		if len(*labels) > mostLabels {
			return oci.Errorf(oci.CodeQueryInvalid, "there are %d labels, at most %d may be", len(*labels), mostLabels)
		}
		for name, value := range *labels {
			if name == "" || len(name) > mostLabel || len(value) > mostLabel {
				return oci.Errorf(oci.CodeQueryInvalid, "the label %.40q is empty or longer than %d bytes", name, mostLabel)
			}
		}
	}
	if p.PushMakes != nil && *p.PushMakes != record.NoRole && p.PushMakes.Rank() < record.Writer.Rank() {
		return oci.Errorf(oci.CodeQueryInvalid, "%q cannot be who makes repositories by pushing: it is writer, curator, owner or nobody", *p.PushMakes)
	}
	return nil
}

// set lays a value over another, where there is one, and notes what it was.
func set[T any, C any](target *T, value *T, column C, columns *[]C, what string, said *[]string) {
	if value != nil {
		*target = *value
		*columns = append(*columns, column)
		*said = append(*said, what)
	}
}

// CheckNamespace reads the name of a namespace: one component of a repository's name.
func CheckNamespace(name string) (oci.Name, error) {
	parsed, err := oci.ParseName(name)
	if err == nil && strings.Contains(name, "/") {
		err = oci.Errorf(oci.CodeNameInvalid, "%s is the name of a repository; a namespace is its first component, %s", name, parsed.Namespace())
	}
	return parsed, err
}

// mayMakeNamespace reports whether the caller may make namespaces.
func (a *Access) mayMakeNamespace(c Caller) bool {
	return !c.Nobody() && (c.Account.Admin || a.records.Rights().Settings().AccountsMakeNamespaces && c.Account.Kind == record.Person)
}

// mayMakeByPush reports whether a push to a name may make its namespace, which is
// not there.
func (a *Access) mayMakeByPush(c Caller, name oci.Name) bool {
	rights := a.records.Rights()
	_, there := rights.Namespace(name.Namespace())
	return !there && rights.Settings().PushMakesNamespaces && a.mayMakeNamespace(c) && (!c.Limited || inScopes(c.Token.Scopes, string(name), Push))
}

// MakeNamespace makes a namespace. Who is no registry admin becomes its owner.
func (a *Access) MakeNamespace(ctx context.Context, c Caller, name string, change PlaceChange) (record.Namespace, error) {
	n := record.Namespace{Name: name, PushMakes: record.Writer}
	if !a.mayMakeNamespace(c) || !c.whole() {
		return n, a.denied(c, "namespace "+name, "%s may not make namespaces: that takes a registry admin", c.who())
	}
	if _, err := CheckNamespace(name); err != nil {
		return n, err
	}
	if err := change.check(); err != nil {
		return n, err
	}
	change.onNamespace(&n)
	e := c.placeEvent(record.EventNamespaceMade, oci.Name(n.Name))
	err := a.changeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		if n, err = tx.MakeNamespace(n); err != nil {
			return in, err
		}
		in.NamespaceID = n.ID
		if c.Account.Admin {
			return in, nil
		}
		return in, tx.Give(record.Grant{GrantKey: record.GrantKey{AccountID: c.Account.ID, NamespaceID: n.ID}, Role: record.Owner, GrantedBy: c.Account.Name})
	})
	if errors.Is(err, record.ErrTaken) {
		return n, conflict("the namespace", n.Name)
	}
	return n, err
}

// onNamespace lays the change over a namespace, and says which columns and what.
func (p PlaceChange) onNamespace(n *record.Namespace) (columns []record.NamespaceColumn, said []string) {
	set(&n.Description, p.Description, record.NamespaceDescription, &columns, "description", &said)
	set(&n.Labels, p.Labels, record.NamespaceLabels, &columns, "labels", &said)
	set(&n.PushMakes, p.PushMakes, record.NamespacePushMakes, &columns, "who makes repositories by pushing", &said)
	set(&n.NewDescription, p.NewDescription, record.NamespaceNewDescription, &columns, "description of new repositories", &said)
	set(&n.NewLabels, p.NewLabels, record.NamespaceNewLabels, &columns, "labels of new repositories", &said)
	set(&n.LogPulls, p.LogPulls, record.NamespaceLogPulls, &columns, "whether pulls are logged", &said)
	if p.Open != nil {
		set(&n.Open, p.Open, record.NamespaceOpen, &columns, map[bool]string{true: "open to everybody", false: "closed to all but members"}[*p.Open], &said)
	}
	return columns, said
}

// onRepository lays the change over a repository, and says which columns and what.
func (p PlaceChange) onRepository(r *record.Repository) (columns []record.RepositoryColumn, said []string) {
	set(&r.Description, p.Description, record.RepositoryDescription, &columns, "description", &said)
	set(&r.Labels, p.Labels, record.RepositoryLabels, &columns, "labels", &said)
	if p.Visibility != nil {
		set(&r.Visibility, p.Visibility, record.RepositoryVisibility, &columns, map[record.Visibility]string{
			record.VisibilityOpen: "open to everybody", record.VisibilityClosed: "closed to all but members", record.VisibilityInherited: "open or closed as the namespace is",
		}[*p.Visibility], &said)
	}
	return columns, said
}

// namespace finds a namespace that the caller may manage.
func (a *Access) namespace(ctx context.Context, c Caller, name string) (record.Namespace, error) {
	place, err := CheckNamespace(name)
	if err != nil {
		return record.Namespace{}, err
	}
	// Found first: a right is never asked for one and used on another.
	n, err := a.records.View(ctx).Namespace(name)
	if err := passNotFound(err); err != nil {
		return n, err
	}
	if err := a.MayManage(ctx, c, place); err != nil {
		return n, err
	}
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", name)
	}
	return n, err
}

// repository finds a repository that the caller may manage.
func (a *Access) repository(ctx context.Context, c Caller, name string) (record.Repository, error) {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return record.Repository{}, err
	}
	r, err := a.records.Repository(ctx, parsed)
	if err := passNotFound(err); err != nil {
		return r, err
	}
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return r, err
	}
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	return r, err
}

// goneMeanwhile says that a place went between the question and the change.
func goneMeanwhile(what, name string, err error) error {
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "the %s %s was removed a moment ago", what, name)
	}
	return err
}

// mayManageRepository is MayManage for a name that means a repository even where
// it has one component.
func (a *Access) mayManageRepository(ctx context.Context, c Caller, name oci.Name) error {
	v, err := a.Verdict(ctx, c, name, Manage)
	if err != nil || v.Allowed {
		return err
	}
	return a.denied(c, string(name), "%s", v.Reason)
}

// ChangeNamespace changes a namespace: what is given of it, and nothing else.
func (a *Access) ChangeNamespace(ctx context.Context, c Caller, name string, change PlaceChange) error {
	n, err := a.namespace(ctx, c, name)
	if err != nil {
		return err
	}
	if err := change.check(); err != nil {
		return err
	}
	columns, said := change.onNamespace(&n)
	if change.Rename != nil {
		if _, err := CheckNamespace(*change.Rename); err != nil {
			return err
		}
		if err := a.admin(c, "rename namespaces"); err != nil {
			return err
		}
		said = append(said, "renamed to "+*change.Rename)
	}
	e := c.placeEvent(record.EventNamespaceChanged, oci.Name(name))
	e.Detail = strings.Join(said, ", ")
	err = a.onNamespace(ctx, c, e, n, func(tx *record.Tx, now record.Namespace) error {
		if err := tx.SaveNamespace(n, columns...); err != nil || change.Rename == nil {
			return err
		}
		return tx.RenameNamespace(now, *change.Rename)
	})
	if errors.Is(err, record.ErrTaken) {
		return conflict("the namespace", *change.Rename)
	}
	return err
}

// onNamespace changes a namespace that is there still, as it is now.
func (a *Access) onNamespace(ctx context.Context, c Caller, e record.Event, n record.Namespace, do func(*record.Tx, record.Namespace) error) error {
	e.NamespaceID = n.ID
	return a.change(ctx, c, e, func(tx *record.Tx) error {
		now, err := tx.LiveNamespace(n.ID)
		if err != nil {
			return goneMeanwhile("namespace", n.Name, err)
		}
		return do(tx, now)
	})
}

// onRepository changes a repository that is there still, as it is now.
func (a *Access) onRepository(ctx context.Context, c Caller, e record.Event, r record.Repository, do func(*record.Tx, record.Repository) error) error {
	return a.change(ctx, c, e.In(r), func(tx *record.Tx) error {
		now, err := tx.LiveRepository(r.ID)
		if err != nil {
			return goneMeanwhile("repository", string(r.Name), err)
		}
		return do(tx, now)
	})
}

// MakeRepository makes a repository ahead of its first push.
func (a *Access) MakeRepository(ctx context.Context, c Caller, name string, change PlaceChange) error {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return err
	}
	n, err := a.records.View(ctx).Namespace(parsed.Namespace())
	if err := passNotFound(err); err != nil {
		return err
	}
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here; make it first", parsed.Namespace())
	}
	if err := change.check(); err != nil {
		return err
	}
	err = a.changeIn(ctx, c, c.repositoryEvent(record.EventRepositoryMade, parsed), func(tx *record.Tx) (in record.Event, err error) {
		now, err := tx.LiveNamespace(n.ID)
		if err != nil || now.Name != n.Name {
			return in, errors.Join(goneMeanwhile("namespace", n.Name, record.ErrNotFound), passNotFound(err))
		}
		r := record.Repository{NamespaceID: now.ID, Name: parsed, Description: now.NewDescription, Labels: maps.Clone(now.NewLabels)}
		change.onRepository(&r)
		r, err = tx.MakeRepository(r)
		return in.In(r), err
	})
	if errors.Is(err, record.ErrTaken) {
		return conflict("the repository", name)
	}
	return err
}

func (c Caller) repositoryEvent(kind record.EventKind, name oci.Name) record.Event {
	e := c.Event(kind)
	e.Repository = name
	return e
}

// ChangeRepository changes a repository: what is given of it, and nothing else. A
// rename takes owner of both namespaces; clients know it by the new name alone from
// then on.
func (a *Access) ChangeRepository(ctx context.Context, c Caller, name string, change PlaceChange) error {
	r, err := a.repository(ctx, c, name)
	if err != nil {
		return err
	}
	if err := change.check(); err != nil {
		return err
	}
	columns, said := change.onRepository(&r)
	var renamed oci.Name
	if change.Rename != nil {
		if renamed, err = oci.ParseName(*change.Rename); err != nil {
			return err
		}
		if err := a.mayManageRepository(ctx, c, renamed); err != nil {
			return err
		}
		said = append(said, "renamed to "+*change.Rename)
	}
	e := c.repositoryEvent(record.EventRepositoryChanged, r.Name)
	e.Detail = strings.Join(said, ", ")
	err = a.onRepository(ctx, c, e, r, func(tx *record.Tx, now record.Repository) error {
		if err := tx.SaveRepository(r, columns...); err != nil || change.Rename == nil {
			return err
		}
		return tx.RenameRepository(now, renamed)
	})
	switch {
	case errors.Is(err, record.ErrTaken):
		return conflict("the repository", *change.Rename)
	case errors.Is(err, record.ErrNotFound):
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here; make it first", renamed.Namespace())
	}
	return err
}

// RemoveNamespace takes a namespace with all its repositories out of everybody's
// sight; it can be restored.
func (a *Access) RemoveNamespace(ctx context.Context, c Caller, name string) error {
	n, err := a.namespace(ctx, c, name)
	if err != nil {
		return err
	}
	return a.onNamespace(ctx, c, c.placeEvent(record.EventNamespaceRemoved, oci.Name(name)), n, func(tx *record.Tx, now record.Namespace) error {
		return tx.RemoveNamespace(now, c.actor())
	})
}

// RemoveRepository takes a repository out of everybody's sight; it can be restored.
func (a *Access) RemoveRepository(ctx context.Context, c Caller, name string) error {
	r, err := a.repository(ctx, c, name)
	if err != nil {
		return err
	}
	return a.onRepository(ctx, c, c.repositoryEvent(record.EventRepositoryRemoved, r.Name), r, func(tx *record.Tx, now record.Repository) error {
		return tx.RemoveRepository(now, c.actor())
	})
}

// RestoreNamespace brings a removed namespace back. As nobody has a role in what is
// removed, it takes a registry admin.
func (a *Access) RestoreNamespace(ctx context.Context, c Caller, name string) error {
	if err := a.admin(c, "restore namespaces"); err != nil {
		return err
	}
	return restored(name, a.changeIn(ctx, c, c.placeEvent(record.EventNamespaceRestored, oci.Name(name)), func(tx *record.Tx) (in record.Event, err error) {
		n, err := tx.RestoreNamespace(name, c.actor())
		in.NamespaceID = n.ID
		return in, err
	}))
}

// RestoreRepository brings a removed repository back: one of the namespace that has
// the name now.
func (a *Access) RestoreRepository(ctx context.Context, c Caller, name string) error {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return err
	}
	n, err := a.records.View(ctx).Namespace(parsed.Namespace())
	if err := passNotFound(err); err != nil {
		return err
	}
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	return restored(name, a.changeIn(ctx, c, c.repositoryEvent(record.EventRepositoryRestored, parsed), func(tx *record.Tx) (in record.Event, err error) {
		r, err := tx.RestoreRepository(n.ID, parsed, c.actor())
		return in.In(r), err
	}))
}

// RemovedPlaces returns what the caller could restore, the last first.
func (a *Access) RemovedPlaces(ctx context.Context, c Caller, limit int) ([]record.Removed, error) {
	all := c.Account.Admin && c.whole() || registryRole(a.records.Rights(), c.Account) == record.Owner && c.whole()
	rows, err := a.records.RemovedPlaces(ctx, all, c.Account.ID, limit)
	if err != nil || !c.Limited {
		return rows, err
	}
	return slices.DeleteFunc(rows, func(r record.Removed) bool { return !inScopes(c.Token.Scopes, r.Name, Manage) }), nil
}

func restored(name string, err error) error {
	switch {
	case errors.Is(err, record.ErrNotFound):
		return oci.Errorf(oci.CodeNameUnknown, "nothing of the name %s was removed, or its namespace is removed too", name)
	case errors.Is(err, record.ErrTaken):
		return oci.Errorf(oci.CodeInUse, "the name %s is taken by another one since; rename that one first", name)
	}
	return err
}

// MayPush says whether the caller may push to a repository, and what the push may
// make: it is made in the change that takes the push in, once all was checked.
func (a *Access) MayPush(ctx context.Context, c Caller, name oci.Name) (Verdict, error) {
	if c.covers(name, Push) && a.mayMakeByPush(c, name) {
		makes := record.Maker{Namespace: true, By: c.Account.Name}
		if !c.Account.Admin {
			makes.Account = c.Account.ID
		}
		return Verdict{Allowed: true, Known: true, Makes: makes}, nil
	}
	v, err := a.Verdict(ctx, c, name, Push)
	if err != nil || !v.Allowed {
		return v, err
	}
	if _, err := a.records.Repository(ctx, name); !errors.Is(err, record.ErrNotFound) {
		return v, err
	}
	rights := a.records.Rights()
	namespace, exists := rights.Namespace(name.Namespace())
	if !exists {
		return Verdict{Known: true, Reason: fmt.Sprintf("there is no namespace %s here, and pushes do not make namespaces; a registry admin can make it", name.Namespace())}, nil
	}
	role, _ := roleIn(rights, c.Account, name)
	if namespace.PushMakes != record.NoRole && role.Rank() >= namespace.PushMakes.Rank() {
		return v, nil
	}
	who := "nobody's pushes make"
	if namespace.PushMakes != record.NoRole {
		who = fmt.Sprintf("only the pushes of its %ss make", namespace.PushMakes)
	}
	givers, err := a.whoGives(ctx, name)
	return Verdict{Known: true, Reason: fmt.Sprintf("there is no repository %s here, and in the namespace %s %s repositories; %s can make it", name, name.Namespace(), who, givers)}, err
}

// Settings returns the registry's settings.
func (a *Access) Settings() record.Settings { return a.records.Rights().Settings() }

// ChangeSettings changes the registry's settings.
func (a *Access) ChangeSettings(ctx context.Context, c Caller, s record.Settings) error {
	if err := a.admin(c, "change the registry's settings"); err != nil {
		return err
	}
	e := c.Event(record.EventSettingsChanged)
	e.Detail = fmt.Sprintf("people make namespaces: %t, pushes make namespaces: %t", s.AccountsMakeNamespaces, s.PushMakesNamespaces)
	return a.change(ctx, c, e, func(tx *record.Tx) error { return tx.SaveSettings(s) })
}

// Team makes a namespace, a group of its people and the roles between them, in one step.
func (a *Access) Team(ctx context.Context, c Caller, name, description string, owners, writers []string) error {
	if err := a.admin(c, "make teams"); err != nil {
		return err
	}
	if _, err := CheckNamespace(name); err != nil {
		return err
	}
	if err := checkName("a group", name); err != nil {
		return err
	}
	var ids []int64
	for _, account := range slices.Concat(owners, writers) {
		found, err := a.account(account)
		if err != nil {
			return err
		}
		ids = append(ids, found.ID)
	}
	e := c.placeEvent(record.EventNamespaceMade, oci.Name(name))
	e.Detail = fmt.Sprintf("with the group %s (writer); owners: %s; others: %s", name, listed(owners, "nobody"), listed(writers, "nobody"))
	err := a.changeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		namespace, err := tx.MakeNamespace(record.Namespace{Name: name, Description: description, PushMakes: record.Writer})
		if err != nil {
			return in, err
		}
		in.NamespaceID = namespace.ID
		group, err := tx.MakeGroup(record.Group{Name: name, Description: description})
		if err != nil {
			return in, err
		}
		give := func(to record.GrantKey, role record.Role) error {
			to.NamespaceID = namespace.ID
			return tx.Give(record.Grant{GrantKey: to, Role: role, GrantedBy: c.Account.Name})
		}
		if err := give(record.GrantKey{GroupID: group.ID}, record.Writer); err != nil {
			return in, err
		}
		for i, id := range ids {
			if err := tx.Join(group.ID, id); err != nil {
				return in, err
			}
			if i >= len(owners) {
				continue
			}
			if err := give(record.GrantKey{AccountID: id}, record.Owner); err != nil {
				return in, err
			}
		}
		return in, nil
	})
	if errors.Is(err, record.ErrTaken) {
		return oci.Errorf(oci.CodeInUse, "there is a namespace or a group %s already", name)
	}
	return err
}

// listed names things in a sentence, with a word for none of them.
func listed(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}
