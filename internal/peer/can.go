package peer

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// The extension by which registries of ours answer one question for many tags, and the
// standard's way to ask which extensions there are (distribution-spec, "Extensions").
const (
	extensionsPath = "_oci/ext/discover"
	// DigestsExtension is its name.
	DigestsExtension = "_warthesis"
	// DigestsPath is where it stands behind a repository's name.
	DigestsPath = DigestsExtension + "/tags/digests"
)

// HasDigests reports whether the registry answers Digests.
func (c *Client) HasDigests(ctx context.Context) (bool, error) {
	answer, err := c.do(ctx, request{method: http.MethodGet, path: extensionsPath}, http.StatusOK)
	if err != nil {
		return false, passing(err)
	}
	defer answer.Body.Close()
	var found struct{ Extensions []struct{ Name string } }
	if err := json.NewDecoder(io.LimitReader(answer.Body, errorLimit)).Decode(&found); err != nil {
		return false, nil
	}
	for _, e := range found.Extensions {
		if e.Name == DigestsExtension {
			return true, nil
		}
	}
	return false, nil
}

// passing keeps of an error what may be otherwise the next time; all else is an answer.
func passing(err error) error {
	var soon temporary
	var known *oci.Error
	if errors.As(err, &soon) || !errors.As(err, &known) {
		return err
	}
	return nil
}

// TagDigest is a tag with the digest that it points to.
type TagDigest struct {
	Name   oci.Tag    `json:"name"`
	Digest oci.Digest `json:"digest"`
}

// Digests returns a page of the tags of a repository behind one, with what they point to,
// and the last of the page where more follow. Only registries that HasDigests tells of
// answer it.
func (c *Client) Digests(ctx context.Context, name oci.Name, after string) (tags []TagDigest, next string, err error) {
	var list struct{ Tags []TagDigest }
	next, err = c.page(ctx, string(name)+"/"+DigestsPath, after, &list)
	return list.Tags, next, err
}

// HasCatalogue reports whether the registry lists its repositories.
func (c *Client) HasCatalogue(ctx context.Context) (bool, error) {
	answer, err := c.do(ctx, request{method: http.MethodGet, path: "_catalog", query: url.Values{"n": {"1"}}}, http.StatusOK)
	if err != nil {
		return false, passing(err)
	}
	return true, answer.Body.Close()
}

// HasReferrers reports whether the registry answers which manifests refer to one
// (distribution-spec, "Listing Referrers").
func (c *Client) HasReferrers(ctx context.Context, name oci.Name) (bool, error) {
	none := oci.DigestOf(oci.SHA256, []byte("what nothing refers to"))
	answer, err := c.do(ctx, request{method: http.MethodGet, path: string(name) + "/referrers/" + none.String()}, http.StatusOK)
	if err != nil {
		return false, passing(err)
	}
	defer answer.Body.Close()
	return strings.HasPrefix(answer.Header.Get("Content-Type"), oci.MediaTypeIndex), nil
}

// DeletesTags reports whether the registry removes tags alone: it is asked to remove one
// that nobody has.
func (c *Client) DeletesTags(ctx context.Context, name oci.Name) (bool, error) {
	var random [12]byte
	rand.Read(random[:])
	answer, err := c.do(ctx, request{method: http.MethodDelete, path: string(name) + "/manifests/nobodys-" + hex.EncodeToString(random[:])}, http.StatusAccepted, http.StatusNotFound)
	if err != nil {
		return false, passing(err)
	}
	return true, answer.Body.Close()
}

// TakesChunks reports whether the registry takes a blob in pieces: an upload is begun,
// given a byte and cancelled.
func (c *Client) TakesChunks(ctx context.Context, name oci.Name) (bool, error) {
	answer, err := c.do(ctx, request{method: http.MethodPost, path: string(name) + "/blobs/uploads/", body: func() io.Reader { return http.NoBody }}, http.StatusAccepted)
	if err != nil {
		return false, passing(err)
	}
	answer.Body.Close()
	at, err := c.location(answer)
	if err != nil {
		return false, nil
	}
	takes := true
	answer, err = c.do(ctx, request{
		method: http.MethodPatch, at: at, header: http.Header{"Content-Type": {"application/octet-stream"}, "Content-Range": {"0-0"}},
		body: func() io.Reader { return bytes.NewReader([]byte{0}) }, length: 1,
	}, http.StatusAccepted)
	if err != nil {
		takes, err = false, passing(err)
	} else {
		answer.Body.Close()
		if next, failed := c.location(answer); failed == nil {
			at = next
		}
	}
	c.cancelUpload(ctx, at)
	return takes, err
}

// TryBytes reports how long the registry takes for bytes: an upload is begun, given that many
// and cancelled.
func (c *Client) TryBytes(ctx context.Context, name oci.Name, count int) (time.Duration, error) {
	answer, err := c.do(ctx, request{method: http.MethodPost, path: string(name) + "/blobs/uploads/", body: func() io.Reader { return http.NoBody }}, http.StatusAccepted)
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	at, err := c.location(answer)
	if err != nil {
		return 0, err
	}
	// What a line would press together says nothing.
	raw := make([]byte, count)
	rand.Read(raw)
	began := time.Now()
	answer, err = c.do(ctx, request{
		method: http.MethodPatch, at: at, header: http.Header{"Content-Type": {"application/octet-stream"}, "Content-Range": {fmt.Sprintf("0-%d", count-1)}},
		body: func() io.Reader { return bytes.NewReader(raw) }, length: int64(count),
	}, http.StatusAccepted)
	took := time.Since(began)
	if err == nil {
		answer.Body.Close()
		if next, failed := c.location(answer); failed == nil {
			at = next
		}
	}
	// It is let go of, however it went.
	ending, end := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer end()
	c.cancelUpload(ending, at)
	return took, err
}

// cancelUpload ends an upload; a registry that cannot lets it end by itself.
func (c *Client) cancelUpload(ctx context.Context, at *url.URL) {
	if answer, err := c.do(ctx, request{method: http.MethodDelete, at: at}, http.StatusNoContent, http.StatusAccepted, http.StatusOK); err == nil {
		answer.Body.Close()
	}
}
