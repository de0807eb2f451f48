package peer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"

	"warthesis/internal/oci"
)

// condition is the header that asks a registry to change a tag only where it points to a
// digest. Those that do not know it ignore it: the tag is asked for just before as well.
func condition(is oci.Digest) http.Header {
	if is == "" {
		return http.Header{}
	}
	return http.Header{"If-Match": {`"` + is.String() + `"`}}
}

// MoveTag points a tag at a manifest whose bytes it is given and all of which the
// repository has, by pushing it again. With is the tag has to point to that; it fails with
// CodeTagMoved where it does not.
func (c *Client) MoveTag(ctx context.Context, name oci.Name, tag oci.Tag, d oci.Descriptor, raw []byte, is oci.Digest) error {
	if err := c.stillIs(ctx, name, tag, is); err != nil {
		return err
	}
	if d.Digest.Algorithm() != oci.SHA256 {
		return c.PushManifest(ctx, name, d, raw, []oci.Tag{tag})
	}
	return c.putTag(ctx, name, tag, d, raw, condition(is))
}

// putTag pushes a manifest under a tag, under the conditions of a header.
func (c *Client) putTag(ctx context.Context, name oci.Name, tag oci.Tag, d oci.Descriptor, raw []byte, header http.Header) error {
	header.Set("Content-Type", d.MediaType)
	_, err := try(ctx, c, nil, func() (struct{}, error) {
		answer, err := c.do(ctx, request{
			method: http.MethodPut, path: string(name) + "/manifests/" + string(tag), header: header,
			body: func() io.Reader { return bytes.NewReader(raw) }, length: int64(len(raw)),
		}, http.StatusCreated)
		if err != nil {
			return struct{}{}, err
		}
		answer.Body.Close()
		return struct{}{}, c.keptAs(answer, d)
	})
	return err
}

// keptAs fails, with oci.CodeDigestInvalid, where a registry says that it stored a manifest as
// another one.
func (c *Client) keptAs(answer *reply, d oci.Descriptor) error {
	if said := answer.Header.Get("Docker-Content-Digest"); said != "" && said != d.Digest.String() {
		return oci.Errorf(oci.CodeDigestInvalid, "%s stored %s as %s: it does not keep bytes as they came", c.registry, d.Digest, said)
	}
	return nil
}

// stillIs fails with CodeTagMoved where a tag does not point to a digest, if one is given.
func (c *Client) stillIs(ctx context.Context, name oci.Name, tag oci.Tag, is oci.Digest) error {
	if is == "" {
		return nil
	}
	d, err := c.Resolve(ctx, name, string(tag))
	if err == nil && d.Digest != is {
		err = oci.Errorf(oci.CodeTagMoved, "the tag %s of %s points to %s now, not to %s; nothing was changed", tag, name, d.Digest, is)
	}
	return err
}

// DeleteTag removes a tag, and nothing else, where the registry can do that
// (distribution-spec, "Deleting tags"). With is the tag has to point to that; it fails
// with CodeTagMoved where it does not, and with CodeUnsupported.
func (c *Client) DeleteTag(ctx context.Context, name oci.Name, tag oci.Tag, is oci.Digest) error {
	if err := c.stillIs(ctx, name, tag, is); err != nil {
		return err
	}
	_, err := try(ctx, c, nil, func() (struct{}, error) {
		answer, err := c.do(ctx, request{method: http.MethodDelete, path: string(name) + "/manifests/" + string(tag), header: condition(is)}, http.StatusAccepted)
		if err == nil {
			answer.Body.Close()
		}
		return struct{}{}, err
	})
	if errors.Is(err, oci.CodeUnsupported) {
		return oci.Errorf(oci.CodeUnsupported, "%s does not remove tags alone, which the standard leaves open; nothing was removed (%v)", c.registry, err)
	}
	return err
}
