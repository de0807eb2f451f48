package access

import (
	"context"
	"errors"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
)

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
	if !a.mayMakeNamespace(c) || !c.Whole() {
		return n, a.Denied(c, "namespace "+name, "%s may not make namespaces: that takes a registry admin", c.Who())
	}
	if _, err := CheckNamespace(name); err != nil {
		return n, err
	}
	if err := change.check(a); err != nil {
		return n, err
	}
	change.onNamespace(&n)
	e := c.PlaceEvent(record.EventNamespaceMade, oci.Name(n.Name))
	err := a.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
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

// ChangeNamespace changes a namespace: what is given of it, and nothing else.
func (a *Access) ChangeNamespace(ctx context.Context, c Caller, name string, change PlaceChange) error {
	n, err := a.namespace(ctx, c, name)
	if err != nil {
		return err
	}
	if err := change.check(a); err != nil {
		return err
	}
	columns, said := change.onNamespace(&n)
	if change.Rename != nil {
		if _, err := CheckNamespace(*change.Rename); err != nil {
			return err
		}
		if err := a.Admin(c, "rename namespaces"); err != nil {
			return err
		}
		said = append(said, "renamed to "+*change.Rename)
	}
	e := c.PlaceEvent(record.EventNamespaceChanged, oci.Name(name))
	e.Detail = strings.Join(said, ", ")
	leave := a.leaving(ctx, c, record.Repository{NamespaceID: n.ID, Name: oci.Name(name)}, change.OverSeals, &e)
	if change.Rename == nil {
		leave = staying
	}
	err = leave(func(l seals.Leave) error {
		return a.onNamespace(ctx, c, e, n, func(tx *record.Tx, now record.Namespace) error {
			if err := tx.SaveNamespace(n, columns...); err != nil || change.Rename == nil {
				return err
			}
			return tx.RenameNamespace(now, *change.Rename, l)
		})
	})
	if errors.Is(err, record.ErrTaken) {
		return conflict("the namespace", *change.Rename)
	}
	return err
}

// onNamespace changes a namespace that is there still, as it is now.
func (a *Access) onNamespace(ctx context.Context, c Caller, e record.Event, n record.Namespace, do func(*record.Tx, record.Namespace) error) error {
	e.NamespaceID = n.ID
	return a.Change(ctx, c, e, func(tx *record.Tx) error {
		now, err := tx.LiveNamespace(n.ID)
		if err != nil {
			return goneMeanwhile("namespace", n.Name, err)
		}
		return do(tx, now)
	})
}

// RemoveNamespace takes a namespace with all its repositories out of everybody's
// sight; it can be restored.
func (a *Access) RemoveNamespace(ctx context.Context, c Caller, name string, why Removing) (removal int64, err error) {
	n, err := a.namespace(ctx, c, name)
	if err != nil {
		return 0, err
	}
	e := c.PlaceEvent(record.EventNamespaceRemoved, oci.Name(name))
	e.Detail = why.Reason
	leave := a.leaving(ctx, c, record.Repository{NamespaceID: n.ID, Name: oci.Name(name)}, why.OverSeals, &e)
	return removal, leave(func(l seals.Leave) error {
		return a.onNamespace(ctx, c, e, n, func(tx *record.Tx, now record.Namespace) (err error) {
			removal, err = tx.RemoveNamespace(now, why.by(c), l)
			return err
		})
	})
}
