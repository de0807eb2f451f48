package record

import (
	"errors"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record/removals"
	"warthesis/internal/record/seen"
	"warthesis/internal/record/taglog"
)

// Removals are what was removed.
func (v View) Removals() removals.Records { return removals.Records{DB: v.db} }

// SeesRemovals is who asks for removals.
type SeesRemovals = removals.Sees

// ListRemovals returns a page of the removals that somebody could undo; the filter's Seen
// is set here.
func (v View) ListRemovals(f removals.Filter, by SeesRemovals) ([]removals.Row, error) {
	f.Seen = by.Condition(seen.Member)
	return v.Removals().List(f)
}

// Window returns for how long a removal can be undone: as its namespace has it, and at
// most as the registry does.
func (s Settings) Window(of time.Duration) time.Duration {
	if of == 0 {
		of = s.RestoreWindow
	}
	return max(min(of, s.RestoreWindow), s.floor())
}

// ErrUndone: the removal does not stand any more.
var ErrUndone = errors.New("it was undone already")

// ErrPlaceGone: the place in which something was removed is removed itself.
var ErrPlaceGone = errors.New("the place is removed itself")

// ErrWindow: the restore window is over.
var ErrWindow = errors.New("the restore window is over")

// Undone is what an undone removal brought back.
type Undone struct {
	Removal removals.Row
	// In is the repository, with the ID 0 where a namespace came back.
	In Repository
	// Tags have the names that they have now.
	Tags   []removals.Tag
	Images []removals.Image
}

// Undo brings back all that went by a removal, with all that this names, or nothing. Tags
// get other names by as, a repository or a namespace by name. It fails with ErrNotFound,
// ErrUndone, ErrPlaceGone, ErrWindow, *removals.TakenError, *removals.GoneError.
func (tx *Tx) Undo(id int64, as map[oci.Tag]oci.Tag, name string, by Actor) (u Undone, err error) {
	if u.Removal, err = tx.Removals().Get(id); errors.Is(err, removals.ErrNone) {
		err = ErrNotFound
	}
	row := u.Removal
	window := tx.store.Rights().Settings().Window(time.Duration(row.Window))
	switch {
	case err != nil:
		return u, err
	case row.UndoneAt != 0:
		return u, ErrUndone
	case row.OverAt != 0 || row.RemovedServed+int64(window) <= tx.Served():
		return u, ErrWindow
	}
	switch RemovalKind(row.Kind) {
	case RemovalOfNamespace:
		return u, errors.Join(tx.undoNamespace(row, name), tx.undo(id, by))
	case RemovalOfRepository:
		u.In, err = tx.undoRepository(row, name)
		return u, errors.Join(err, tx.undo(id, by))
	}
	u.In, err = tx.LiveRepository(row.RepositoryID)
	if errors.Is(err, ErrNotFound) {
		return u, ErrPlaceGone
	}
	if err != nil {
		return u, err
	}
	back := removals.Back{Records: tx.Removals(), RepositoryID: u.In.ID, By: taglog.Move{
		MovedAt: int64(tx.Now()), MovedServed: tx.Served(), MovedBy: by.Account, Token: by.Token, Origin: taglog.OriginUndo,
	}}
	u.Tags, u.Images, err = back.Undo(id, as)
	// Undoing is rare: what is remembered of tags, manifests and holdings goes as a whole.
	tx.forget = append(tx.forget, func(c *cache) {
		c.tags.Purge()
		c.manifests.Purge()
		c.holdings.Purge()
	})
	return u, errors.Join(err, tx.undo(id, by))
}

func (tx *Tx) undoNamespace(row removals.Row, name string) error {
	if name != "" && name != row.Namespace {
		return oci.Errorf(oci.CodeQueryInvalid, "a namespace comes back under its own name; rename the one that has it now, or this one afterwards")
	}
	n, err := one[Namespace](tx.db.Where("id = ? AND removed_at <> 0 AND gone_at = 0", row.NamespaceID))
	if err != nil {
		return err
	}
	if err := tx.namespaceMoves(n); err != nil {
		return err
	}
	err = taken(tx.db.Model(&Namespace{}).Where("id = ?", n.ID).Updates(map[string]any{"removed_at": 0, "removal_id": 0}).Error)
	if errors.Is(err, ErrTaken) {
		return &removals.TakenError{Name: n.Name}
	}
	return err
}

func (tx *Tx) undoRepository(row removals.Row, name string) (Repository, error) {
	r, err := one[Repository](tx.db.Where("id = ? AND removed_at <> 0 AND gone_at = 0", row.RepositoryID))
	if err != nil {
		return r, err
	}
	if _, err := tx.LiveNamespace(r.NamespaceID); err != nil {
		if errors.Is(err, ErrNotFound) {
			err = ErrPlaceGone
		}
		return r, err
	}
	if name != "" {
		if r.Name, err = oci.ParseName(name); err != nil {
			return r, err
		}
		if r.Name.Namespace() != row.Repository.Namespace() {
			return r, oci.Errorf(oci.CodeQueryInvalid, "the repository comes back in its namespace: the name begins with %s/", row.Repository.Namespace())
		}
	}
	tx.repositoryMoves(r)
	err = taken(tx.db.Model(&Repository{}).Where("id = ?", r.ID).Updates(map[string]any{"removed_at": 0, "removal_id": 0, "name": r.Name}).Error)
	if errors.Is(err, ErrTaken) {
		return r, &removals.TakenError{Name: string(r.Name)}
	}
	return r, err
}
