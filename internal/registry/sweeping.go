package registry

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/turns"
	"warthesis/internal/record/unheld"
	"warthesis/internal/registry/touches"
)

// Grace is the served time for which what was touched stays, though nothing needs it.
func (r *Registry) Grace() time.Duration { return r.limits.Grace }

// Terms are by what things count as not needed now.
func (r *Registry) Terms() unheld.Terms {
	terms := r.records.Terms(r.limits.Grace)
	terms.Crashed = terms.Served < r.touches.Lost.Load()
	return terms
}

// Taken is what became of some findings.
type Taken struct {
	// Went has, for each, whether it is gone.
	Went []bool
	// Bytes are what is free on the disk since, Files how many files went.
	Bytes, Files int64
	// Held is how long the writer was held, Waited how others waited for that.
	Held   time.Duration
	Waited turns.Waited
}

// quietly runs a change that nobody waits for.
func (t *Taken) quietly(ctx context.Context, r *Registry, change func(*record.Tx) error) error {
	if err := r.records.Sound(); err != nil {
		return err
	}
	waited, err := r.records.UpdateQuietly(ctx, "sweep", func(tx *record.Tx) error {
		began := time.Now()
		defer func() { t.Held = max(t.Held, time.Since(began)) }()
		if err := change(tx); err != nil {
			return err
		}
		// What it decided by may have been damaged.
		return r.records.Sound()
	})
	t.Waited = t.Waited.Add(waited)
	return err
}

// TakeUnheld lets go of findings of one kind that may go still: their rows first, then
// their bytes. Of manifests and blobs the caller gives a few at a time; of a place, one.
//
// What went before an error went: the error leaves it marked. It fails with
// *record.DamagedError where the records are damaged.
func (r *Registry) TakeUnheld(ctx context.Context, found []unheld.Found, since *unheld.Recent) (t Taken, err error) {
	t.Went = make([]bool, len(found))
	if err := since.Follow(r.records.View(ctx).Unheld()); err != nil {
		return t, err
	}
	switch found[0].Kind {
	case unheld.Manifest:
		err = t.quietly(ctx, r, func(tx *record.Tx) error {
			clear(t.Went)
			for i, f := range found {
				if t.Went[i], err = tx.Unheld().TakeManifest(f.ID, r.Terms(), int64(tx.Now())); err != nil {
					return err
				}
			}
			return nil
		})
		err = t.orNothing(err)
		if err == nil {
			err = since.Kept(r.records.View(ctx).Unheld(), t.kept(found))
		}
	case unheld.Tag:
		ids := make([]int64, len(found))
		for i, f := range found {
			ids[i] = f.ID
		}
		err = t.quietly(ctx, r, func(tx *record.Tx) error {
			taken, err := tx.Unheld().TakeTags(ids, r.Terms(), int64(tx.Now()))
			mark(t.Went, ids, taken)
			return err
		})
		err = t.orNothing(err)
	case unheld.Holding:
		err = r.takeHoldings(ctx, found, since, &t)
	case unheld.Blob:
		err = r.takeBlobs(ctx, found, since, &t)
	case unheld.Repository:
		for i, f := range found {
			if t.Went[i], err = r.takeRepository(ctx, f.ID, &t); err != nil {
				break
			}
		}
	case unheld.Namespace:
		for i, f := range found {
			went := false
			one := t.quietly(ctx, r, func(tx *record.Tx) (err error) {
				if went, err = tx.Unheld().IsEmptyNamespace(f.ID, r.Terms()); err != nil || !went {
					return err
				}
				return tx.DropPlace(f.ID, 0)
			})
			t.Went[i], err = went && one == nil, errors.Join(err, one)
		}
	case unheld.Stray:
		err = r.takeStrays(ctx, found, &t)
	case unheld.Leftover:
		for i, f := range found {
			if err = r.blobs.TakeLeftover(f.Name); err != nil {
				break
			}
			t.Went[i] = true
			t.Bytes, t.Files = t.Bytes+f.Size, t.Files+1
		}
	}
	return t, err
}

// orNothing marks nothing where the change that deletes all failed.
func (t *Taken) orNothing(err error) error {
	if err != nil {
		clear(t.Went)
	}
	return err
}

