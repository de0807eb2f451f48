package protocol

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"warthesis/internal/flow/follow"
	"warthesis/internal/oci"
	"warthesis/internal/record/usage"
)

// asker is who asks, for what is brought from peers.
func (d *Door) asker(c *gin.Context) follow.Asker {
	caller := callerOf(c)
	by := follow.Asker{Who: "account " + caller.Account.Name, Anonymous: caller.Nobody(), Via: c.Request.Header.Values("Via"), Seen: d.access.SeenForMount(caller)}
	if by.Anonymous {
		by.Who = "address " + caller.Address
	}
	return by
}

// follow brings a manifest that is asked for, or makes its tag fresh, where the namespace
// follows peers.
func (d *Door) follow(c *gin.Context, name oci.Name, target string) error {
	if d.follower == nil || !d.follower.Follows(name) {
		return nil
	}
	by := d.asker(c)
	if err := d.follower.Loop(by.Via); err != nil {
		return err
	}
	if strings.Contains(target, ":") {
		digest, err := oci.ParseDigest(target)
		if err == nil {
			err = d.follower.Manifest(c.Request.Context(), name, digest, by)
		}
		return err
	}
	tag, err := oci.ParseTag(target)
	if err != nil {
		return err
	}
	served, err := d.follower.Tag(c.Request.Context(), name, tag, by)
	if served.Stale != "" {
		// RFC 9111 made the header obsolete and left it to be read by people, which this is for.
		c.Header("Warning", fmt.Sprintf("110 - %q", served.Stale))
	}
	return err
}

// stream sends a blob as it comes from a peer, and reports whether it did.
func (d *Door) stream(c *gin.Context, name oci.Name, digest oci.Digest) (bool, error) {
	if d.follower == nil || !d.follower.Follows(name) {
		return false, nil
	}
	by := d.asker(c)
	if err := d.follower.Loop(by.Via); err != nil {
		return false, err
	}
	s, err := d.follower.Blob(c.Request.Context(), name, digest, by)
	if err != nil || s == nil {
		return false, err
	}
	defer s.Close()
	c.Header(headerDigest, digest.String())
	c.Header("ETag", oci.ETag(digest))
	c.Header("Accept-Ranges", "bytes")
	asked := c.GetHeader("Range")
	if condition := c.GetHeader("If-Range"); condition != "" && condition != oci.ETag(digest) {
		asked = ""
	}
	part, partial, err := parseRange(asked, s.Size)
	if err != nil {
		c.Header("Content-Range", fmt.Sprintf("bytes */%d", s.Size))
		return false, err
	}
	status := http.StatusPartialContent
	if !partial {
		part, status = byteRange{0, s.Size}, http.StatusOK
	}
	describeBlob(c, status, part, s.Size)
	control := http.NewResponseController(inner(c))
	// What is begun goes out as it comes.
	if err := control.Flush(); err != nil {
		c.Abort()
		return true, nil
	}
	sent, err := s.Copy(c.Request.Context(), inner(c), part.offset, part.length, func(bytes int64) error {
		d.budget.Sign()
		return control.SetWriteDeadline(time.Now().Add(time.Minute + time.Duration(bytes/slowest)*time.Second))
	})
	c.Set(SentKey, sent)
	d.registry.CountTraffic(callerOf(c).Account.ID, name, usage.Traffic{BytesOut: sent})
	d.follower.Count(name, true, sent)
	if err != nil {
		// The status is out: an answer that is cut looks so.
		c.Abort()
	}
	return true, nil
}

// countHere counts content that a followed namespace served from here.
func (d *Door) countHere(name oci.Name, bytes int64) {
	if d.follower != nil && d.follower.Follows(name) {
		d.follower.Count(name, false, bytes)
	}
}
