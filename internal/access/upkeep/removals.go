package upkeep

import (
	"context"
	"errors"
	"fmt"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/removals"
)

func neverRemoved(name string, err error) error {
	if errors.Is(err, removals.ErrNone) || errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "nothing of the name %s was removed, or its namespace is removed too", name)
	}
	return err
}

// SeesRemovals says which removals the caller could undo.
func (u *Upkeep) SeesRemovals(c access.Caller) record.SeesRemovals {
	role := access.RegistryRole(u.Records.Rights(), c.Account)
	by := record.SeesRemovals{Account: c.Account.ID}
	if c.Whole() {
		by.All = c.Account.Admin || role == record.Owner
		by.Curates = role.Rank() >= record.Curator.Rank()
	}
	return by
}

// MayUndo refuses whoever may not undo a removal: of a namespace it takes an admin, of a
// repository an owner of the namespace, of all else a curator.
func (u *Upkeep) MayUndo(ctx context.Context, c access.Caller, row removals.Row) error {
	return u.mayDo(ctx, c, row, access.Delete)
}

// mayDo refuses whoever may not do something to a removal, which takes a right in its
// repository.
func (u *Upkeep) mayDo(ctx context.Context, c access.Caller, row removals.Row, action access.Action) error {
	may, reason, err := u.judge(ctx, c, row, action)
	switch {
	case err != nil || may:
		return err
	case reason != "":
		return u.Access.Denied(c, string(row.Repository), "%s", reason)
	}
	return oci.Errorf(oci.CodeNameUnknown, "there is no removal %d that %s may know of", row.ID, c.Who())
}

// CanUndo is MayUndo for lists: nothing is refused, and nothing logged.
func (u *Upkeep) CanUndo(ctx context.Context, c access.Caller, row removals.Row) bool {
	may, _, err := u.judge(ctx, c, row, access.Delete)
	return err == nil && may
}

// judge says whether the caller may do something to a removal, which takes a right in its
// repository, or, where it may know of it, which right is missing.
func (u *Upkeep) judge(ctx context.Context, c access.Caller, row removals.Row, action access.Action) (may bool, reason string, err error) {
	name, ofContent := row.Repository, true
	switch kind := record.RemovalKind(row.Kind); {
	case kind == record.RemovalOfNamespace, row.NamespaceGone, row.RepositoryGone && kind != record.RemovalOfRepository:
		return c.Account.Admin && c.Whole(), "", nil
	case kind == record.RemovalOfRepository:
		// By the namespace: another repository may have the name by now, and roles of its own.
		name, action, ofContent = oci.Name(row.Namespace+"/"), access.Manage, false
	}
	v, err := u.Access.Verdict(ctx, c, name, action)
	if v.Known && ofContent {
		reason = v.Reason
	}
	return v.Allowed, reason, err
}

// Undo brings back all that went by a removal, as a whole or not at all. Tags get other
// names by as, a repository by name. The caller may undo it.
func (u *Upkeep) Undo(ctx context.Context, c access.Caller, id int64, as map[oci.Tag]oci.Tag, name string) (record.Undone, error) {
	row, err := u.Records.View(ctx).Removals().Get(id)
	if err != nil {
		return record.Undone{}, u.undoInWords(ctx, row, err)
	}
	if err := u.MayUndo(ctx, c, row); err != nil {
		return record.Undone{}, err
	}
	kind := record.RemovalKind(row.Kind)
	e := c.RepositoryEvent(record.EventRemovalUndone, row.Repository)
	e.Detail = fmt.Sprintf("the removal %d of the %s %s", row.ID, row.Kind, row.Name)
	switch {
	case kind == record.RemovalOfNamespace:
		e = c.PlaceEvent(record.EventNamespaceRestored, oci.Name(row.Namespace))
	case kind == record.RemovalOfRepository:
		e.Kind, e.Detail = record.EventRepositoryRestored, ""
	case name != "":
		return record.Undone{}, oci.Errorf(oci.CodeQueryInvalid, "another name is for a repository; give tags other names one by one")
	}
	if len(as) > 0 && (kind == record.RemovalOfNamespace || kind == record.RemovalOfRepository) {
		return record.Undone{}, oci.Errorf(oci.CodeQueryInvalid, "other names of tags are for removals of tags and images")
	}
	var done record.Undone
	err = u.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		if done, err = tx.Undo(id, as, name, c.Actor()); err != nil {
			return in, err
		}
		in.NamespaceID = row.NamespaceID
		if done.In.ID != 0 {
			in = in.In(done.In)
		}
		for _, t := range done.Tags {
			back := c.RepositoryEvent(record.EventTagAdded, done.In.Name).In(done.In)
			back.Tag, back.Digest, back.Detail = t.Name, t.Digest, fmt.Sprintf("by undoing the removal %d", row.ID)
			if err := tx.Log(back); err != nil {
				return in, err
			}
		}
		return in, nil
	})
	return done, u.undoInWords(ctx, row, err)
}