// kept returns the IDs of findings that were not deleted.
func (t *Taken) kept(found []unheld.Found) (ids []int64) {
	for i, f := range found {
		if !t.Went[i] {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// mark notes which of the keys were taken.
func mark[K comparable](went []bool, keys, taken []K) {
	all := make(map[K]bool, len(taken))
	for _, key := range taken {
		all[key] = true
	}
	for i, key := range keys {
		went[i] = all[key]
	}
}

func (r *Registry) takeHoldings(ctx context.Context, found []unheld.Found, since *unheld.Recent, t *Taken) error {
	claims := make([]touches.Key, len(found))
	for i, f := range found {
		claims[i] = touches.Key{Repository: f.RepositoryID, Digest: f.Digest}
	}
	free, end := r.touches.Take(claims, int64(r.clock.Served()-r.limits.Grace))
	defer end()
	digests := make(map[unheld.Key]oci.Digest, len(found))
	keys, asked := make([]unheld.Key, len(found)), make([]unheld.Key, 0, len(found))
	for i, f := range found {
		keys[i] = unheld.Key{RepositoryID: f.RepositoryID, ContentID: f.ContentID}
		if free[i] {
			asked = append(asked, keys[i])
			digests[keys[i]] = f.Digest
		}
	}
	return t.orNothing(t.quietly(ctx, r, func(tx *record.Tx) error {
		taken, err := tx.Unheld().TakeHoldings(asked, r.Terms(), since, int64(tx.Now()))
		mark(t.Went, keys, taken)
		tx.ForgetHoldings(taken, digests)
		return err
	}))
}

func (r *Registry) takeBlobs(ctx context.Context, found []unheld.Found, since *unheld.Recent, t *Taken) error {
	contents := make(map[int64]oci.Digest, len(found))
	ids := make([]int64, len(found))
	for i, f := range found {
		contents[f.ContentID], ids[i] = f.Digest, f.ContentID
	}
	var places []unheld.Place
	err := t.quietly(ctx, r, func(tx *record.Tx) (err error) {
		places, err = tx.Unheld().TakeBlobs(contents, r.Terms(), since, int64(tx.Now()))
		return err
	})
	if err != nil {
		return err
	}
	taken := make([]int64, len(places))
	for i, p := range places {
		taken[i] = p.ContentID
		r.unlink(blob.Place{Digest: p.Digest, Suffix: p.Place}, p.Size, t)
	}
	mark(t.Went, ids, taken)
	return nil
}

// unlink takes the bytes of what no record names any more. Those that stay are found by
// the next sweep, as what no record names.
func (r *Registry) unlink(at blob.Place, size int64, t *Taken) {
	r.raw.Remove(at.Digest)
	r.checked.Remove(at)
	r.looked.Remove(at.Digest)
	if err := r.blobs.Take(at); err != nil {
		slog.Error("content that nothing needs could not be taken, and stays until the next sweep", "digest", at.Digest, "error", err)
		return
	}
	t.Bytes, t.Files = t.Bytes+size, t.Files+1
}

func (r *Registry) takeRepository(ctx context.Context, id int64, t *Taken) (gone bool, err error) {
	for !gone && err == nil {
		err = t.quietly(ctx, r, func(tx *record.Tx) (err error) {
			if gone, err = tx.Unheld().EmptyRepository(id, r.Terms()); err != nil || !gone {
				return err
			}
			return tx.DropPlace(0, id)
		})
		// Nothing that is sent there is taken any more.
		if errors.Is(err, unheld.ErrUploads) {
			err = r.endUploadsOf(ctx, id)
		}
	}
	if errors.Is(err, unheld.ErrWaits) {
		return false, nil
	}
	return gone, err
}

// takeStrays takes files first and rows then: a place that is settled and that no record
// names is never named again.
func (r *Registry) takeStrays(ctx context.Context, found []unheld.Found, t *Taken) (err error) {
	var gone []unheld.File
	for i, f := range found {
		at, file := blob.Place{Digest: f.Digest, Suffix: f.Name}, unheld.File{Digest: f.Digest, Place: f.Name}
		var may bool
		if may, err = r.records.View(ctx).Unheld().MayGo(file, r.Terms()); err != nil {
			break
		}
		if !may || !r.blobs.IsSettled(at) {
			continue
		}
		if err = r.records.Sound(); err == nil {
			err = r.blobs.Take(at)
		}
		if err != nil {
			break
		}
		t.Went[i] = true
		t.Bytes, t.Files = t.Bytes+f.Size, t.Files+1
		gone = append(gone, file)
	}
	if len(gone) == 0 {
		return err
	}
	return errors.Join(err, t.quietly(ctx, r, func(tx *record.Tx) error { return tx.Unheld().KeepStrays(nil, gone, int64(tx.Now()), tx.Served()) }))
}

// FinishRemovals notes of removals that cannot be undone any more that nothing is left of
// them.
func (r *Registry) FinishRemovals(ctx context.Context, breathe func() error) (t Taken, err error) {
	for after, more := int64(0), true; more && err == nil; {
		err = t.quietly(ctx, r, func(tx *record.Tx) (err error) {
			after, err = tx.Unheld().Finish(after, r.Terms(), int64(tx.Now()))
			return err
		})
		more = after != 0
		err = errors.Join(err, breathe())
	}
	return t, err
}

// Plan plans what goes in the place of the terms; see record.Store.PlanUnheld. It fails with
// *record.DamagedError, also where a table and its index disagree.
func (r *Registry) Plan(ctx context.Context, terms unheld.Terms, breathe func() error, each func(found []byte) error) (unheld.Sums, error) {
	if err := r.records.Sound(); err != nil {
		return unheld.Sums{}, err
	}
	sums, err := r.records.PlanUnheld(ctx, terms, breathe, each)
	var disputed *unheld.DisputedError
	if errors.As(err, &disputed) {
		r.records.ReportDamage(record.Damage{Table: disputed.Table, Index: disputed.Index, What: disputed.What})
	}
	if err == nil || disputed != nil {
		err = r.records.Sound()
	}
	return sums, err
}

// Space returns the bytes that are free on the disk, its size, and how many uploads leave
// free.
func (r *Registry) Space() (left, size, floor int64, err error) { return r.blobs.Space() }

// Leftovers returns the files of uploads that are over.
func (r *Registry) Leftovers(ctx context.Context) ([]unheld.Found, error) {
	left, err := r.blobs.Leftovers()
	if err != nil || len(left) == 0 {
		return nil, err
	}
	// Asked behind the list: an upload is recorded before it has a file.
	open, err := r.records.View(ctx).Quota().Open()
	for _, u := range open {
		delete(left, u.ID)
	}
	var found []unheld.Found
	for name, size := range left {
		found = append(found, unheld.Found{Kind: unheld.Leftover, Name: name, Size: size, Why: unheld.LeftBehind})
	}
	return found, err
}
