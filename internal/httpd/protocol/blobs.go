package protocol

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/access/bearer"
	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/usage"
	"warthesis/internal/registry"
)

const headerDigest = "Docker-Content-Digest"

// getBlob answers GET and HEAD of a blob (distribution-spec, "Pulling blobs").
func (d *Door) getBlob(c *gin.Context, name oci.Name, item string) error {
	digest, err := oci.ParseDigest(item)
	if err != nil {
		return err
	}
	f, size, err := d.findBlob(c, name, digest)
	if errors.Is(err, oci.CodeBlobUnknown) && c.Request.Method == http.MethodGet {
		streamed, failed := d.stream(c, name, digest)
		if streamed || failed != nil {
			return failed
		}
		// It may have come meanwhile.
		f, size, err = d.findBlob(c, name, digest)
	}
	if err != nil {
		return err
	}
	if f != nil {
		defer f.Close()
	}
	c.Header(headerDigest, digest.String())
	c.Header("ETag", oci.ETag(digest))
	c.Header("Accept-Ranges", "bytes")
	if notModified(c, digest) {
		return nil
	}
	asked := c.GetHeader("Range")
	// A range means something for GET alone (RFC 9110, section 14.2), and only where
	// what the caller has of it is of this content (section 13.1.5).
	if condition := c.GetHeader("If-Range"); f == nil || condition != "" && condition != oci.ETag(digest) {
		asked = ""
	}
	part, partial, err := parseRange(asked, size)
	if err != nil {
		c.Header("Content-Range", fmt.Sprintf("bytes */%d", size))
		return err
	}
	status := http.StatusOK
	if partial {
		status = http.StatusPartialContent
	} else {
		part = byteRange{0, size}
	}
	describeBlob(c, status, part, size)
	if f == nil {
		return nil
	}
	// The status is out: a receiver that went away gets no other answer.
	sent, err := d.sendFile(c, f, part.offset, part.length)
	c.Set(SentKey, sent)
	d.registry.CountTraffic(callerOf(c).Account.ID, name, usage.Traffic{BytesOut: sent})
	d.countHere(name, sent)
	if err != nil {
		c.Abort()
	}
	return nil
}

// findBlob returns a blob's size and, for GET, its open file.
func (d *Door) findBlob(c *gin.Context, name oci.Name, digest oci.Digest) (blob.File, int64, error) {
	if c.Request.Method == http.MethodHead {
		look := d.registry.StatBlob
		if d.mayPush(c, name) {
			look = d.registry.VouchBlob
		}
		size, err := look(c.Request.Context(), name, digest)
		return nil, size, err
	}
	return d.registry.OpenBlob(c.Request.Context(), name, digest)
}

// mayPush reports whether the caller's account may push: it relies on what it is told to
// exist, though the token of this request may only pull.
func (d *Door) mayPush(c *gin.Context, name oci.Name) bool {
	return d.access.RoleIn(access.Caller{Account: callerOf(c).Account}, name).Rank() >= record.Writer.Rank()
}

// deleteBlob answers DELETE of a blob (distribution-spec, "Deleting Blobs").
func (d *Door) deleteBlob(c *gin.Context, name oci.Name, item string) error {
	digest, err := oci.ParseDigest(item)
	if err != nil {
		return err
	}
	if err := d.registry.DeleteBlob(d.as(c), name, digest); err != nil {
		return err
	}
	c.Status(http.StatusAccepted)
	return nil
}

// SentKey is where the bytes that went past Gin's writer are noted for the log.
const SentKey = "sent"

func describeBlob(c *gin.Context, status int, part byteRange, size int64) {
	c.Header("Content-Type", "application/octet-stream")
	c.Header("Content-Length", strconv.FormatInt(part.length, 10))
	if status == http.StatusPartialContent {
		c.Header("Content-Range", fmt.Sprintf("bytes %d-%d/%d", part.offset, part.offset+part.length-1, size))
	}
	c.Status(status)
	c.Writer.WriteHeaderNow()
}

// notModified answers a caller who has the content already (RFC 9110, section 13.1.2).
func notModified(c *gin.Context, digest oci.Digest) bool {
	known := c.GetHeader("If-None-Match")
	if known == "" || !matchesETag(known, oci.ETag(digest)) {
		return false
	}
	c.Status(http.StatusNotModified)
	c.Writer.WriteHeaderNow()
	return true
}

// startUpload answers POST: a whole blob where a digest comes along, otherwise a
// session (distribution-spec, "Pushing blobs").
func (d *Door) startUpload(c *gin.Context, name oci.Name, _ string) error {
	if given := c.Query("digest"); given != "" {
		digest, err := oci.ParseDigest(given)
		if err != nil {
			return err
		}
		if err := d.registry.PushBlob(d.as(c), name, d.part(c, -1), digest); err != nil {
			return err
		}
		blobCreated(c, name, digest)
		return nil
	}
	if mounted, err := d.mount(c, name); err != nil || mounted {
		return err
	}
	algorithm, err := oci.ParseAlgorithm(c.DefaultQuery("digest-algorithm", oci.SHA256.String()))
	if err != nil {
		return err
	}
	p, err := d.registry.StartUpload(d.as(c), name, algorithm)
	if err != nil {
		return err
	}
	uploadGoesOn(c, name, p, http.StatusAccepted)
	return nil
}

