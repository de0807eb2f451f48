package access

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
)

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
	if err := a.MayManageRepository(ctx, c, parsed); err != nil {
		return r, err
	}
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	return r, err
}

// MayManageRepository is MayManage for a name that means a repository even where
// it has one component.
func (a *Access) MayManageRepository(ctx context.Context, c Caller, name oci.Name) error {
	v, err := a.Verdict(ctx, c, name, Manage)
	if err != nil || v.Allowed {
		return err
	}
	return a.Denied(c, string(name), "%s", v.Reason)
}

// onRepository changes a repository that is there still, as it is now.
func (a *Access) onRepository(ctx context.Context, c Caller, e record.Event, r record.Repository, do func(*record.Tx, record.Repository) error) error {
	return a.Change(ctx, c, e.In(r), func(tx *record.Tx) error {
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
	if err := a.MayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here; make it first", parsed.Namespace())
	}
	if err := change.check(a); err != nil {
		return err
	}
	err = a.ChangeIn(ctx, c, c.RepositoryEvent(record.EventRepositoryMade, parsed), func(tx *record.Tx) (in record.Event, err error) {
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

func (c Caller) RepositoryEvent(kind record.EventKind, name oci.Name) record.Event {
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
	if err := change.check(a); err != nil {
		return err
	}
	columns, said := change.onRepository(&r)
	var renamed oci.Name
	if change.Rename != nil {
		if renamed, err = oci.ParseName(*change.Rename); err != nil {
			return err
		}
		if err := a.MayManageRepository(ctx, c, renamed); err != nil {
			return err
		}
		said = append(said, "renamed to "+*change.Rename)
	}
	e := c.RepositoryEvent(record.EventRepositoryChanged, r.Name)
	e.Detail = strings.Join(said, ", ")
	leave := a.leaving(ctx, c, r, change.OverSeals, &e)
	if change.Rename == nil {
		leave = staying
	}
	err = leave(func(l seals.Leave) error {
		return a.onRepository(ctx, c, e, r, func(tx *record.Tx, now record.Repository) error {
			if err := tx.SaveRepository(r, columns...); err != nil || change.Rename == nil {
				return err
			}
			return tx.RenameRepository(now, renamed, l)
		})
	})
	switch {
	case errors.Is(err, record.ErrTaken):
		return conflict("the repository", *change.Rename)
	case errors.Is(err, record.ErrNotFound):
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here; make it first", renamed.Namespace())
	}
	return err
}

// RemoveRepository takes a repository out of everybody's sight; it can be restored.
func (a *Access) RemoveRepository(ctx context.Context, c Caller, name string, why Removing) (removal int64, err error) {
	r, err := a.repository(ctx, c, name)
	if err != nil {
		return 0, err
	}
	e := c.RepositoryEvent(record.EventRepositoryRemoved, r.Name)
	e.Detail = why.Reason
	leave := a.leaving(ctx, c, r, why.OverSeals, &e)
	return removal, leave(func(l seals.Leave) error {
		return a.onRepository(ctx, c, e, r, func(tx *record.Tx, now record.Repository) (err error) {
			removal, err = tx.RemoveRepository(now, why.by(c), l)
			return err
		})
	})
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
