package registry

import (
	"context"
	"errors"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry/reserve"
)

// Known is a manifest of a peer: it is kept though what it names is not all here.
type Known struct {
	Name oci.Name
	// Tag is pointed at it, "" for none, where Ask says so in the change.
	Tag       oci.Tag
	Digest    oci.Digest
	MediaType string
	Raw       []byte
	// Origin says from where it comes, for the tag log.
	Origin record.Origin
	// Ask decides in the change whether the tag is pointed at the manifest; nil is yes. Note
	// writes, in the same change, what is to be remembered.
	Ask  func(*record.Tx, record.Repository) (bool, error)
	Note func(*record.Tx, record.Repository) error
}

// KeepKnown keeps a manifest of a peer byte for byte, and points the tag at it. It fails with
// CodeManifestInvalid, CodeDigestInvalid, and CodeDenied where the tag is sealed, or the
// content banned.
func (r *Registry) KeepKnown(ctx context.Context, k Known) (record.Manifest, error) {
	if int64(len(k.Raw)) > r.limits.ManifestBytes {
		return record.Manifest{}, oci.Errorf(oci.CodeManifestTooLarge, "the peer's manifest is larger than the %d KiB that this registry takes", r.limits.ManifestBytes>>10)
	}
	parsed, err := oci.ParseManifest(k.MediaType, k.Raw)
	if err == nil {
		_, err = checkedDigest(ManifestPush{Digest: k.Digest, Raw: k.Raw})
	}
	if err != nil {
		return record.Manifest{}, err
	}
	to, err := r.target(ctx, k.Name)
	if err != nil {
		return record.Manifest{}, err
	}
	row := record.Manifest{
		Digest: k.Digest, MediaType: parsed.MediaType, ArtifactType: parsed.ArtifactType, Size: int64(len(k.Raw)), ContentSize: int64(len(k.Raw)), Annotations: parsed.Annotations,
	}
	if parsed.Subject != nil {
		row.Subject = parsed.Subject.Digest
	}
	var needed []oci.Digest
	for _, e := range parsed.Edges() {
		if e.Relation != oci.RelationSubject && !oci.IsNonDistributable(e.MediaType) {
			needed, row.ContentSize = append(needed, e.Digest), row.ContentSize+e.Size
		}
	}
	other, err := r.otherDigest(ctx, k.Name, k.Digest, func(by oci.Algorithm) (oci.Digest, error) { return oci.DigestOf(by, k.Raw), nil })
	if err != nil {
		return record.Manifest{}, err
	}
	var unpacked []oci.Digest
	row.Platforms, row.Labels, unpacked = r.readConfig(ctx, k.Name, parsed)
	err = r.arrive(ctx, arrival{
		kind: "fetch-manifest", digest: k.Digest, size: row.Size, isWhole: r.isRight,
		place: func() (blob.Place, error) { return r.blobs.PlaceBytes(newID(), k.Digest, k.Raw) }, drop: func() {},
		accept: func(tx *record.Tx, document record.Blob) (err error) {
			in, err := to.in(ctx, tx)
			if err == nil {
				err = errors.Join(checkOther(tx, in.NamespaceID, other), tx.Bans().CheckUnpacked(in.NamespaceID, unpacked...))
			}
			if err != nil {
				return err
			}
			row, err = k.accept(ctx, tx, in, row, document, parsed.Edges(), needed)
			return err
		},
	})
	return row, r.inWords(ctx, record.Repository{ID: to.id, Name: k.Name}, err)
}

func (k Known) accept(ctx context.Context, tx *record.Tx, in record.Repository, row record.Manifest, document record.Blob, named []oci.Edge, needed []oci.Digest) (record.Manifest, error) {
	kept, err := tx.KeepManifest(in, row, document, named)
	if err != nil {
		return row, err
	}
	if kept.Missing, err = tx.Follows().Lacks(in.ID, kept.ID, needed); err != nil {
		return kept, err
	}
	if err := tx.Follows().Weigh(kept.ID); err != nil {
		return kept, err
	}
	fetched := event(ctx, record.EventFetched, in)
	fetched.Digest, fetched.Detail = kept.Digest, "from the peer "+string(k.Origin)
	if err := tx.Log(fetched); err != nil {
		return kept, err
	}
	moves := k.Tag != ""
	if moves && k.Ask != nil {
		if moves, err = k.Ask(tx, in); err != nil {
			return kept, err
		}
	}
	if moves {
		by := actor(ctx)
		by.Origin = k.Origin
		err = moveTag(ctx, tx, in, k.Tag, kept, by, record.EventTagMoved)
	} else {
		err = tx.SettleTags(kept)
	}
	if err == nil && k.Note != nil {
		err = k.Note(tx, in)
	}
	return kept, err
}

