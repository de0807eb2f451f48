package registry

import (
	"context"
	"encoding/json"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/taglist"
)

const (
	// referrersAtOnce is how many referrers one page has at most.
	referrersAtOnce = 250
	// referrersBytes bounds a page of referrers, since clients take no larger
	// index than a manifest may be.
	referrersBytes = oci.DefaultManifestLimit - 64<<10
)

// Referrers returns a page of the manifests that refer to the subject, as
// descriptors in the order of their digests behind after, and whether more follow
// (distribution-spec, "Listing Referrers"). A subject that is not here may have
// referrers; a repository that is not here has none.
func (r *Registry) Referrers(ctx context.Context, name oci.Name, subject oci.Digest, artifactType string, after oci.Digest) (page []oci.Descriptor, more bool, err error) {
	page = []oci.Descriptor{}
	found, err := r.find(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return page, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	rows, err := r.records.Referrers(ctx, found.ID, subject, artifactType, after, referrersAtOnce+1)
	if err != nil {
		return nil, false, err
	}
	total := 0
	for i, m := range rows {
		d := oci.Descriptor{MediaType: m.MediaType, Digest: m.Digest, Size: m.Size, ArtifactType: m.ArtifactType, Annotations: m.Annotations}
		raw, err := json.Marshal(d)
		if err != nil {
			return nil, false, err
		}
		total += len(raw)
		if i == referrersAtOnce || i > 0 && total > referrersBytes {
			return page, true, nil
		}
		page = append(page, d)
	}
	return page, false, nil
}

// TagNames returns up to limit tags of a repository behind after, byte by byte in
// order, and whether more follow (distribution-spec, "Listing Tags").
func (r *Registry) TagNames(ctx context.Context, name oci.Name, after string, limit int) (tags []oci.Tag, more bool, err error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return nil, false, err
	}
	tags, err = r.records.TagNames(ctx, found.ID, after, limit+1)
	if len(tags) > limit {
		return tags[:limit], true, err
	}
	return tags, false, err
}

// TagDigests is TagNames with what each tag points to.
func (r *Registry) TagDigests(ctx context.Context, name oci.Name, after string, limit int) (tags []taglist.Digest, more bool, err error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return nil, false, err
	}
	tags, err = r.records.View(ctx).TagDigests(found.ID, after, limit+1)
	if len(tags) > limit {
		return tags[:limit], true, err
	}
	return tags, false, err
}

// RepositoryNames returns up to limit names of repositories that are seen behind after, byte by
// byte in order, and whether more follow.
func (r *Registry) RepositoryNames(ctx context.Context, after string, limit int, seen record.Seen) (names []oci.Name, more bool, err error) {
	names, err = r.records.RepositoryNames(ctx, after, limit+1, seen)
	if len(names) > limit {
		return names[:limit], true, err
	}
	return names, false, err
}
