package peer

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"regexp"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/oci"
)

// mostReferrers is how many manifests that refer to one are taken from an answer.
const mostReferrers = 1000

// referrersTag is the tag of the index that lists what refers to a manifest, at registries that
// do not answer that themselves (distribution-spec, "Referrers Tag Schema").
func referrersTag(subject oci.Digest) oci.Tag {
	return oci.Tag(subject.Algorithm().String() + "-" + subject.Encoded()[:min(64, len(subject.Encoded()))])
}

var referrersTagText = regexp.MustCompile(`^sha(256|512)-[0-9a-f]{64}$`)

// IsReferrersTag reports whether a tag is that of such an index.
func IsReferrersTag(tag oci.Tag) bool { return referrersTagText.MatchString(string(tag)) }

// listReferrer adds a manifest to the index of what refers to its subject, where the registry
// does not keep that itself (distribution-spec, "Pushing Manifests with Subject").
func (c *Client) listReferrer(ctx context.Context, name oci.Name, d oci.Descriptor, m oci.Manifest) error {
	tag := referrersTag(m.Subject.Digest)
	index := v1.Index{MediaType: oci.MediaTypeIndex}
	index.SchemaVersion = 2
	_, raw, err := c.Manifest(ctx, name, string(tag))
	if err == nil {
		err = json.Unmarshal(raw, &index)
	}
	if err != nil && !isMissing(err) {
		return err
	}
	for _, there := range index.Manifests {
		if there.Digest == d.Digest {
			return nil
		}
	}
	index.Manifests = append(index.Manifests, oci.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size, ArtifactType: m.ArtifactType, Annotations: m.Annotations})
	if raw, err = json.Marshal(index); err != nil {
		return err
	}
	_, err = c.putManifest(ctx, name, string(tag), oci.Descriptor{MediaType: oci.MediaTypeIndex, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}, raw, nil)
	return err
}

// listedReferrers reads that index.
func (c *Client) listedReferrers(ctx context.Context, name oci.Name, subject oci.Digest) ([]oci.Descriptor, error) {
	d, raw, err := c.Manifest(ctx, name, string(referrersTag(subject)))
	if isMissing(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	return parsed.Children[:min(len(parsed.Children), mostReferrers)], err
}

// Referrers returns what refers to a manifest (distribution-spec, "Listing Referrers"), the
// first thousand of them. Of a registry that does not answer that, those are returned that
// its pushers listed.
func (c *Client) Referrers(ctx context.Context, name oci.Name, digest oci.Digest) (all []oci.Descriptor, err error) {
	at := request{method: http.MethodGet, path: string(name) + "/referrers/" + digest.String()}
	for range mostReferrers {
		answer, err := c.do(ctx, at, http.StatusOK, http.StatusNotFound)
		if err != nil {
			return all, err
		}
		if answer.StatusCode == http.StatusNotFound && len(all) == 0 {
			answer.Body.Close()
			return c.listedReferrers(ctx, name, digest)
		}
		var index struct{ Manifests []oci.Descriptor }
		if answer.StatusCode == http.StatusOK {
			err = json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(&index)
		}
		answer.Body.Close()
		if err != nil {
			return all, oci.Errorf(oci.CodeUnsupported, "the list of %s of what refers to %s cannot be read: %v", c.registry, digest, err)
		}
		before := len(all)
		all = append(all, index.Manifests[:min(len(index.Manifests), mostReferrers-before)]...)
		next := nextOf(answer.Header)
		if next == nil || len(all) == before || len(all) == mostReferrers {
			return all, nil
		}
		at.query = url.Values(next.Query())
	}
	return all, nil
}
