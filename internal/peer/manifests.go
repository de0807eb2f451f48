package peer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"warthesis/internal/oci"
)

// Resolve returns what a tag or digest names: its media type, digest and size. A
// registry that leaves the digest out of its answer, or answers HEAD otherwise
// than GET, is asked for the whole.
func (c *Client) Resolve(ctx context.Context, name oci.Name, target string) (oci.Descriptor, error) {
	return try(ctx, c, nil, func() (oci.Descriptor, error) {
		answer, err := c.do(ctx, c.manifest(http.MethodHead, name, target), http.StatusOK)
		var passing temporary
		if errors.As(err, &passing) || ctx.Err() != nil {
			return oci.Descriptor{}, err
		}
		if err == nil {
			answer.Body.Close()
			digest, fits := answer.names(target)
			if fits && answer.ContentLength >= 0 {
				return oci.Descriptor{MediaType: mediaTypeOf(answer), Digest: digest, Size: answer.ContentLength}, nil
			}
		}
		d, _, err := c.getManifest(ctx, name, target)
		return d, err
	})
}

// names returns the digest that an answer is about: the one that was asked for, or
// for a tag the one that the registry itself says. It reports whether there is one,
// and the answer says no other.
func (r *reply) names(target string) (oci.Digest, bool) {
	said, err := oci.ParseDigest(r.digest)
	wanted, byDigest := oci.ParseDigest(target)
	if byDigest == nil {
		return wanted, r.digest == "" || said == wanted
	}
	return said, err == nil
}

// mediaTypeOf returns the media type of an answer, without parameters.
func mediaTypeOf(r *reply) string {
	header := r.Header.Get("Content-Type")
	if mediaType, _, err := mime.ParseMediaType(header); err == nil {
		return mediaType
	}
	return header
}

// Manifest returns a manifest by tag or digest, byte for byte. Asked by digest,
// the bytes are checked against it.
func (c *Client) Manifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error) {
	type found struct {
		oci.Descriptor
		raw []byte
	}
	f, err := try(ctx, c, nil, func() (found, error) {
		d, raw, err := c.getManifest(ctx, name, target)
		return found{d, raw}, err
	})
	return f.Descriptor, f.raw, err
}

// manifestLimit is the largest manifest in bytes that is taken.
const manifestLimit = oci.MostManifestLimit

func (c *Client) manifest(method string, name oci.Name, target string) request {
	return request{
		method: method, path: string(name) + "/manifests/" + target,
		header: http.Header{"Accept": {strings.Join(oci.ManifestMediaTypes, ", ")}},
	}
}

func (c *Client) getManifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error) {
	answer, err := c.do(ctx, c.manifest(http.MethodGet, name, target), http.StatusOK)
	if err != nil {
		return oci.Descriptor{}, nil, missing(err, name, target)
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, c.options.ManifestBytes+1))
	if err != nil {
		return oci.Descriptor{}, nil, temporary{error: fmt.Errorf("the answer of %s broke off: %w", c.registry, err)}
	}
	if int64(len(raw)) > c.options.ManifestBytes {
		return oci.Descriptor{}, nil, oci.Errorf(oci.CodeManifestTooLarge, "the manifest at %s is larger than %d MiB", c.registry, c.options.ManifestBytes>>20)
	}
	d := oci.Descriptor{MediaType: mediaTypeOf(answer), Size: int64(len(raw))}
	var fits bool
	switch d.Digest, fits = answer.names(target); {
	case fits:
	case answer.digest != "":
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "%s was asked for %s and says that its answer is %s", c.registry, target, answer.digest)
	case answer.away:
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "%s sends the manifest of %s from %s and does not say its digest: nobody could tell whether it is that", c.registry, target, answer.Request.URL.Host)
	default:
		d.Digest = oci.DigestOf(oci.SHA256, raw)
	}
	if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "what %s sent for %s is something else: its bytes were changed on the way or at the registry", c.registry, d.Digest)
	}
	return d, raw, nil
}

// missing says in a sentence that a manifest is not there: an answer to HEAD has none.
func missing(err error, name oci.Name, target string) error {
	if errors.Is(err, oci.CodeManifestUnknown) {
		return oci.Errorf(oci.CodeManifestUnknown, "there is no %s in %s; list its tags with warthesis list", target, name)
	}
	return err
}

// PushManifest sends a manifest under its digest or, where there are any, under
// the tags.
func (c *Client) PushManifest(ctx context.Context, name oci.Name, d oci.Descriptor, raw []byte, tags []oci.Tag) error {
	sha := d.Digest.Algorithm() == oci.SHA256
	if len(tags) == 1 && sha {
		_, err := c.putManifest(ctx, name, string(tags[0]), d, raw, nil)
		return err
	}
	// Several tags are one change where the registry knows how; where it does not, it has
	// the manifest then, and takes the tags one by one.
	missing, err := c.putManifest(ctx, name, d.Digest.String(), d, raw, tags)
	if err != nil {
		return err
	}
	for _, tag := range missing {
		if !sha {
			return oci.Errorf(oci.CodeUnsupported, "%s stored %s and did not set the tag %s: it cannot tag a manifest whose digest is not sha256", c.registry, d.Digest, tag)
		}
		if _, err := c.putManifest(ctx, name, string(tag), d, raw, nil); err != nil {
			return err
		}
	}
	return nil
}

// putManifest sends a manifest. Sent to a tag, the registry gives it a digest of
// its own choice; one with another digest goes to that, with its tags as
// parameters (distribution-spec, "Pushing Manifests with Tags"); those that it did not set
// are missing.
func (c *Client) putManifest(ctx context.Context, name oci.Name, target string, d oci.Descriptor, raw []byte, tags []oci.Tag) (missing []oci.Tag, err error) {
	query := url.Values{}
	for _, tag := range tags {
		query.Add("tag", string(tag))
	}
	listed := false
	missing, err = try(ctx, c, nil, func() ([]oci.Tag, error) {
		answer, err := c.do(ctx, request{
			method: http.MethodPut, path: string(name) + "/manifests/" + target, query: query,
			header: http.Header{"Content-Type": {d.MediaType}},
			body:   func() io.Reader { return bytes.NewReader(raw) }, length: int64(len(raw)),
		}, http.StatusCreated)
		if err != nil {
			return nil, err
		}
		answer.Body.Close()
		if err := c.keptAs(answer, d); err != nil {
			return nil, err
		}
		listed = answer.Header.Get("OCI-Subject") != ""
		set := strings.FieldsFunc(strings.Join(answer.Header.Values("OCI-Tag"), ","), func(r rune) bool { return r == ',' || r == ' ' })
		return slices.DeleteFunc(slices.Clone(tags), func(tag oci.Tag) bool { return slices.Contains(set, string(tag)) }), nil
	})
	if err != nil || listed || !bytes.Contains(raw, []byte(`"subject"`)) {
		return missing, err
	}
	if parsed, failed := oci.ParseManifest(d.MediaType, raw); failed == nil && parsed.Subject != nil {
		err = c.listReferrer(ctx, name, d, parsed)
	}
	return missing, err
}
