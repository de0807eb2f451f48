package registry

import (
	"context"
	"errors"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/tagnames"
	"warthesis/internal/rule"
)

// HoldNames is how long, in served time, a tag name is held for an account.
const HoldNames = 15 * time.Minute

// NextVersion returns the tag of the next version of a repository: behind all names that
// ever were a tag's there, removed ones too, or are held. It fails with CodeNameUnknown.
func (r *Registry) NextVersion(ctx context.Context, name oci.Name, step rule.Step) (oci.Tag, error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return "", err
	}
	return r.records.View(ctx).TagNames(found.ID, int64(r.clock.Served())).Next(step)
}

// HoldNextVersion is NextVersion that holds the name for the caller, who must be logged in:
// nobody else can make a tag of it, or is given it, for HoldNames. It fails with
// CodeNameUnknown, and with CodeTooManyRequests.
func (r *Registry) HoldNextVersion(ctx context.Context, name oci.Name, step rule.Step) (tag oci.Tag, until time.Time, err error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return "", until, err
	}
	err = r.inLive(ctx, found, "hold-tag-name", func(tx *record.Tx, found record.Repository) (err error) {
		names := tx.TagNames(found.ID, tx.Served())
		if tag, err = names.Next(step); err != nil {
			return err
		}
		until = tx.Now().Time().Add(HoldNames)
		return names.Hold(tag, callerOf(ctx).AccountID, tx.Served()+int64(HoldNames))
	})
	if errors.Is(err, tagnames.ErrMost) {
		err = oci.Errorf(oci.CodeTooManyRequests, "%d names of tags are held for you in %s, which is the most; push some, or wait until they are free", tagnames.Most, name)
	}
	return tag, until, err
}