// mount takes a blob over from another repository. A source that is no name, or
// does not hold the blob, is no error: the blob is then to be pushed.
func (d *Door) mount(c *gin.Context, name oci.Name) (bool, error) {
	given := c.Query("mount")
	if given == "" {
		return false, nil
	}
	digest, err := oci.ParseDigest(given)
	if err != nil {
		return false, err
	}
	from, err := oci.ParseName(c.Query("from"))
	if err != nil && c.Query("from") != "" {
		return false, nil
	}
	seen, err := d.mayMount(c, name, from)
	if err != nil {
		return false, err
	}
	mounted, err := d.registry.MountBlob(d.as(c), name, digest, from, seen)
	if mounted {
		blobCreated(c, name, digest)
	}
	return mounted, err
}

// mayMount returns from which repositories the caller may mount: those from which
// it may pull. A bearer token that was not asked for the source is refused, whether
// or not there is such a source; one that was asked and did not get it mounts
// nothing, and the blob is pushed.
func (d *Door) mayMount(c *gin.Context, name, from oci.Name) (record.Seen, error) {
	caller, ctx := callerOf(c), c.Request.Context()
	if from == "" {
		return d.access.SeenForMount(caller), nil
	}
	v, err := d.access.Verdict(ctx, caller, from, access.Pull)
	if err != nil || v.Allowed {
		return record.Seen{Everything: true}, err
	}
	if v.Elsewise {
		return record.Seen{}, d.challenge(c, fmt.Sprintf("to mount from %s the token must be for it as well", from),
			bearer.AskedScope{Type: "repository", Name: string(name), Actions: []access.Action{access.Pull, access.Push}},
			bearer.AskedScope{Type: "repository", Name: string(from), Actions: []access.Action{access.Pull}})
	}
	return record.Seen{Nothing: true}, nil
}

// uploadProgress answers GET of a session.
func (d *Door) uploadProgress(c *gin.Context, name oci.Name, id string) error {
	p, err := d.registry.UploadProgress(d.as(c), name, id)
	if err != nil {
		return err
	}
	uploadGoesOn(c, name, p, http.StatusNoContent)
	return nil
}

// appendUpload answers PATCH: one chunk, or a stream of unknown length.
func (d *Door) appendUpload(c *gin.Context, name oci.Name, id string) error {
	offset, err := chunkOffset(c)
	if err != nil {
		return err
	}
	p, err := d.registry.AppendUpload(d.as(c), name, id, d.part(c, offset))
	if errors.Is(err, oci.CodeRangeInvalid) {
		c.Header("Location", uploadLocation(name, id))
		c.Header("Range", uploadRange(p.Offset))
	}
	if err != nil {
		return err
	}
	uploadGoesOn(c, name, p, http.StatusAccepted)
	return nil
}

// finishUpload answers PUT: the last piece, or none, and the digest of the whole.
func (d *Door) finishUpload(c *gin.Context, name oci.Name, id string) error {
	digest, err := oci.ParseDigest(c.Query("digest"))
	if err != nil {
		return err
	}
	offset, err := chunkOffset(c)
	if err != nil {
		return err
	}
	if err := d.registry.FinishUpload(d.as(c), name, id, d.part(c, offset), digest); err != nil {
		return err
	}
	blobCreated(c, name, digest)
	return nil
}

// cancelUpload answers DELETE of a session.
func (d *Door) cancelUpload(c *gin.Context, name oci.Name, id string) error {
	if err := d.registry.CancelUpload(d.as(c), name, id); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

// chunkOffset returns where a chunk says it begins, -1 where it does not say. The
// range and the length must agree.
func chunkOffset(c *gin.Context) (int64, error) {
	header := c.GetHeader("Content-Range")
	if header == "" {
		return -1, nil
	}
	r, err := parseChunkRange(header)
	if err != nil {
		return 0, err
	}
	if c.Request.ContentLength >= 0 && c.Request.ContentLength != r.length {
		return 0, oci.Errorf(oci.CodeSizeInvalid, "the chunk's Content-Range names %d bytes and its Content-Length %d", r.length, c.Request.ContentLength)
	}
	return r.offset, nil
}

func uploadLocation(name oci.Name, id string) string {
	return fmt.Sprintf("/v2/%s/blobs/uploads/%s", name, id)
}

func blobCreated(c *gin.Context, name oci.Name, digest oci.Digest) {
	c.Header("Location", fmt.Sprintf("/v2/%s/blobs/%s", name, digest))
	c.Header(headerDigest, digest.String())
	c.Status(http.StatusCreated)
}

func uploadGoesOn(c *gin.Context, name oci.Name, p registry.Progress, status int) {
	c.Header("Location", uploadLocation(name, p.ID))
	c.Header("Range", uploadRange(p.Offset))
	c.Status(status)
}

// part hands the request's body to registry.
func (d *Door) part(c *gin.Context, offset int64) registry.Part {
	body := d.incoming(c)
	return registry.Part{Body: body, Offset: offset, Length: c.Request.ContentLength, Cut: body.Cut}
}
