package access

import (
	"context"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// MakeGroup makes a group. claim is its name at the company's login, or "".
func (a *Access) MakeGroup(ctx context.Context, c Caller, name, description, claim string) (made record.Group, err error) {
	if err := a.Admin(c, "make groups"); err != nil {
		return made, err
	}
	if err := CheckName("a group", name); err != nil {
		return made, err
	}
	e := c.Event(record.EventGroupMade)
	e.Subject = "group " + name
	err = a.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeGroup(record.Group{Name: name, Description: description, Claim: claim})
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, conflict("the group", name)
	}
	return made, err
}

// ChangeGroup changes what is given of a group, and nothing else.
func (a *Access) ChangeGroup(ctx context.Context, c Caller, name string, description, claim *string) error {
	return a.onGroup(ctx, c, name, record.EventGroupChanged, "description or claim", func(tx *record.Tx, g record.Group) error {
		var columns []record.GroupColumn
		var said []string
		set(&g.Description, description, record.GroupDescription, &columns, "", &said)
		set(&g.Claim, claim, record.GroupClaim, &columns, "", &said)
		return tx.SaveGroup(g, columns...)
	})
}

// RemoveGroup removes a group, and with it the roles it gave.
func (a *Access) RemoveGroup(ctx context.Context, c Caller, name string) error {
	return a.onGroup(ctx, c, name, record.EventGroupRemoved, "", func(tx *record.Tx, g record.Group) error { return tx.RemoveGroup(g) })
}

// onGroup changes a group as it is within the change.
func (a *Access) onGroup(ctx context.Context, c Caller, name string, kind record.EventKind, detail string, do func(*record.Tx, record.Group) error) error {
	if err := a.Admin(c, "change groups"); err != nil {
		return err
	}
	e := c.Event(kind)
	e.Subject, e.Detail = "group "+name, detail
	return a.Change(ctx, c, e, func(tx *record.Tx) error {
		g, err := tx.Group(name)
		if errors.Is(err, record.ErrNotFound) {
			return noGroup(name)
		}
		if err != nil {
			return err
		}
		return do(tx, g)
	})
}

func noGroup(name string) error {
	return oci.Errorf(oci.CodeNameUnknown, "there is no group %s here", name)
}

// Join puts an account into a group.
func (a *Access) Join(ctx context.Context, c Caller, group, account string) error {
	return a.onMember(ctx, c, group, account, "joined by ", (*record.Tx).Join)
}

// Leave takes an account out of a group.
func (a *Access) Leave(ctx context.Context, c Caller, group, account string) error {
	return a.onMember(ctx, c, group, account, "left by ", (*record.Tx).Leave)
}

func (a *Access) onMember(ctx context.Context, c Caller, group, account, detail string, do func(tx *record.Tx, group, account int64) error) error {
	return a.onGroup(ctx, c, group, record.EventGroupChanged, detail+account, func(tx *record.Tx, g record.Group) error {
		member, err := tx.Account(account)
		if errors.Is(err, record.ErrNotFound) {
			return noAccount(account)
		}
		if err != nil {
			return err
		}
		return do(tx, g.ID, member.ID)
	})
}
