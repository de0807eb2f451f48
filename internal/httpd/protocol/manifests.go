package protocol

import (
	"fmt"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"warthesis/internal/oci"
	"warthesis/internal/registry"
)

// getManifest answers GET and HEAD of a manifest (distribution-spec, "Pulling
// manifests"). What was pushed is what is served, whatever the caller accepts:
// a manifest in another form would have another digest.
func (d *Door) getManifest(c *gin.Context, name oci.Name, target string) error {
	if err := d.follow(c, name, target); err != nil {
		return err
	}
	m, err := d.registry.Manifest(c.Request.Context(), name, target)
	if err != nil {
		return err
	}
	byDigest := strings.Contains(target, ":")
	switch relies := m.UntaggedAt != 0 || byDigest && c.Request.Method == http.MethodHead; {
	case relies && d.mayPush(c, name):
		err = d.registry.VouchManifest(c.Request.Context(), name, m)
	case c.Request.Method != http.MethodHead:
	case callerOf(c).Nobody():
		err = d.registry.ShowManifest(m)
	default:
		err = d.registry.StatManifest(m)
	}
	if err != nil {
		return err
	}
	header := c.Writer.Header()
	header[headerDigest] = []string{m.Digest.String()}
	header["Etag"] = []string{oci.ETag(m.Digest)}
	if notModified(c, m.Digest) {
		return nil
	}
	header["Content-Type"] = []string{m.MediaType}
	header["Content-Length"] = []string{strconv.FormatInt(m.Size, 10)}
	if c.Request.Method == http.MethodHead {
		c.Status(http.StatusOK)
		return nil
	}
	raw, err := d.registry.ManifestBytes(c.Request.Context(), m)
	if err != nil {
		c.Writer.Header().Del("Content-Length")
		return err
	}
	var tag oci.Tag
	if !strings.Contains(target, ":") {
		tag = oci.Tag(target)
	}
	d.registry.CountPull(callerOf(c).Account.ID, name, m, tag)
	d.access.Pulled(callerOf(c), name, tag, m.Digest)
	c.Data(http.StatusOK, m.MediaType, raw)
	return nil
}

// putManifest answers PUT of a manifest (distribution-spec, "Pushing Manifests").
func (d *Door) putManifest(c *gin.Context, name oci.Name, target string) error {
	push := registry.ManifestPush{Name: name}
	if err := readTarget(target, c.QueryArray("tag"), &push); err != nil {
		return err
	}
	var err error
	if push.If, err = readConditions(c, !strings.Contains(target, ":") && len(c.QueryArray("tag")) == 0); err != nil {
		return err
	}
	if push.MediaType, err = contentType(c); err != nil {
		return err
	}
	if push.Raw, err = d.readManifest(c); err != nil {
		return err
	}
	m, err := d.registry.PushManifest(d.as(c), push)
	if err != nil {
		return err
	}
	c.Header("Location", fmt.Sprintf("/v2/%s/manifests/%s", name, m.Digest))
	c.Header(headerDigest, m.Digest.String())
	if m.Subject != "" {
		c.Header("OCI-Subject", m.Subject.String())
	}
	// distribution-spec, "Warnings".
	if notice := d.registry.QuotaNotice(d.as(c), name); notice != "" {
		c.Header("Warning", fmt.Sprintf("299 - %q", notice))
	}
	if push.Digest != "" {
		for _, tag := range push.Tags {
			c.Writer.Header().Add("OCI-Tag", string(tag))
		}
	}
	c.Status(http.StatusCreated)
	return nil
}

