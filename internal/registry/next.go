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

// Reservation is a tag name that is reserved for an account.
type Reservation struct {
	Tag       oci.Tag
	AccountID int64
	// Until is about when it ends: the time counts while the service runs.
	Until time.Time
}

// Reservations returns up to limit tag names that are reserved in a repository, behind one, in
// order. It fails with CodeNameUnknown.
func (r *Registry) Reservations(ctx context.Context, name oci.Name, after oci.Tag, limit int) ([]Reservation, error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return nil, err
	}
	served, now := int64(r.clock.Served()), r.clock.Now()
	rows, err := r.records.View(ctx).TagNames(found.ID, served).Reserved(after, limit)
	all := make([]Reservation, len(rows))
	for i, row := range rows {
		all[i] = Reservation{row.Name, row.HeldBy, now.Add(time.Duration(row.HeldUntil - served))}
	}
	return all, err
}

// ReleaseReservation ends the reservation of a tag name, so that anybody who may push can use
// it. It fails with CodeNameUnknown where there is none.
func (r *Registry) ReleaseReservation(ctx context.Context, name oci.Name, tag oci.Tag, owner func(account int64) string) error {
	found, err := r.repository(ctx, name)
	if err != nil {
		return err
	}
	return r.inLive(ctx, found, "release-tag-name", func(tx *record.Tx, found record.Repository) error {
		account, err := tx.TagNames(found.ID, tx.Served()).Release(tag)
		if err != nil {
			return err
		}
		if account == 0 {
			return oci.Errorf(oci.CodeNameUnknown, "the tag name %s is not reserved in %s", tag, name)
		}
		e := event(ctx, record.EventReservationReleased, found)
		e.Tag, e.Detail = tag, "it was reserved for "+owner(account)
		return tx.Log(e)
	})
}
