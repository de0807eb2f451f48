package registry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/erasing"
	"warthesis/internal/record/seals"
)

// Erasing is content that is to go at once and for good.
type Erasing struct {
	Digest oci.Digest
	// Twin is the digest of the same bytes by the other algorithm, "" where they are not
	// here.
	Twin oci.Digest
	// Size is in bytes, 0 where the content is not here.
	Size int64
	erasing.Plan
	// Sealed are the tags among those that go which are sealed.
	Sealed []*seals.Sealed
}

func (e Erasing) digests() []oci.Digest {
	if e.Twin == "" {
		return []oci.Digest{e.Digest}
	}
	return []oci.Digest{e.Digest, e.Twin}
}

// PlanErase says what would go of a namespace or, with 0, of the registry with content
// that is erased.
func (r *Registry) PlanErase(ctx context.Context, namespace int64, digest oci.Digest) (e Erasing, err error) {
	e.Digest = digest
	view := r.records.View(ctx)
	if err := r.planErase(view, &e, namespace); err != nil || namespace != 0 && len(e.Places) == 0 {
		// What others have must not show, not even by how long it takes to be read.
		return e, err
	}
	b, err := view.Blob(digest)
	if errors.Is(err, record.ErrNotFound) {
		return e, nil
	}
	if err != nil {
		return e, err
	}
	e.Size = b.Size
	if e.Twin, err = r.twin(ctx, b); err != nil {
		return e, err
	}
	return e, r.planErase(view, &e, namespace)
}

func (r *Registry) planErase(view record.View, e *Erasing, namespace int64) (err error) {
	if e.Plan, err = view.Erasing().Plan(namespace, e.digests()); err != nil {
		return err
	}
	e.Sealed = nil
	names := map[int64]erasing.Place{}
	for _, p := range e.Places {
		names[p.ID] = p
	}
	for _, m := range e.Images {
		in := names[m.RepositoryID]
		for _, t := range m.Tags {
			if !t.Live || in.Removed {
				continue
			}
			state, err := view.SealTagOf(m.RepositoryID, t.Name)
			if err != nil {
				return err
			}
			var sealed *seals.Sealed
			err = view.Seals(record.Repository{ID: in.ID, NamespaceID: in.NamespaceID, Name: in.Name}, int64(r.clock.Served())).Check(state)
			if errors.As(err, &sealed) {
				e.Sealed = append(e.Sealed, sealed)
			} else if err != nil {
				return err
			}
		}
	}
	return nil
}

// otherAlgorithm is the one of two.
func otherAlgorithm(of oci.Algorithm) oci.Algorithm {
	if of == oci.SHA256 {
		return oci.SHA512
	}
	return oci.SHA256
}

// twin reads content and returns its digest by the other algorithm, "" where it cannot be
// read whole.
func (r *Registry) twin(ctx context.Context, b record.Blob) (oci.Digest, error) {
	algorithm := otherAlgorithm(b.Digest.Algorithm())
	own, other := b.Digest.Algorithm().Hash(), algorithm.Hash()
	_, err := r.blobs.ReadThrough(placeOf(b), func(piece []byte) error {
		own.Write(piece)
		other.Write(piece)
		return ctx.Err()
	})
	if errors.Is(err, blob.ErrUnknown) || err == nil && fmt.Sprintf("%x", own.Sum(nil)) != b.Digest.Encoded() {
		return "", nil
	}
	return oci.Digest(fmt.Sprintf("%s:%x", algorithm, other.Sum(nil))), err
}

// EraseHow says how content is erased.
type EraseHow struct {
	// Mark is that of the plan that somebody has seen.
	Mark   string
	Reason string
	// OverSeals lets sealed tags go as well.
	OverSeals bool
	// May is asked in the change, and ends it by an error.
	May func(*record.Tx) error
}