// readConditions reads what the tag that is pushed or deleted has to be (RFC 9110,
// sections 13.1.1 and 13.1.2): If-Match with one digest, compared strongly, or a star;
// If-None-Match with a star.
func readConditions(c *gin.Context, byTag bool) (only registry.If, err error) {
	match, none := c.Request.Header.Values("If-Match"), c.Request.Header.Values("If-None-Match")
	switch {
	case len(match) == 0 && len(none) == 0:
		return only, nil
	case !byTag:
		return only, oci.Errorf(oci.CodeQueryInvalid, "If-Match and If-None-Match speak of one tag; name it in the path, without tag parameters")
	case len(match)+len(none) > 1:
		return only, oci.Errorf(oci.CodeQueryInvalid, "give one condition: If-Match with one digest, or If-None-Match: *")
	case len(none) == 1 && strings.TrimSpace(none[0]) != "*":
		return only, oci.Errorf(oci.CodeQueryInvalid, "If-None-Match: * is for a tag that is not there; for one that points to a digest there is If-Match")
	case len(none) == 1:
		only.New = true
		return only, nil
	}
	given := strings.TrimSpace(match[0])
	if given == "*" {
		only.There = true
		return only, nil
	}
	only.Digest, err = oci.ParseIfMatch(given)
	return only, err
}

// mostTagsAtOnce is how many tags one push may name.
const mostTagsAtOnce = 100

// readTarget takes the last word of the path: a tag, or a digest, with which more
// tags may come as parameters (distribution-spec, "Pushing Manifests").
func readTarget(target string, more []string, push *registry.ManifestPush) (err error) {
	if !strings.Contains(target, ":") {
		more = []string{target}
	} else if push.Digest, err = oci.ParseDigest(target); err != nil {
		return err
	}
	if len(more) > mostTagsAtOnce {
		return oci.Errorf(oci.CodeQueryInvalid, "%d tags came with the manifest, at most %d may", len(more), mostTagsAtOnce)
	}
	for _, name := range more {
		tag, err := oci.ParseTag(name)
		if err != nil {
			return err
		}
		push.Tags = append(push.Tags, tag)
	}
	return nil
}

func contentType(c *gin.Context) (string, error) {
	header := c.GetHeader("Content-Type")
	if header == "" {
		return "", nil
	}
	mediaType, _, err := mime.ParseMediaType(header)
	if err != nil {
		return "", oci.Errorf(oci.CodeManifestInvalid, "the Content-Type %q cannot be read", header)
	}
	return mediaType, nil
}

// readManifest reads the body up to the limit and one byte more, by which
// registry sees that it is too large.
func (d *Door) readManifest(c *gin.Context) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(c.Request.Body, d.manifestBytes+1))
	if err != nil {
		return nil, oci.Errorf(oci.CodeSizeInvalid, "the manifest did not come whole, or took too long; send it again")
	}
	if announced := c.Request.ContentLength; announced >= 0 && announced <= d.manifestBytes && announced != int64(len(raw)) {
		return nil, oci.Errorf(oci.CodeSizeInvalid, "%d bytes were announced and %d came", announced, len(raw))
	}
	return raw, nil
}

// deleteManifest answers DELETE: of a tag alone, or of a manifest with its tags
// (distribution-spec, "Deleting tags" and "Deleting Manifests").
func (d *Door) deleteManifest(c *gin.Context, name oci.Name, target string) error {
	byTag := !strings.Contains(target, ":")
	only, err := readConditions(c, byTag)
	switch {
	case err != nil:
	case !byTag:
		var digest oci.Digest
		if digest, err = oci.ParseDigest(target); err == nil {
			err = d.registry.DeleteManifest(d.as(c), name, digest)
		}
	default:
		var tag oci.Tag
		if tag, err = oci.ParseTag(target); err == nil {
			err = d.registry.DeleteTag(d.as(c), name, tag, only)
		}
	}
	if err != nil {
		return err
	}
	c.Status(http.StatusAccepted)
	return nil
}

// matchesETag reports whether one of a list of entity tags is ours.
func matchesETag(list, ours string) bool {
	for _, tag := range strings.Split(list, ",") {
		if tag = strings.TrimPrefix(strings.TrimSpace(tag), "W/"); tag == ours || tag == "*" {
			return true
		}
	}
	return false
}
