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

func set[T any](target *T, value *T, what string, said *[]string) {
	if value != nil {
		*target = *value
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
func (a *Access) mayMakeNamespace(rights *record.Rights, c Caller) bool {
	return !c.Nobody() && (c.Account.Admin || rights.Settings.AccountsMakeNamespaces && c.Account.Kind == record.Person)
}

// MakeNamespace makes a namespace. Who is no registry admin becomes its owner.
func (a *Access) MakeNamespace(ctx context.Context, c Caller, name string, change PlaceChange) (record.Namespace, error) {
	n := record.Namespace{Name: name, PushMakes: record.Writer}
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return n, err
	}
	if !a.mayMakeNamespace(rights, c) || !c.whole() {
		return n, a.denied(c, "namespace "+name, "%s may not make namespaces: that takes a registry admin", c.who())
	}
	if _, err := CheckNamespace(name); err != nil {
		return n, err
	}
	return a.makeNamespace(ctx, c, n, change)
}

func (a *Access) makeNamespace(ctx context.Context, c Caller, n record.Namespace, change PlaceChange) (record.Namespace, error) {
	if err := change.check(); err != nil {
		return n, err
	}
	change.onNamespace(&n)
	e := c.placeEvent(record.EventNamespaceMade, oci.Name(n.Name))
	err := a.change(ctx, e, func(tx *record.Tx) (err error) {
		if n, err = tx.MakeNamespace(n); err != nil || c.Account.Admin {
			return err
		}
		return tx.Give(record.Grant{AccountID: c.Account.ID, NamespaceID: n.ID, Role: record.Owner, GrantedBy: c.Account.Name})
	})
	if errors.Is(err, record.ErrTaken) {
		return n, conflict("the namespace", n.Name)
	}
	return n, err
}

func (p PlaceChange) onNamespace(n *record.Namespace) (said []string) {
	set(&n.Description, p.Description, "description", &said)
	set(&n.Labels, p.Labels, "labels", &said)
	set(&n.PushMakes, p.PushMakes, "who makes repositories by pushing", &said)
	set(&n.NewDescription, p.NewDescription, "description of new repositories", &said)
	set(&n.NewLabels, p.NewLabels, "labels of new repositories", &said)
	set(&n.LogPulls, p.LogPulls, "whether pulls are logged", &said)
	if p.Open != nil {
		n.Open = *p.Open
		said = append(said, map[bool]string{true: "open to everybody", false: "closed to all but members"}[*p.Open])
	}
	return said
}

func (p PlaceChange) onRepository(r *record.Repository) (said []string) {
	set(&r.Description, p.Description, "description", &said)
	set(&r.Labels, p.Labels, "labels", &said)
	if p.Visibility != nil {
		r.Visibility = *p.Visibility
		said = append(said, map[record.Visibility]string{
			record.VisibilityOpen: "open to everybody", record.VisibilityClosed: "closed to all but members", record.VisibilityInherited: "open or closed as the namespace is",
		}[*p.Visibility])
	}
	return said
}

// namespace finds a namespace that the caller may manage.
func (a *Access) namespace(ctx context.Context, c Caller, name string) (record.Namespace, error) {
	place, err := CheckNamespace(name)
	if err != nil {
		return record.Namespace{}, err
	}
	if err := a.MayManage(ctx, c, place); err != nil {
		return record.Namespace{}, err
	}
	n, err := a.records.View(ctx).Namespace(name)
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
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return record.Repository{}, err
	}
	r, err := a.records.Repository(ctx, parsed)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	return r, err
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

// ChangeNamespace changes a namespace.
func (a *Access) ChangeNamespace(ctx context.Context, c Caller, name string, change PlaceChange) error {
	n, err := a.namespace(ctx, c, name)
	if err != nil {
		return err
	}
	if err := change.check(); err != nil {
		return err
	}
	said := change.onNamespace(&n)
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
	err = a.change(ctx, e, func(tx *record.Tx) error {
		if err := tx.SaveNamespace(n); err != nil || change.Rename == nil {
			return err
		}
		return tx.RenameNamespace(n, *change.Rename)
	})
	if errors.Is(err, record.ErrTaken) {
		return conflict("the namespace", *change.Rename)
	}
	return err
}

// MakeRepository makes a repository ahead of its first push.
func (a *Access) MakeRepository(ctx context.Context, c Caller, name string, change PlaceChange) error {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return err
	}
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	n, err := a.records.View(ctx).Namespace(parsed.Namespace())
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here; make it first", parsed.Namespace())
	}
	if err != nil {
		return err
	}
	if err := change.check(); err != nil {
		return err
	}
	r := record.Repository{NamespaceID: n.ID, Name: parsed, Description: n.NewDescription, Labels: maps.Clone(n.NewLabels)}
	change.onRepository(&r)
	err = a.change(ctx, c.repositoryEvent(record.EventRepositoryMade, parsed), func(tx *record.Tx) error {
		_, err := tx.MakeRepository(r)
		return err
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

// ChangeRepository changes a repository. A rename takes owner of both namespaces;
// clients know it by the new name alone from then on.
func (a *Access) ChangeRepository(ctx context.Context, c Caller, name string, change PlaceChange) error {
	r, err := a.repository(ctx, c, name)
	if err != nil {
		return err
	}
	if err := change.check(); err != nil {
		return err
	}
	said := change.onRepository(&r)
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
	err = a.change(ctx, e, func(tx *record.Tx) error {
		if err := tx.SaveRepository(r); err != nil || change.Rename == nil {
			return err
		}
		return tx.RenameRepository(r, renamed)
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
	return a.change(ctx, c.placeEvent(record.EventNamespaceRemoved, oci.Name(name)), func(tx *record.Tx) error {
		return tx.RemoveNamespace(n, c.Account.Name)
	})
}

// RemoveRepository takes a repository out of everybody's sight; it can be restored.
func (a *Access) RemoveRepository(ctx context.Context, c Caller, name string) error {
	r, err := a.repository(ctx, c, name)
	if err != nil {
		return err
	}
	return a.change(ctx, c.repositoryEvent(record.EventRepositoryRemoved, r.Name), func(tx *record.Tx) error {
		return tx.RemoveRepository(r, c.Account.Name)
	})
}

// RestoreNamespace brings a removed namespace back. As nobody has a role in what is
// removed, it takes a registry admin.
func (a *Access) RestoreNamespace(ctx context.Context, c Caller, name string) error {
	if err := a.admin(c, "restore namespaces"); err != nil {
		return err
	}
	return restored(name, a.change(ctx, c.placeEvent(record.EventNamespaceRestored, oci.Name(name)), func(tx *record.Tx) error {
		_, err := tx.RestoreNamespace(name)
		return err
	}))
}

// RestoreRepository brings a removed repository back.
func (a *Access) RestoreRepository(ctx context.Context, c Caller, name string) error {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return err
	}
	if err := a.mayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	return restored(name, a.change(ctx, c.repositoryEvent(record.EventRepositoryRestored, parsed), func(tx *record.Tx) error {
		_, err := tx.RestoreRepository(parsed)
		return err
	}))
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

// MayPush says whether the caller may push to a repository, and makes the namespace
// where the push is to make it. The repository itself is made by the push.
func (a *Access) MayPush(ctx context.Context, c Caller, name oci.Name) (Verdict, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Verdict{}, err
	}
	namespace, exists := rights.Namespaces[name.Namespace()]
	if !exists && c.covers(name, Push) && rights.Settings.PushMakesNamespaces && a.mayMakeNamespace(rights, c) && (!c.Limited || inScopes(c.Token.Scopes, string(name), Push)) {
		_, err := a.makeNamespace(ctx, c, record.Namespace{Name: name.Namespace(), PushMakes: record.Writer}, PlaceChange{})
		if err != nil && !errors.Is(err, oci.CodeInUse) {
			return Verdict{}, err
		}
		return Verdict{Allowed: true, Known: true}, nil
	}
	v, err := a.Verdict(ctx, c, name, Push)
	if err != nil || !v.Allowed {
		return v, err
	}
	if _, err := a.records.Repository(ctx, name); !errors.Is(err, record.ErrNotFound) {
		return v, err
	}
	if !exists {
		return Verdict{Known: true, Reason: fmt.Sprintf("there is no namespace %s here, and pushes do not make namespaces; a registry admin can make it", name.Namespace())}, nil
	}
	role, _ := roleIn(rights, c.Account, name)
	if namespace.PushMakes == record.NoRole || role.Rank() < namespace.PushMakes.Rank() {
		who := "nobody's pushes make"
		if namespace.PushMakes != record.NoRole {
			who = fmt.Sprintf("only the pushes of its %ss make", namespace.PushMakes)
		}
		return Verdict{Known: true, Reason: fmt.Sprintf("there is no repository %s here, and in the namespace %s %s repositories; %s can make it", name, name.Namespace(), who, whoGives(rights, name))}, nil
	}
	return v, nil
}

// Settings returns the registry's settings.
func (a *Access) Settings(ctx context.Context) (record.Settings, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return record.Settings{}, err
	}
	return rights.Settings, nil
}

// ChangeSettings changes the registry's settings.
func (a *Access) ChangeSettings(ctx context.Context, c Caller, s record.Settings) error {
	if err := a.admin(c, "change the registry's settings"); err != nil {
		return err
	}
	e := c.Event(record.EventSettingsChanged)
	e.Detail = fmt.Sprintf("people make namespaces: %t, pushes make namespaces: %t", s.AccountsMakeNamespaces, s.PushMakesNamespaces)
	return a.change(ctx, e, func(tx *record.Tx) error { return tx.SaveSettings(s) })
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
		found, err := a.account(ctx, account)
		if err != nil {
			return err
		}
		ids = append(ids, found.ID)
	}
	err := a.records.Update(ctx, func(tx *record.Tx) error {
		namespace, err := tx.MakeNamespace(record.Namespace{Name: name, Description: description, PushMakes: record.Writer})
		if err != nil {
			return err
		}
		group, err := tx.MakeGroup(record.Group{Name: name, Description: description})
		if err != nil {
			return err
		}
		grants := []record.Grant{{GroupID: group.ID, NamespaceID: namespace.ID, Role: record.Writer, GrantedBy: c.Account.Name}}
		for i, id := range ids {
			if err := tx.Join(group.ID, id); err != nil {
				return err
			}
			if i < len(owners) {
				grants = append(grants, record.Grant{AccountID: id, NamespaceID: namespace.ID, Role: record.Owner, GrantedBy: c.Account.Name})
			}
		}
		for _, g := range grants {
			if err := tx.Give(g); err != nil {
				return err
			}
		}
		e := c.placeEvent(record.EventNamespaceMade, oci.Name(name))
		e.Detail = fmt.Sprintf("with the group %s (writer); owners: %s; others: %s", name, listed(owners, "nobody"), listed(writers, "nobody"))
		return tx.Log(e)
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