// Fetch is content of a peer on its way in.
type Fetch struct {
	*blob.Upload
	registry *Registry
	to       target
	id       string
	peer     int64
}

// BeginFetch begins to take content of a peer, by its number, into a repository, of a size in
// bytes. It fails with CodeStorageFull and with *quota.Exceeded.
func (r *Registry) BeginFetch(ctx context.Context, peer int64, name oci.Name, digest oci.Digest, size int64) (*Fetch, error) {
	to, err := r.target(ctx, name)
	if err != nil {
		return nil, err
	}
	if size > r.limits.BlobBytes {
		return nil, tooLarge(r.limits.BlobBytes)
	}
	f := &Fetch{registry: r, to: to, id: newID(), peer: peer}
	namespace, err := r.namespaceOf(ctx, to)
	if err == nil && r.adds(ctx, namespace, digest) {
		err = r.reserve(ctx, f.id, reserve.Entry{NamespaceID: namespace, Bytes: size})
	}
	if err == nil {
		f.Upload, err = r.blobs.NewUpload(f.id, digest.Algorithm())
	}
	if err != nil {
		r.reserved.Drop(f.id)
	}
	return f, err
}

// Finish checks the content against its digest, and lets the repository hold it.
func (f *Fetch) Finish(ctx context.Context, digest oci.Digest) error {
	defer f.registry.reserved.Drop(f.id)
	if err := f.registry.settle(ctx, f.to, f.Upload, digest, "", f.id); err != nil {
		return err
	}
	// Where this is lost, the content is sent once more.
	return f.registry.records.Update(context.WithoutCancel(ctx), "fetched-from", func(tx *record.Tx) error { return tx.Peers().Sent(f.peer, digest) })
}

// Abandon lets go of what came.
func (f *Fetch) Abandon() {
	f.Discard()
	f.registry.reserved.Drop(f.id)
}

// HasContent reports whether content of a size is here, in whatever repository.
func (r *Registry) HasContent(ctx context.Context, digest oci.Digest, size int64) bool {
	there, err := r.records.View(ctx).Blob(digest)
	return err == nil && there.Size == size
}

// MayHoldHere reports whether content that is here counts as a peer's: it came from there once,
// with all its bytes, or who asks for it may read a repository that links it.
func (r *Registry) MayHoldHere(ctx context.Context, peer int64, digest oci.Digest, seen record.Seen) (bool, error) {
	view := r.records.View(ctx)
	if sent, err := view.Peers().HasSent(peer, digest); err != nil || sent {
		return sent, err
	}
	_, err := view.HeldAnywhere(digest, "", seen)
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// HoldHere lets a repository hold content that is here already, once MayHoldHere says that it
// may. It reports false where it is not here, or not whole.
func (r *Registry) HoldHere(ctx context.Context, name oci.Name, digest oci.Digest, size int64) (bool, error) {
	there, err := r.records.View(ctx).Blob(digest)
	if errors.Is(err, record.ErrNotFound) || err == nil && there.Size != size {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if whole, err := r.isWhole(there); err != nil || !whole {
		return false, err
	}
	content, err := r.unpackedHere(ctx, name, there)
	if err != nil {
		return false, err
	}
	to, err := r.target(ctx, name)
	if err != nil {
		return false, err
	}
	err = r.records.Update(ctx, "hold-fetched", func(tx *record.Tx) error {
		kept, err := tx.TouchBlob(there)
		if err != nil {
			return err
		}
		in, err := to.in(ctx, tx)
		if err == nil {
			err = content.check(tx, in.NamespaceID)
		}
		if err != nil {
			return err
		}
		return tx.Hold(in, kept, actor(ctx))
	})
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}
