package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"

	"warthesis/internal/blob"
	"warthesis/internal/inspect"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/erasing"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/unheld"
)

// Erasing is content that is to go at once and for good.
type Erasing struct {
	Digest oci.Digest
	// Twin is the digest of the same bytes by the other algorithm, "" where they are not
	// here.
	Twin oci.Digest
	// Unpacked is the digest of a layer without its compression, "" where the content is not
	// here or can't be unpacked; UnpackedSize is its length in bytes.
	Unpacked     oci.Digest
	UnpackedSize int64
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
	if e.Twin != "" {
		e.Unpacked, e.UnpackedSize = r.unpackedOf(ctx, placeOf(b), mostUnpacked)
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

// mostUnpacked bounds what a layer is unpacked to when it is erased, in bytes.
const mostUnpacked = 64 << 30

// unpackedOf returns the digest and the size of what a blob unpacks to: "" where it can't be
// unpacked, or is longer than most bytes then.
func (r *Registry) unpackedOf(ctx context.Context, at blob.Place, most int64) (oci.Digest, int64) {
	f, _, err := r.blobs.Open(at)
	if err != nil {
		return "", 0
	}
	defer f.Close()
	d, size, err := inspect.UnpackedDigest(&untilDone{ctx: ctx, Reader: f}, most)
	if err != nil {
		return "", 0
	}
	return d, size
}

// untilDone reads until a context is done, and remembers why it could not be read.
type untilDone struct {
	ctx context.Context
	io.Reader
	failed error
}

func (r *untilDone) Read(p []byte) (n int, err error) {
	if err = r.ctx.Err(); err == nil {
		n, err = r.Reader.Read(p)
	}
	if err != nil && !errors.Is(err, io.EOF) {
		r.failed = err
	}
	return n, err
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
		ban := bans.Ban{Digest: digest, Twin: e.Twin, Unpacked: e.Unpacked, UnpackedSize: e.UnpackedSize, NamespaceID: namespace, Size: e.Size, Reason: how.Reason, BannedAt: tx.Now(), BannedBy: callerOf(ctx).AccountID}
		if _, err := tx.Bans().Add(ban); err != nil {
			return err
		}
		taken, err := tx.Erase(e.Plan, namespace, e.digests(), actor(ctx))
		if err != nil {
			return err
		}
		// The files are deleted after the commit: should that be cut, the next start does it.
		files := make([]unheld.File, len(taken))
		for i, p := range taken {
			files[i] = unheld.File{Digest: p.Digest, Place: p.Place, Size: p.Size}
		}
		if err := tx.Unheld().KeepErased(files, int64(tx.Now()), tx.Served()); err != nil {
			return err
		}
		return logErased(ctx, tx, e, how.Reason)
	})
	if err != nil {
		return e, r.inWords(ctx, record.Repository{Name: firstName(e)}, err)
	}
	return e, r.forget(ctx, e)
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

// forget deletes the bytes, wherever on the disk they are, and what is remembered of them.
// What names them is gone already.
func (r *Registry) forget(ctx context.Context, e Erasing) error {
	for _, m := range e.Images {
		r.raw.Remove(m.Digest)
		r.looked.Remove(m.Digest)
	}
	for _, digest := range e.digests() {
		r.raw.Remove(digest)
		r.looked.Remove(digest)
	}
	if err := r.ClearErased(context.WithoutCancel(ctx)); err != nil {
		slog.Error("erased content is in no record any longer, and its file could not be deleted", "digest", e.Digest, "error", err)
		return oci.Errorf(oci.CodeStorageFault, "the content was erased from the records, but its file could not be deleted: %s. The next start or sweep of the service tries again", err)
	}
	return nil
}

// erasedAtOnce is how many files or bans are looked up at a time.
const erasedAtOnce = 500

// ClearErased deletes the files of erased content, durably and without a window: those that an
// erasure left because it was cut, and every unrecorded file of a digest that is banned in the
// whole registry, wherever it came from.
func (r *Registry) ClearErased(ctx context.Context) error {
	view := r.records.View(ctx)
	for {
		files, err := view.Unheld().Erased(erasedAtOnce)
		if err != nil || len(files) == 0 {
			if err == nil {
				err = r.clearBanned(ctx)
			}
			return err
		}
		if err := r.takeErased(ctx, files); err != nil {
			return err
		}
		if _, err := r.records.UpdateQuietly(ctx, "erase", func(tx *record.Tx) error {
			return tx.Unheld().KeepStrays(nil, files, int64(tx.Now()), tx.Served())
		}); err != nil {
			return err
		}
	}
}

// takeErased deletes files that no record names.
func (r *Registry) takeErased(ctx context.Context, files []unheld.File) error {
	var places []blob.Place
	for _, f := range files {
		at := blob.Place{Digest: f.Digest, Suffix: f.Place}
		b, err := r.records.View(ctx).Blob(f.Digest)
		if err != nil && !errors.Is(err, record.ErrNotFound) {
			return err
		}
		if err == nil && b.Place == f.Place {
			continue
		}
		r.checked.Remove(at)
		places = append(places, at)
		if err != nil {
			if err := r.blobs.TakeAside(f.Digest); err != nil {
				return err
			}
		}
	}
	return r.blobs.TakeDurably(places)
}

// clearBanned deletes the unrecorded files of digests that are banned everywhere.
func (r *Registry) clearBanned(ctx context.Context) error {
	listed := map[blob.Folder][]blob.Place{}
	for after := int64(0); ; {
		all, err := r.records.View(ctx).Bans().Everywhere(after, erasedAtOnce)
		if err != nil || len(all) == 0 {
			return err
		}
		for _, ban := range all {
			for _, digest := range []oci.Digest{ban.Digest, ban.Twin} {
				if digest == "" {
					continue
				}
				if err := r.clearDigest(ctx, digest, listed); err != nil {
					return err
				}
			}
		}
		after = all[len(all)-1].ID
	}
}

func (r *Registry) clearDigest(ctx context.Context, digest oci.Digest, listed map[blob.Folder][]blob.Place) error {
	folder := blob.FolderOf(digest)
	places, known := listed[folder]
	if !known {
		var err error
		if places, err = r.blobs.List(folder); err != nil {
			return err
		}
		listed[folder] = places
	}
	files := []unheld.File{}
	for _, p := range places {
		if p.Digest == digest && r.blobs.IsSettled(p) {
			files = append(files, unheld.File{Digest: digest, Place: p.Suffix})
		}
	}
	if len(files) > 0 {
		if err := r.takeErased(ctx, files); err != nil {
			return err
		}
	}
	if _, err := r.records.View(ctx).Blob(digest); !errors.Is(err, record.ErrNotFound) {
		return err
	}
	return r.blobs.TakeAside(digest)
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

// unpacked is what a layer on its way in unpacks to.
type unpacked struct {
	// looked tells that bans of layers held in the namespace when it came, so that it was
	// unpacked; digest is "" where it can't be any of the banned ones.
	looked bool
	digest oci.Digest
}

// unpackedFor unpacks what comes to a namespace, where layers are banned there by what they
// unpack to: no further than the largest of these. known is its digest where it is here
// already, and was read against it.
func (r *Registry) unpackedFor(ctx context.Context, name oci.Name, known oci.Digest, open func() (blob.File, error)) (u unpacked, err error) {
	view := r.records.View(ctx)
	n, err := view.Namespace(name.Namespace())
	if err != nil && !errors.Is(err, record.ErrNotFound) {
		return u, err
	}
	most, err := view.Bans().MostUnpacked(n.ID)
	if err != nil || most < 0 {
		return u, err
	}
	u.looked = true
	key, there := unpacking{known, most}, false
	if u.digest, there = r.unpacked.Get(key); there && known != "" {
		return u, nil
	}
	f, err := open()
	if err != nil {
		return u, err
	}
	defer f.Close()
	from := &untilDone{ctx: ctx, Reader: f}
	// What can't be unpacked is no layer that was; what can't be read may be one.
	u.digest, _, _ = inspect.UnpackedDigest(from, most)
	if from.failed == nil && known != "" {
		r.unpacked.Add(key, u.digest)
	}
	return u, from.failed
}

// unpacking is what was unpacked, and no further than most bytes.
type unpacking struct {
	digest oci.Digest
	most   int64
}

// unpackedHere is unpackedFor content that is here.
func (r *Registry) unpackedHere(ctx context.Context, name oci.Name, b record.Blob) (unpacked, error) {
	return r.unpackedFor(ctx, name, b.Digest, func() (blob.File, error) {
		f, _, err := r.blobs.Open(placeOf(b))
		return f, err
	})
}

// check fails, in the change that accepts what came, where it is banned by what it unpacks
// to.
func (u unpacked) check(tx *record.Tx, namespace int64) error {
	if u.digest != "" {
		return tx.Bans().CheckUnpacked(namespace, u.digest)
	}
	if u.looked {
		return nil
	}
	most, err := tx.Bans().MostUnpacked(namespace)
	if err == nil && most >= 0 {
		err = oci.Errorf(oci.CodeTooManyRequests, "content was banned a moment ago, and what you send must be looked at for it; send it again")
	}
	return err
}
