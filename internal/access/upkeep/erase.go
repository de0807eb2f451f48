package upkeep

import (
	"context"
	"errors"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
)

// MayErase refuses whoever may not erase content of a namespace, which takes an owner, or
// with "" of the registry, which takes an admin, and returns the namespace by number.
func (u *Upkeep) MayErase(ctx context.Context, c access.Caller, namespace string, overSeals bool) (int64, error) {
	if overSeals || namespace == "" {
		what := "erase content of the registry; an owner names a namespace"
		if overSeals {
			what = "erase what sealed tags point to"
		}
		if err := u.Access.Admin(c, what); err != nil || namespace == "" {
			return 0, err
		}
	}
	key, missing := u.Access.Place(ctx, oci.Name(namespace))
	if err := u.Access.MayManage(ctx, c, oci.Name(namespace)); err != nil {
		return 0, err
	}
	return key.NamespaceID, missing
}

// StillMayErase asks in the change whether the caller is who it was, and the namespace
// there still.
func (u *Upkeep) StillMayErase(c access.Caller, namespace int64) func(*record.Tx) error {
	return func(tx *record.Tx) error {
		err := access.StillMay(tx, c)
		if err == nil && namespace != 0 {
			_, err = tx.LiveNamespace(namespace)
		}
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "the namespace was removed a moment ago")
		}
		return err
	}
}

// LiftBan ends a ban: of a namespace for its owners, of the registry for admins.
func (u *Upkeep) LiftBan(ctx context.Context, c access.Caller, id int64, reason string) error {
	ban, err := u.Records.View(ctx).Bans().Get(id)
	unknown := oci.Errorf(oci.CodeNameUnknown, "there is no ban %d that holds", id)
	if err != nil && !errors.Is(err, bans.ErrNone) {
		return err
	}
	none := err != nil
	if err := u.Access.Admin(c, "lift bans of the registry"); err != nil {
		if none || ban.NamespaceID == 0 {
			return err
		}
		if u.Access.MayManage(ctx, c, oci.Name(ban.Namespace)) != nil {
			return err
		}
	}
	if none {
		return unknown
	}
	e := c.Event(record.EventBanLifted)
	e.Digest, e.Detail = ban.Digest, reason
	err = u.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		in.NamespaceID = ban.NamespaceID
		return in, tx.Bans().Lift(id, tx.Now(), c.Account.ID)
	})
	if errors.Is(err, bans.ErrNone) {
		return unknown
	}
	return err
}