// undoInWords says why a removal cannot be undone.
func (u *Upkeep) undoInWords(ctx context.Context, row removals.Row, err error) error {
	var taken *removals.TakenError
	var gone *removals.GoneError
	switch {
	case errors.Is(err, removals.ErrNone), errors.Is(err, record.ErrNotFound):
		return oci.Errorf(oci.CodeNameUnknown, "there is no such removal")
	case errors.Is(err, record.ErrUndone):
		return oci.Errorf(oci.CodeInUse, "the removal %d was undone already", row.ID)
	case errors.Is(err, record.ErrPlaceGone):
		return oci.Errorf(oci.CodeInUse, "the place in which this was, %s, is removed itself; undo that removal first", row.Place())
	case errors.Is(err, record.ErrWindow):
		return oci.Errorf(oci.CodeQueryInvalid, "the restore window of the removal %d is over; it cannot be undone any more", row.ID)
	case errors.As(err, &taken) && taken.Name != "":
		return oci.Errorf(oci.CodeInUse, "the name %s is taken by another one since; give another name, or rename that one first", taken.Name)
	case errors.As(err, &taken):
		return u.takenInWords(ctx, row, taken)
	case errors.As(err, &gone) && gone.Of != "":
		return oci.Errorf(oci.CodeManifestUnknown, "nothing was brought back: %s, which %s names, is not here any more", gone.Digest, gone.Of)
	case errors.As(err, &gone):
		return oci.Errorf(oci.CodeManifestUnknown, "nothing was brought back: %s is not here any more", gone.Digest)
	case errors.Is(err, removals.ErrClosure):
		return oci.Errorf(oci.CodeQueryInvalid, "nothing was brought back: %s", err)
	}
	return err
}

// RestoreNamespace brings back the namespace of a name that was removed last. As nobody
// has a role in what is removed, it takes a registry admin.
func (u *Upkeep) RestoreNamespace(ctx context.Context, c access.Caller, name string) error {
	if err := u.Access.Admin(c, "restore namespaces"); err != nil {
		return err
	}
	id, err := u.Records.View(ctx).Removals().Last(0, name)
	if err != nil {
		return neverRemoved(name, err)
	}
	_, err = u.Undo(ctx, c, id, nil, "")
	return err
}

// RestoreRepository brings back the repository of a name that was removed last: one of
// the namespace that has the name now.
func (u *Upkeep) RestoreRepository(ctx context.Context, c access.Caller, name string) error {
	parsed, err := oci.ParseName(name)
	if err != nil {
		return err
	}
	n, err := u.Records.View(ctx).Namespace(parsed.Namespace())
	if err := notMissing(err); err != nil {
		return err
	}
	if err := u.Access.MayManageRepository(ctx, c, parsed); err != nil {
		return err
	}
	id := int64(0)
	if err == nil {
		id, err = u.Records.View(ctx).Removals().Last(n.ID, name)
	}
	if err != nil {
		return neverRemoved(name, err)
	}
	if _, err = u.Undo(ctx, c, id, nil, ""); errors.Is(err, oci.CodeNameUnknown) {
		// Who may not know of that removal is told as if there were none.
		err = neverRemoved(name, record.ErrNotFound)
	}
	return err
}

// Taken is the detail of a refusal with CodeInUse: a tag whose name is taken.
type Taken struct {
	Tag oci.Tag `json:"tag"`
	// Was is what went, Is what the name points to now.
	Was oci.Digest `json:"was"`
	Is  oci.Digest `json:"is"`
	// Offer is a name that is free.
	Offer oci.Tag `json:"offer"`
}

func (u *Upkeep) takenInWords(ctx context.Context, row removals.Row, taken *removals.TakenError) error {
	detail := make([]Taken, 0, len(taken.Tags))
	for _, t := range taken.Tags {
		offer, err := u.Records.View(ctx).Removals().Offer(row.RepositoryID, t.Name)
		if err != nil {
			return err
		}
		detail = append(detail, Taken{t.Name, t.Digest, t.Now, offer})
		if len(detail) == mostTaken {
			break
		}
	}
	first := detail[0]
	said := fmt.Sprintf("the tag %s points to %s now, and not to what went", first.Tag, first.Is)
	if more := len(taken.Tags) - 1; more > 0 {
		said += fmt.Sprintf(", and %d more names are taken", more)
	}
	return &oci.Error{Code: oci.CodeInUse, Message: fmt.Sprintf("nothing was brought back: %s; take another name, as %s", said, first.Offer), Detail: detail}
}

// mostTaken is how many taken names a refusal tells.
const mostTaken = 100

func notMissing(err error) error {
	if errors.Is(err, record.ErrNotFound) {
		return nil
	}
	return err
}
