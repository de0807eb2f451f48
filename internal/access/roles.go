package access

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Member names an account or a group.
type Member struct {
	Account string
	Group   string
}

// String says who it is, as people do.
func (m Member) String() string {
	if m.Group != "" {
		return "group " + m.Group
	}
	return "account " + m.Account
}

// SayPlace names a repository, a namespace or, with an empty name, the registry.
func SayPlace(place oci.Name) string {
	switch {
	case place == "":
		return "the registry"
	case strings.Contains(string(place), "/"):
		return "repository " + string(place)
	}
	return "namespace " + string(place)
}

// Place returns the key of a place for grants in it: a repository, a namespace or,
// with an empty name, the registry. It fails with oci.CodeNameUnknown.
func (a *Access) Place(ctx context.Context, place oci.Name) (record.GrantKey, error) {
	var k record.GrantKey
	switch {
	case place == "":
		return k, nil
	case strings.Contains(string(place), "/"):
		r, err := a.records.Repository(ctx, place)
		k.RepositoryID = r.ID
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here; make it first, so that the role has a place", place)
		}
		return k, err
	}
	n, err := a.records.View(ctx).Namespace(string(place))
	k.NamespaceID = n.ID
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", place)
	}
	return k, err
}

// onGrant changes the role of a member in a place. The place is found before the
// right is asked, and must be there still in the change.
func (a *Access) onGrant(ctx context.Context, c Caller, m Member, at oci.Name, e record.Event, do func(*record.Tx, record.GrantKey) error) error {
	key, missing := a.Place(ctx, at)
	if err := a.MayManage(ctx, c, at); err != nil {
		return err
	}
	if missing != nil {
		return missing
	}
	return a.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		if in, err = LivePlace(tx, key); err != nil {
			return in, goneMeanwhile("place", string(at), err)
		}
		if m.Group != "" {
			g, err := tx.Group(m.Group)
			if errors.Is(err, record.ErrNotFound) {
				return in, noGroup(m.Group)
			}
			key.GroupID = g.ID
			return in, errors.Join(err, do(tx, key))
		}
		account, err := tx.Account(m.Account)
		if errors.Is(err, record.ErrNotFound) {
			return in, noAccount(m.Account)
		}
		if err != nil {
			return in, err
		}
		key.AccountID = account.ID
		return in, do(tx, key)
	})
}

// LivePlace says where the place of a key is, or record.ErrNotFound.
func LivePlace(tx *record.Tx, k record.GrantKey) (in record.Event, err error) {
	if k.RepositoryID != 0 {
		r, err := tx.LiveRepository(k.RepositoryID)
		return in.In(r), err
	}
	if k.NamespaceID != 0 {
		n, err := tx.LiveNamespace(k.NamespaceID)
		in.NamespaceID = n.ID
		return in, err
	}
	return in, nil
}

// GiveRole gives an account or a group a role in a place; it replaces the one it
// had there.
func (a *Access) GiveRole(ctx context.Context, c Caller, m Member, place oci.Name, role record.Role) error {
	if role.Rank() == 0 {
		return oci.Errorf(oci.CodeQueryInvalid, "%q is no role; the roles are reader, writer, curator and owner", role)
	}
	e := c.PlaceEvent(record.EventRoleGranted, place)
	e.Detail = fmt.Sprintf("%s to %s", role, m)
	return a.onGrant(ctx, c, m, place, e, func(tx *record.Tx, k record.GrantKey) error {
		return tx.Give(record.Grant{GrantKey: k, Role: role, GrantedBy: c.Account.Name})
	})
}

// PlaceEvent starts a line of the audit log about a place.
func (c Caller) PlaceEvent(kind record.EventKind, place oci.Name) record.Event {
	e := c.Event(kind)
	if strings.Contains(string(place), "/") {
		e.Repository = place
	} else {
		e.Subject = SayPlace(place)
	}
	return e
}

// TakeRole takes the role that an account or a group has in a place.
func (a *Access) TakeRole(ctx context.Context, c Caller, m Member, place oci.Name) error {
	e := c.PlaceEvent(record.EventRoleTaken, place)
	e.Detail = "from " + m.String()
	return a.onGrant(ctx, c, m, place, e, func(tx *record.Tx, k record.GrantKey) error {
		err := tx.TakeRole(k)
		if errors.Is(err, record.ErrNotFound) {
			return oci.Errorf(oci.CodeNameUnknown, "%s has no role of its own in %s", m, SayPlace(place))
		}
		return err
	})
}
