package parcel

import (
	"context"
	"errors"
	"io"
	"slices"

	"warthesis/internal/flow/carry"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// Place is where a parcel's content is compared with: what the other side has already. It takes
// nothing.
type Place struct {
	// Has reports whether a repository of the other side has a blob; nil for no such place.
	Has func(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error)
}

var errTakesNothing = errors.New("what a parcel is packed without takes nothing")

// HasBlob reports whether the other side has a blob.
func (p Place) HasBlob(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error) {
	if p.Has == nil {
		return false, nil
	}
	return p.Has(ctx, name, d)
}

// HasManifest is never so: manifests always travel, so that a parcel can be read by itself.
func (p Place) HasManifest(context.Context, oci.Name, oci.Digest) (bool, error) { return false, nil }

// TagDigest is nothing: tags are set when the parcel is unloaded.
func (p Place) TagDigest(context.Context, oci.Name, oci.Tag) (oci.Digest, error) { return "", nil }

// PushBlobFrom fails.
func (p Place) PushBlobFrom(context.Context, oci.Name, oci.Name, oci.Descriptor, io.ReaderAt, func(int)) (peer.Outcome, error) {
	return "", errTakesNothing
}

// PushManifest fails.
func (p Place) PushManifest(context.Context, oci.Name, oci.Descriptor, []byte, []oci.Tag) error {
	return errTakesNothing
}

// PlaceTag fails.
func (p Place) PlaceTag(context.Context, oci.Name, oci.Tag, oci.Descriptor, []byte, oci.Digest, bool) error {
	return errTakesNothing
}

// Referrers lists none.
func (p Place) Referrers(context.Context, oci.Name, oci.Digest) ([]oci.Descriptor, error) {
	return nil, nil
}

// Places are the repositories that have each blob which a registry has once a parcel was
// unloaded into it: by its list, and by what it expected.
func (p *Parcel) Places(ctx context.Context) (map[oci.Digest][]oci.Name, error) {
	c := carry.New(carry.Options{From: func(string) (carry.From, error) { return p, nil }, To: Place{}, Called: "the parcel"})
	plan, err := c.Look(ctx, p.Items)
	if err != nil {
		return nil, err
	}
	if lacks := slices.IndexFunc(plan.Images, (*carry.Image).Lacks); lacks >= 0 {
		return nil, plan.Images[lacks].Err
	}
	return PlacesOf(c, plan, p.Needs), nil
}

// PlacesOf are the repositories that have each blob of a plan, and those that were expected.
func PlacesOf(c *carry.Carrier, p *carry.Plan, needs []Need) map[oci.Digest][]oci.Name {
	places := map[oci.Digest][]oci.Name{}
	_, _, blobs := c.Contents(p)
	for _, d := range blobs {
		places[d.Digest] = d.In
	}
	for _, need := range needs {
		places[need.Digest] = append(places[need.Digest], need.In...)
	}
	return places
}

// Complete reports what manifests of the parcel name that is neither in one of its volumes nor
// expected at the other side.
func (p *Parcel) Complete(ctx context.Context) error {
	places, err := p.Places(ctx)
	if err != nil {
		return err
	}
	has := map[oci.Digest]bool{}
	for _, volume := range p.Content {
		for _, item := range volume {
			has[item.Digest] = true
		}
	}
	for _, need := range p.Needs {
		has[need.Digest] = true
	}
	for digest := range places {
		if _, document := p.volumes[0].files[blobName(digest)]; !has[digest] && !document {
			return fault("its images name %s, and it neither holds nor expects it", digest)
		}
	}
	return nil
}
