package registry

import (
	"context"
	"errors"
	"fmt"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/removals"
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
// fails with CodeInUse where a live index of the repository names it, and with CodeDenied
// where a tag that points to it is sealed.
func (r *Registry) DeleteManifest(ctx context.Context, name oci.Name, digest oci.Digest) error {
	_, err := r.RemoveImage(ctx, name, digest, Removing{})
	return err
}

// Removing says how an image is removed.
type Removing struct {
	// Whole takes along the children that nothing else names, and what refers to all that
	// goes.
	Whole bool
	// Reason is for the list of removals, "" for none.
	Reason string
}

// RemoveImage removes a manifest with its tags, as one removal, whose ID it returns. It
// fails as DeleteManifest does, and with CodeQueryInvalid where too much would go at once.
func (r *Registry) RemoveImage(ctx context.Context, name oci.Name, digest oci.Digest, how Removing) (removal int64, err error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return 0, err
	}
	err = r.inLive(ctx, found, "delete", func(tx *record.Tx, found record.Repository) error {
		plan, err := planImage(tx.View, found, digest, how.Whole)
		if err != nil {
			return err
		}
		by := actor(ctx)
		by.Reason = how.Reason
		if removal, err = tx.BeginRemoval(record.RemovalOfManifest, found, string(digest), by); err != nil {
			return err
		}
		for _, m := range plan.Images {
			tags, err := tx.DeleteManifest(found, m.ID, m.Digest, removal, by)
			if err != nil {
				return err
			}
			for _, tag := range tags {
				if err := logTagDeleted(ctx, tx, found, tag); err != nil {
					return err
				}
			}
			deleted := event(ctx, record.EventManifestDeleted, found)
			deleted.Digest = m.Digest
			if err := tx.Log(deleted); err != nil {
				return err
			}
		}
		return nil
	})
	return removal, r.inWords(ctx, found, err)
}

// planImage says what goes with a manifest, and refuses where something needs it.
func planImage(view record.View, found record.Repository, digest oci.Digest, whole bool) (removals.Plan, error) {
	there, err := view.Manifests(found.ID, []oci.Digest{digest})
	if err != nil {
		return removals.Plan{}, err
	}
	m, ok := there[digest]
	if !ok {
		return removals.Plan{}, oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no manifest %s", found.Name, digest)
	}
	if err := refuseNamed(view, found, digest, oci.RelationChild); err != nil {
		return removals.Plan{}, err
	}
	first := removals.Image{
		ID: m.ID, ContentID: m.ContentID, Digest: m.Digest, State: string(m.State), ArtifactType: m.ArtifactType, MediaType: m.MediaType,
		Platforms: m.Platforms, Size: m.ContentSize, Subject: m.Subject,
	}
	if !whole {
		return removals.Plan{Images: []removals.Image{first}}, nil
	}
	plan, err := view.Removals().Plan(found.ID, first, true)
	if errors.Is(err, removals.ErrMost) {
		err = oci.Errorf(oci.CodeQueryInvalid, "more than %d images would go at once; remove some of them first", removals.MostAtOnce)
	}
	return plan, err
}

// PlanImage says what would go with an image and what would stay, and how many bytes nothing
// that is seen would need any more after the restore window. It fails as RemoveImage does.
func (r *Registry) PlanImage(ctx context.Context, name oci.Name, digest oci.Digest, whole bool, seen record.Seen) (removals.Plan, error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return removals.Plan{}, err
	}
	view := r.records.View(ctx)
	plan, err := planImage(view, found, digest, whole)
	if err != nil {
		return plan, err
	}
	if plan, err = view.Removals().Plan(found.ID, plan.Images[0], whole); err != nil {
		return plan, err
	}
	for _, t := range plan.Tags {
		state, err := view.SealTagOf(found.ID, t.Name)
		if err == nil {
			err = view.Seals(found, int64(r.clock.Served())).Check(state)
		}
		if err != nil {
			return plan, r.inWords(ctx, found, err)
		}
	}
	plan.Freed, err = view.Removals().Freed(found.ID, plan.Images, seen.Condition())
	return plan, err
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
		if err := refuseNamed(tx.View, found, digest, oci.RelationConfig, oci.RelationLayer, oci.RelationChild); err != nil {
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
func refuseNamed(view record.View, found record.Repository, digest oci.Digest, as ...oci.Relation) error {
	namers, err := view.Namers(found.ID, digest, as, namersShown)
	if err != nil || len(namers) == 0 {
		return err
	}
	return &oci.Error{
		Code:    oci.CodeInUse,
		Message: fmt.Sprintf("%s stays, because the manifest %s of %s names it; delete that first", digest, namers[0], found.Name),
		Detail:  namers,
	}
}
