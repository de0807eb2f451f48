package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/removals"
)

// Bound says of what a quota is: of a namespace or an account in bytes, of a repository in
// tags.
type Bound struct {
	// Place is a namespace or a repository, Account an account instead.
	Place   oci.Name
	Account string
	// Most is the quota, 0 for none.
	Most   int64
	Reason string
}

// SetQuota sets a quota, which takes an admin: those of places are not for their owners.
func (u *Upkeep) SetQuota(ctx context.Context, c access.Caller, b Bound) error {
	if err := u.Access.Admin(c, "set quotas"); err != nil {
		return err
	}
	if err := access.CheckReason(b.Reason, true); err != nil {
		return err
	}
	if b.Most < 0 || (b.Place == "") == (b.Account == "") {
		return oci.Errorf(oci.CodeQueryInvalid, "a quota is of a namespace, of a repository or of an account, and at least 0, which is none")
	}
	e := c.Event(record.EventQuotaSet)
	key, err := u.Access.Place(ctx, b.Place)
	if b.Place != "" {
		if e = c.PlaceEvent(record.EventQuotaSet, b.Place); err != nil {
			return err
		}
	} else {
		e.Subject = "account " + b.Account
	}
	return u.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		of, id, most := quota.OfNamespace, key.NamespaceID, quota.Bytes(b.Most)
		switch {
		case b.Account != "":
			account, err := tx.Account(b.Account)
			if errors.Is(err, record.ErrNotFound) {
				err = oci.Errorf(oci.CodeNameUnknown, "there is no account %s here", b.Account)
			}
			if err != nil {
				return in, err
			}
			of, id = quota.OfAccount, account.ID
		case key.RepositoryID != 0:
			of, id, most = quota.OfRepository, key.RepositoryID, fmt.Sprintf("%d tags", b.Most)
		}
		if b.Account == "" {
			if in, err = access.LivePlace(tx, key); err != nil {
				return in, oci.Errorf(oci.CodeNameUnknown, "%s was removed a moment ago", b.Place)
			}
		}
		if in.Detail = b.Reason + ": at most " + most; b.Most == 0 {
			in.Detail = b.Reason + ": no quota"
		}
		return in, tx.Quota().Set(of, id, b.Most)
	})
}

// mostQuotas is how many quotas are listed.
const mostQuotas = 1000

// Quotas returns all quotas with what is used of them, the fullest first: for those with a
// role on the registry.
func (u *Upkeep) Quotas(ctx context.Context, c access.Caller) ([]quota.Use, error) {
	if err := u.Access.MaySeeRuns(c); err != nil {
		return nil, err
	}
	return u.Records.View(ctx).Quota().All(mostQuotas)
}

// MostEnded is how many removals are ended by one call.
const MostEnded = 1000

// EndWindows ends the restore windows of removals early, with a reason: what went by them
// cannot be brought back any more, and goes with the next sweep. It takes an owner of the
// place of each. It does all or none.
func (u *Upkeep) EndWindows(ctx context.Context, c access.Caller, ids []int64, reason string) error {
	if err := errors.Join(u.Access.AsLoggedIn(c), access.CheckReason(reason, true)); err != nil {
		return err
	}
	if len(ids) == 0 || len(ids) > MostEnded {
		return oci.Errorf(oci.CodeQueryInvalid, "the windows of 1 to %d removals are ended at once", MostEnded)
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	var rows []removals.Row
	for _, id := range ids {
		row, err := u.removalToEnd(ctx, c, id)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return u.Records.Update(ctx, "end-windows", func(tx *record.Tx) error {
		if err := access.StillMay(tx, c); err != nil {
			return err
		}
		for _, row := range rows {
			now, err := tx.Removals().Get(row.ID)
			if err != nil {
				return err
			}
			if now.UndoneAt != 0 {
				return oci.Errorf(oci.CodeInUse, "the removal %d was undone; nothing was ended", row.ID)
			}
			e := c.Event(record.EventWindowEnded)
			e.NamespaceID, e.RepositoryID, e.Repository = now.NamespaceID, now.RepositoryID, now.Repository
			e.Subject, e.Detail = fmt.Sprintf("removal %d", row.ID), reason
			if err := errors.Join(tx.Removals().EndWindow(row.ID, int64(tx.Now())), tx.Log(e)); err != nil {
				return err
			}
		}
		return nil
	})
}

// removalToEnd returns a removal whose window the caller may end; one that they may not know
// of looks like one that is not there.
func (u *Upkeep) removalToEnd(ctx context.Context, c access.Caller, id int64) (removals.Row, error) {
	row, err := u.Records.View(ctx).Removals().Get(id)
	if errors.Is(err, removals.ErrNone) {
		return row, oci.Errorf(oci.CodeNameUnknown, "there is no removal %d that %s may know of", id, c.Who())
	}
	if err == nil {
		err = u.mayDo(ctx, c, row, access.Manage)
	}
	if err == nil && row.UndoneAt != 0 {
		err = oci.Errorf(oci.CodeInUse, "the removal %d was undone; nothing was ended", id)
	}
	return row, err
}

// MaySeeUsage refuses whoever may not see how much a place holds: those who may push there
// may, and those with a role on the registry.
func (u *Upkeep) MaySeeUsage(ctx context.Context, c access.Caller, place oci.Name) error {
	if place == "" || u.Access.SeesRuns(c) {
		return u.Access.MaySeeRuns(c)
	}
	v, err := u.Access.Verdict(ctx, c, inside(place), access.Push)
	if err != nil || v.Allowed {
		return err
	}
	if !v.Known && !c.Nobody() {
		return u.Access.Denied(c, string(place), "there is no %s here that %s may know of", place, c.Who())
	}
	return u.Access.Denied(c, string(place), "%s may not see how much %s holds: that takes a role to push there, or one on the registry", c.Who(), place)
}

// seesUsage is MaySeeUsage of a namespace where nothing is refused.
func (u *Upkeep) seesUsage(ctx context.Context, c access.Caller, namespace oci.Name) bool {
	v, err := u.Access.Verdict(ctx, c, inside(namespace), access.Push)
	return err == nil && v.Allowed
}
