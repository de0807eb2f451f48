package upkeep

import (
	"context"
	"errors"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
)

// SealTag seals a tag by hand, with a reason; the caller may push and delete there.
func (u *Upkeep) SealTag(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string) error {
	return u.seal(ctx, c, name, tag, reason, record.EventTagSealed)
}

// UnsealTag takes the seal that a hand put on a tag away, with a reason; the caller may
// manage there.
func (u *Upkeep) UnsealTag(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string) error {
	return u.seal(ctx, c, name, tag, reason, record.EventTagUnsealed)
}

func (u *Upkeep) seal(ctx context.Context, c access.Caller, name oci.Name, tag oci.Tag, reason string, kind record.EventKind) error {
	if err := access.CheckReason(reason, true); err != nil {
		return err
	}
	in, err := u.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	if err != nil {
		return err
	}
	e := c.RepositoryEvent(kind, name).In(in)
	e.Tag, e.Detail = tag, reason
	return u.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		in, err := tx.LiveRepository(in.ID)
		if err != nil {
			return oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed a moment ago", name)
		}
		there, err := tx.SealTagOf(in.ID, tag)
		if errors.Is(err, record.ErrNotFound) {
			return oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no tag %s", name, tag)
		}
		if err != nil {
			return err
		}
		if kind == record.EventTagSealed {
			if there.SealedAt != 0 {
				return oci.Errorf(oci.CodeInUse, "the tag %s of %s is sealed by hand already (%s)", tag, name, there.SealReason)
			}
			return tx.SealTag(in, tag, reason, record.Actor{Account: c.Account.ID, Token: c.TokenName()})
		}
		if there.SealedAt == 0 {
			sealed := tx.Seals(in, tx.Served()).Check(there)
			var by *seals.Sealed
			if errors.As(sealed, &by) {
				return oci.Errorf(oci.CodeInUse, "nobody sealed the tag %s of %s by hand: %s; change that list, with a rule before it that frees the tag", tag, name, by.Verdict)
			}
			return oci.Errorf(oci.CodeInUse, "the tag %s of %s is not sealed", tag, name)
		}
		return tx.SealTag(in, tag, "", record.Actor{Account: c.Account.ID, Token: c.TokenName()})
	})
}
