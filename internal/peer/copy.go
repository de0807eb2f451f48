package peer

import (
	"context"
	"errors"
	"io"

	"warthesis/internal/oci"
)

// Closure returns all that an image is made of, each once: its manifests, children before
// parents and the root last, and its blobs. read returns the bytes of a manifest, which are
// checked against its digest. It fails with oci.CodeManifestInvalid and
// oci.CodeManifestTooLarge.
func Closure(root oci.Descriptor, read func(oci.Descriptor) ([]byte, error)) (documents, blobs []oci.Descriptor, err error) {
	all, err := closureOf(root, read)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range all.documents {
		documents = append(documents, d.Descriptor)
	}
	for _, p := range all.blobs {
		blobs = append(blobs, p.Descriptor)
	}
	return documents, blobs, nil
}

// HasManifest reports whether a repository has a manifest of a digest.
func (c *Client) HasManifest(ctx context.Context, name oci.Name, digest oci.Digest) (bool, error) {
	_, err := c.Resolve(ctx, name, digest.String())
	if isMissing(err) {
		return false, nil
	}
	return err == nil, err
}

// TagDigest returns what a tag points to, "" where there is no such tag.
func (c *Client) TagDigest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	d, err := c.Resolve(ctx, name, string(tag))
	if isMissing(err) {
		return "", nil
	}
	return d.Digest, err
}

func isMissing(err error) bool {
	return errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeNameUnknown)
}

// PushBlobFrom is PushBlob where another repository of the registry may have the blob.
func (c *Client) PushBlobFrom(ctx context.Context, name, from oci.Name, d oci.Descriptor, content io.ReaderAt, told func(n int)) (Outcome, error) {
	return c.push(ctx, &pushing{client: c, name: name, from: from, d: d, content: content, told: told})
}

// PlaceTag points a tag at a manifest whose bytes it is given and all of which the repository
// has. was is what the tag points to, "" where there is none; it fails with oci.CodeTagMoved
// where that is not so any more. Registries that do not know such conditions are asked just
// before, which leaves a moment; knows tells that the registry does.
func (c *Client) PlaceTag(ctx context.Context, name oci.Name, tag oci.Tag, d oci.Descriptor, raw []byte, was oci.Digest, knows bool) error {
	if !knows || d.Digest.Algorithm() != oci.SHA256 {
		is, err := c.TagDigest(ctx, name, tag)
		if err == nil && is != was {
			err = oci.Errorf(oci.CodeTagMoved, "the tag %s of %s was moved meanwhile", tag, name)
		}
		if err != nil {
			return err
		}
	}
	if d.Digest.Algorithm() != oci.SHA256 {
		return c.PushManifest(ctx, name, d, raw, []oci.Tag{tag})
	}
	header := condition(was)
	if was == "" {
		header.Set("If-None-Match", "*")
	}
	return c.putTag(ctx, name, tag, d, raw, header)
}
