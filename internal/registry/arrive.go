package registry

import (
	"context"
	"errors"
	"log/slog"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// arrival is content that came whole, with the digest that it has.
type arrival struct {
	// kind is what it comes for, for the figures.
	kind   string
	digest oci.Digest
	size   int64
	// isWhole says whether the copy that is here already is good.
	isWhole func(record.Blob) (bool, error)
	// place puts what came to a place of its own; drop lets go of it instead.
	place func() (blob.Place, error)
	drop  func()
	// accept does, in the change that records the content, what it came for.
	accept func(*record.Tx, record.Blob) error
}

// errGone: what was here when it was looked at is not any more.
var errGone = errors.New("the content went meanwhile")

// arrive records content that came, and does what it came for in the same change. A
// good copy that is here already stays and saves placing another; a damaged one gives
// way. What came is over afterwards, whatever the outcome.
func (r *Registry) arrive(ctx context.Context, a arrival) error {
	// That the sender has gone is no reason to forget what came.
	ctx = context.WithoutCancel(ctx)
	there, err := r.records.View(ctx).Blob(a.digest)
	known := err == nil
	if err != nil && !errors.Is(err, record.ErrNotFound) {
		a.drop()
		return err
	}
	if known {
		whole, err := a.isWhole(there)
		if err != nil {
			a.drop()
			return err
		}
		if whole {
			if err = r.records.Update(ctx, a.kind, a.touches(there)); !errors.Is(err, errGone) {
				a.drop()
				return err
			}
			known = false
		}
	}
	at, err := a.place()
	if err != nil {
		return err
	}
	defer r.blobs.Settle(at)
	placing := record.Placing{Digest: a.digest, Size: a.size, Place: at.Suffix, ChangedAt: r.placed(at)}
	if known {
		placing.Damaged = &there
	}
	var kept record.Blob
	err = r.records.Update(ctx, a.kind, func(tx *record.Tx) (err error) {
		if kept, err = tx.KeepBlob(placing); err != nil {
			return err
		}
		return a.accept(tx, kept)
	})
	switch {
	case err != nil || kept.Place != at.Suffix:
		r.takeUnrecorded(ctx, at)
	case known:
		r.takeUnrecorded(ctx, placeOf(there))
	}
	return err
}

func (a arrival) touches(there record.Blob) func(*record.Tx) error {
	return func(tx *record.Tx) error {
		kept, err := tx.TouchBlob(there)
		if errors.Is(err, record.ErrNotFound) {
			return errGone
		}
		if err != nil {
			return err
		}
		return a.accept(tx, kept)
	}
}

// takeUnrecorded takes content from a place that the records do not name: another one
// won, or the change was refused. Where they cannot be asked, the bytes stay.
func (r *Registry) takeUnrecorded(ctx context.Context, at blob.Place) {
	now, err := r.records.View(ctx).Blob(at.Digest)
	if err == nil && now.Place == at.Suffix || err != nil && !errors.Is(err, record.ErrNotFound) {
		return
	}
	if err := r.blobs.Take(at); err != nil {
		slog.Error("content that nothing names could not be taken, and stays until a sweep", "digest", at.Digest, "error", err)
	}
}
