package registry

import (
	"context"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// target is where a push goes: into the repository that had the name when it began,
// whatever is called so when it ends, or into one that is to be made.
type target struct {
	name oci.Name
	// id is 0 where the name meant nothing.
	id int64
}

// target returns where a push to a name that begins now goes.
func (r *Registry) target(ctx context.Context, name oci.Name) (target, error) {
	found, err := r.records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = nil
	}
	return target{name, found.ID}, err
}

// namespaceOf returns the namespace that a push goes to, 0 for one that is not there.
func (r *Registry) namespaceOf(ctx context.Context, t target) (int64, error) {
	if t.id != 0 {
		found, err := r.records.Repository(ctx, t.name)
		if errors.Is(err, record.ErrNotFound) {
			err = nil
		}
		return found.NamespaceID, err
	}
	found, err := r.records.View(ctx).Namespace(t.name.Namespace())
	if errors.Is(err, record.ErrNotFound) {
		err = nil
	}
	return found.ID, err
}

// in returns the repository within the change that takes the push in, and makes it,
// with its namespace where the caller may, where there was none.
func (t target) in(ctx context.Context, tx *record.Tx) (record.Repository, error) {
	if t.id != 0 {
		there, err := tx.LiveRepository(t.id)
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed while this was on its way; an owner can restore it, then push again", t.name)
		}
		return there, err
	}
	c := callerOf(ctx)
	made, err := tx.EnsureRepository(t.name, c.Makes)
	if err != nil || !made.NewNamespace {
		return made.Repository, err
	}
	e := event(ctx, record.EventNamespaceMade, record.Repository{NamespaceID: made.NamespaceID})
	e.Subject = "namespace " + t.name.Namespace()
	return made.Repository, tx.Log(e)
}
