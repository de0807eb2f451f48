package registry

import (
	"context"
	"slices"
	"sync"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/unheld"
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
	return r.flushRight()
}

// mostRight bounds the files whose change times are still to be written.
const mostRight = 1 << 16

// right gathers files whose content was found right, until their change times are written:
// after a restart they need not be read again.
type right struct {
	mu  sync.Mutex
	all []unheld.Right
}

func (r *right) add(one unheld.Right) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.all) < mostRight {
		r.all = append(r.all, one)
	}
}

func (r *right) take() []unheld.Right {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := r.all
	r.all = nil
	return all
}

// flushRight records the change times of files that were found right. What can't be
// written is read again.
func (r *Registry) flushRight() error {
	for some := range slices.Chunk(r.right.take(), touchesAtOnce) {
		if err := r.records.Update(context.Background(), "touches", func(tx *record.Tx) error { return tx.Unheld().WereChecked(some) }); err != nil {
			return err
		}
	}
	return nil
}