// Erase takes content of a namespace or, with 0, of the registry at once and for good, with
// all that names it, and keeps it out from then on. It fails with CodeTagMoved where other
// things would go than were seen, and with CodeDenied where a tag is sealed.
func (r *Registry) Erase(ctx context.Context, namespace int64, digest oci.Digest, how EraseHow) (Erasing, error) {
	e, err := r.PlanErase(ctx, namespace, digest)
	if err != nil {
		return e, err
	}
	var places []blob.Place
	err = r.records.Update(ctx, "erase", func(tx *record.Tx) error {
		if err := how.May(tx); err != nil {
			return err
		}
		if err := r.planErase(tx.View, &e, namespace); err != nil {
			return err
		}
		if e.Mark() != how.Mark {
			return oci.Errorf(oci.CodeTagMoved, "other things would go than you were shown: something was pushed, moved or removed since; look again, and confirm that")
		}
		if len(e.Sealed) > 0 && !how.OverSeals {
			return e.Sealed[0]
		}
		ban := bans.Ban{Digest: digest, Twin: e.Twin, NamespaceID: namespace, Size: e.Size, Reason: how.Reason, BannedAt: tx.Now(), BannedBy: callerOf(ctx).AccountID}
		if _, err := tx.Bans().Add(ban); err != nil {
			return err
		}
		taken, err := tx.Erase(e.Plan, namespace, e.digests(), actor(ctx))
		if err != nil {
			return err
		}
		for _, p := range taken {
			places = append(places, blob.Place{Digest: p.Digest, Suffix: p.Place})
		}
		return logErased(ctx, tx, e, how.Reason)
	})
	if err != nil {
		return e, r.inWords(ctx, record.Repository{Name: firstName(e)}, err)
	}
	return e, r.forget(ctx, e, places)
}

func firstName(e Erasing) oci.Name {
	if len(e.Places) == 0 {
		return ""
	}
	return e.Places[0].Name
}

// logErased writes a line for each repository that lost something, and one for the ban
// where none did.
func logErased(ctx context.Context, tx *record.Tx, e Erasing, reason string) error {
	lost := map[int64]int{}
	for _, m := range e.Images {
		lost[m.RepositoryID]++
	}
	for _, p := range e.Places {
		line := event(ctx, record.EventErased, record.Repository{ID: p.ID, NamespaceID: p.NamespaceID, Name: p.Name})
		line.Digest, line.Detail = e.Digest, fmt.Sprintf("with %d images; %s", lost[p.ID], reason)
		if err := tx.Log(line); err != nil {
			return err
		}
	}
	if len(e.Places) > 0 {
		return nil
	}
	line := event(ctx, record.EventErased, record.Repository{})
	line.Digest, line.Detail = e.Digest, "it was not here, and is kept out from now on; "+reason
	return tx.Log(line)
}

// forget takes the bytes, wherever on the disk they are, and lets go of what is remembered
// of them. What names them is gone already.
func (r *Registry) forget(ctx context.Context, e Erasing, places []blob.Place) error {
	var errs []error
	for _, m := range e.Images {
		r.raw.Remove(m.Digest)
		r.looked.Remove(m.Digest)
	}
	for _, p := range places {
		r.checked.Remove(p)
		errs = append(errs, r.blobs.Take(p))
	}
	for _, digest := range e.digests() {
		r.raw.Remove(digest)
		r.looked.Remove(digest)
		if _, err := r.records.View(ctx).Blob(digest); !errors.Is(err, record.ErrNotFound) {
			// Other namespaces have it.
			continue
		}
		all, err := r.blobs.PlacesOf(digest)
		errs = append(errs, err, r.blobs.TakeAside(digest))
		for _, p := range all {
			errs = append(errs, r.blobs.Take(p))
		}
	}
	if err := errors.Join(errs...); err != nil {
		slog.Error("what was erased is in no record any more, and its file could not be taken", "digest", e.Digest, "error", err)
		return oci.Errorf(oci.CodeStorageFault, "it was erased from the records, and its file is still on the disk: %s; a sweep with  --unrecorded  takes it once that is mended", err)
	}
	return nil
}

// otherDigest returns the digest, by the other algorithm, of what comes with one to a
// namespace: "" where all bans there know both.
func (r *Registry) otherDigest(ctx context.Context, name oci.Name, digest oci.Digest, of func(oci.Algorithm) (oci.Digest, error)) (oci.Digest, error) {
	view := r.records.View(ctx)
	n, err := view.Namespace(name.Namespace())
	if err != nil && !errors.Is(err, record.ErrNotFound) {
		return "", err
	}
	has, err := view.Bans().HasUnpaired(n.ID)
	if err != nil || !has {
		return "", err
	}
	return of(otherAlgorithm(digest.Algorithm()))
}

// checkOther fails, in the change that accepts what came, where that is banned by its other
// digest.
func checkOther(tx *record.Tx, namespace int64, other oci.Digest) error {
	if other != "" {
		return tx.Bans().Check(namespace, other)
	}
	has, err := tx.Bans().HasUnpaired(namespace)
	if err == nil && has {
		err = oci.Errorf(oci.CodeTooManyRequests, "content was banned a moment ago, and what you send must be looked at for it; send it again")
	}
	return err
}
