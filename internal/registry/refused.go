package registry

import (
	"context"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
	"warthesis/internal/registry/inwords"
)

// inWords says why a name could not be used, or a tag not be changed.
func (r *Registry) inWords(ctx context.Context, in record.Repository, err error) error {
	return inwords.Of(ctx, r.records, int64(r.clock.Served()), in, err)
}

// checkSeals refuses a push that would move a sealed tag before its bytes are kept; what
// counts is the same question inside the change.
func (r *Registry) checkSeals(ctx context.Context, to target, tags []oci.Tag, digest oci.Digest) error {
	if to.id == 0 {
		return nil
	}
	view := r.records.View(ctx)
	for _, tag := range tags {
		is, err := r.records.TagTarget(ctx, to.id, tag)
		if errors.Is(err, record.ErrNotFound) || err == nil && is == digest {
			continue
		}
		if err != nil {
			return err
		}
		in, err := view.LiveRepository(to.id)
		if err != nil {
			// The change says what became of it.
			return nil
		}
		state, err := view.SealTagOf(to.id, tag)
		if errors.Is(err, record.ErrNotFound) {
			continue
		}
		if err == nil {
			err = view.Seals(in, int64(r.clock.Served())).Check(state)
		}
		if err != nil {
			return r.inWords(ctx, in, err)
		}
	}
	return nil
}

// WhySealed says by which rule a tag is sealed, or by whom.
func (r *Registry) WhySealed(s *seals.Sealed) string { return r.records.WhySealed(s) }
