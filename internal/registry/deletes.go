package registry

import (
	"context"
	"errors"
	"fmt"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// inLive changes a repository that is there still, as it is in the change, by a change of
// a kind.
func (r *Registry) inLive(ctx context.Context, found record.Repository, kind string, do func(*record.Tx, record.Repository) error) error {
	return r.records.Update(ctx, kind, func(tx *record.Tx) error {
		now, err := tx.LiveRepository(found.ID)
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed a moment ago", found.Name)
		}
		if err != nil {
			return err
		}
		return do(tx, now)
	})
}

func logTagDeleted(ctx context.Context, tx *record.Tx, in record.Repository, tag oci.Tag) error {
	deleted := event(ctx, record.EventTagDeleted, in)
	deleted.Tag = tag
	return tx.Log(deleted)
}

// DeleteManifest takes a manifest, and the tags that point to it, out of readers'
// sight (distribution-spec, "Deleting Manifests"). What refers to it stays. It
// fails with CodeInUse where a live index of the repository names it.
func (r *Registry) DeleteManifest(ctx context.Context, name oci.Name, digest oci.Digest) error {
	found, err := r.repository(ctx, name)
	if err != nil {
		return err
	}
	return r.inLive(ctx, found, "delete", func(tx *record.Tx, found record.Repository) error {
		there, err := tx.Manifests(found.ID, []oci.Digest{digest})
		if err != nil {
			return err
		}
		m, ok := there[digest]
		if !ok {
			return oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no manifest %s", name, digest)
		}
		if err := refuseNamed(tx, found, digest, oci.RelationChild); err != nil {
			return err
		}
		tags, err := tx.DeleteManifest(found, m, actor(ctx))
		if err != nil {
			return err
		}
		for _, tag := range tags {
			if err := logTagDeleted(ctx, tx, found, tag); err != nil {
				return err
			}
		}
		deleted := event(ctx, record.EventManifestDeleted, found)
		deleted.Digest = digest
		return tx.Log(deleted)
	})
}

// DeleteBlob ends that the repository holds the blob (distribution-spec, "Deleting
// Blobs"). It fails with CodeInUse where a live manifest of the repository names it.
func (r *Registry) DeleteBlob(ctx context.Context, name oci.Name, digest oci.Digest) error {
	unknown := oci.Errorf(oci.CodeBlobUnknown, "the repository %s holds no blob %s", name, digest)
	found, err := r.find(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return unknown
	}
	if err != nil {
		return err
	}
	err = r.inLive(ctx, found, "delete", func(tx *record.Tx, found record.Repository) error {
		if err := refuseNamed(tx, found, digest, oci.RelationConfig, oci.RelationLayer, oci.RelationChild); err != nil {
			return err
		}
		if err := tx.EndHolding(found, digest, actor(ctx)); err != nil {
			return err
		}
		deleted := event(ctx, record.EventBlobDeleted, found)
		deleted.Digest = digest
		return tx.Log(deleted)
	})
	if errors.Is(err, record.ErrNotFound) {
		return unknown
	}
	return err
}

// namersShown is how many holders a refusal names.
const namersShown = 5

// refuseNamed fails, naming the holders, where live manifests name the digest.
func refuseNamed(tx *record.Tx, found record.Repository, digest oci.Digest, as ...oci.Relation) error {
	namers, err := tx.Namers(found.ID, digest, as, namersShown)
	if err != nil || len(namers) == 0 {
		return err
	}
	return &oci.Error{
		Code:    oci.CodeInUse,
		Message: fmt.Sprintf("%s stays, because the manifest %s of %s names it; delete that first", digest, namers[0], found.Name),
		Detail:  namers,
	}
}
