package registry

import (
	"context"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry/touches"
)

// VouchBlob is StatBlob for a caller who may push, and who relies on the answer: what is
// there stays for the grace.
func (r *Registry) VouchBlob(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	if _, err := r.held(ctx, name, digest); err != nil {
		return 0, err
	}
	found, err := r.find(ctx, name)
	if err != nil {
		return 0, err
	}
	// Said first and asked again then: what goes in between is not there any more, and what
	// is asked for after it was said stays.
	r.touches.Say(touches.Key{Repository: found.ID, Digest: digest}, r.clock.Served(), r.limits.Grace)
	return r.StatBlob(ctx, name, digest)
}

// touchesAtOnce is how many touches one change writes.
const touchesAtOnce = 1000

// FlushTouches records what was said to be there.
func (r *Registry) FlushTouches() error {
	all := r.touches.Unwritten()
	for start := 0; start < len(all); start += touchesAtOnce {
		some := all[start:min(start+touchesAtOnce, len(all))]
		if err := r.records.Update(context.Background(), "touches", func(tx *record.Tx) error { return tx.Unheld().Touch(some) }); err != nil {
			return err
		}
		r.touches.Written(some)
	}
	return nil
}
