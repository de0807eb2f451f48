package peer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"warthesis/internal/oci"
)

// HasBlob reports whether the repository holds the blob.
func (c *Client) HasBlob(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error) {
	return try(ctx, c, nil, func() (bool, error) {
		answer, err := c.do(ctx, request{method: http.MethodHead, path: blobPath(name, d)}, http.StatusOK, http.StatusNotFound)
		if err != nil {
			return false, err
		}
		answer.Body.Close()
		return answer.StatusCode == http.StatusOK, nil
	})
}

func blobPath(name oci.Name, d oci.Descriptor) string {
	return string(name) + "/blobs/" + d.Digest.String()
}

// PushBlob sends a blob that the repository lacks. Where another repository of
// the registry has it, it is mounted and nothing is sent. After a break it asks
// the registry how far it came and goes on from there. told hears of every byte
// that was read for sending.
func (c *Client) PushBlob(ctx context.Context, name oci.Name, d oci.Descriptor, content io.ReaderAt, told func(n int)) (Outcome, error) {
	return c.push(ctx, &pushing{client: c, name: name, d: d, content: content, told: told})
}

func (c *Client) push(ctx context.Context, p *pushing) (Outcome, error) {
	p.recall()
	outcome, err := try(ctx, c, func() int64 { return p.kept }, func() (Outcome, error) {
		outcome, err := p.goOn(ctx)
		p.again = true
		return outcome, err
	})
	if err == nil && p.remembered {
		c.options.Sessions.Drop(c.registry, p.name, p.d.Digest)
	}
	return outcome, err
}

// pushing is a blob on its way, over several tries.
type pushing struct {
	client *Client
	name   oci.Name
	// from is another repository that has it, "" for none that is known.
	from    oci.Name
	d       oci.Descriptor
	content io.ReaderAt
	told    func(int)
	session *url.URL
	// again tells that an earlier try broke off, perhaps after its last byte.
	again bool
	// kept is how far the registry said that it came.
	kept int64
	// vanished counts the sessions that the registry no longer knew.
	vanished int
	// remembered tells that a later run would find the session.
	remembered bool
}

// mostVanished is how many sessions may vanish under one blob before it fails.
const mostVanished = 3

// worthRemembering is the size in bytes from which an upload is gone on with by a
// later run.
const worthRemembering = 1 << 20

// recall finds the session that an earlier run left.
func (p *pushing) recall() {
	c := p.client
	if c.options.Sessions == nil || p.d.Size < worthRemembering {
		return
	}
	left := c.options.Sessions.Find(c.registry, p.name, p.d.Digest)
	if at, err := Elsewhere(c.base, left); err == nil {
		p.session, p.again, p.remembered = at, true, true
	}
}

// remember notes the session for a later run.
func (p *pushing) remember() {
	c := p.client
	if c.options.Sessions == nil || p.d.Size < worthRemembering || p.session == nil {
		return
	}
	c.options.Sessions.Keep(c.registry, p.name, p.d.Digest, p.session.String())
	p.remembered = true
}

func (p *pushing) goOn(ctx context.Context) (Outcome, error) {
	var offset int64
	var err error
	if p.session != nil {
		if p.session, offset, err = p.client.progress(ctx, p.session); err != nil {
			return "", err
		}
		p.kept = max(p.kept, offset)
	}
	if p.session == nil && p.again {
		// The answer may have been lost, and not the blob.
		if there, err := p.client.HasBlob(ctx, p.name, p.d); err != nil || there {
			return Sent, err
		}
	}
	if p.session == nil {
		mounted := false
		if p.session, mounted, err = p.client.startUpload(ctx, p.name, p.from, p.d); err != nil || mounted {
			return Mounted, err
		}
		p.remember()
	}
	err = p.client.finishUpload(ctx, p.session, p.d, p.content, offset, p.told)
	if lost := errors.Is(err, oci.CodeBlobUploadUnknown) || errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeRangeInvalid); lost && p.vanished < mostVanished {
		// A session that is gone, or elsewhere than it said, is begun anew.
		p.vanished++
		p.session, err = nil, temporary{error: err}
	}
	return Sent, err
}

// startUpload opens a session. It asks for a mount in the same breath: a registry
// that does not mount without being told from where opens the session all the
// same (distribution-spec, "Mounting a blob from another repository"), and one
// that takes offence is asked again without it.
func (c *Client) startUpload(ctx context.Context, name, from oci.Name, d oci.Descriptor) (session *url.URL, mounted bool, err error) {
	at := c.base.JoinPath("v2", string(name), "blobs", "uploads")
	at.Path += "/"
	query := url.Values{"mount": {d.Digest.String()}}
	if from != "" {
		query.Set("from", string(from))
	}
	at.RawQuery = query.Encode()
	open := request{method: http.MethodPost, at: at, body: func() io.Reader { return http.NoBody }}
	answer, err := c.do(ctx, open, http.StatusAccepted, http.StatusCreated)
	var passing temporary
	if err != nil && !errors.As(err, &passing) && (from != "" || !errors.Is(err, oci.CodeUnauthorized)) {
		at.RawQuery = ""
		answer, err = c.do(ctx, open, http.StatusAccepted)
	}
	if err != nil {
		return nil, false, err
	}
	answer.Body.Close()
	if answer.StatusCode == http.StatusCreated {
		return nil, true, nil
	}
	session, err = c.location(answer)
	return session, false, err
}

// location reads where to go on (distribution-spec, "Pushing blobs"): the address
// may be relative, and may lead elsewhere.
func (c *Client) location(answer *reply) (*url.URL, error) {
	if answer.Header.Get("Location") == "" {
		return nil, oci.Errorf(oci.CodeUnsupported, "%s does not say where to send the upload", c.registry)
	}
	return Elsewhere(answer.Request.URL, answer.Header.Get("Location"))
}

// progress asks how far an upload came. A session that the registry no longer
// knows is nil: the upload starts anew.
func (c *Client) progress(ctx context.Context, session *url.URL) (*url.URL, int64, error) {
	answer, err := c.do(ctx, request{method: http.MethodGet, at: session}, http.StatusNoContent)
	if err != nil {
		var passing temporary
		if errors.As(err, &passing) {
			return session, 0, err
		}
		return nil, 0, nil
	}
	answer.Body.Close()
	_, last, found := strings.Cut(answer.Header.Get("Range"), "-")
	end, err := strconv.ParseInt(last, 10, 64)
	// "0-0" is what registries say of one byte and of none: too little to go on from.
	if !found || err != nil || end <= 0 {
		return nil, 0, nil
	}
	if at, err := c.location(answer); err == nil {
		session = at
	}
	return session, end + 1, nil
}

func (c *Client) finishUpload(ctx context.Context, session *url.URL, d oci.Descriptor, content io.ReaderAt, offset int64, told func(int)) error {
	if offset > d.Size {
		return oci.Errorf(oci.CodeRangeInvalid, "%s says it has %d bytes of a blob of %d", c.registry, offset, d.Size)
	}
	at := *session
	query := at.Query()
	query.Set("digest", d.Digest.String())
	at.RawQuery = query.Encode()
	header := http.Header{"Content-Type": {"application/octet-stream"}}
	if offset > 0 && offset < d.Size {
		header.Set("Content-Range", fmt.Sprintf("%d-%d", offset, d.Size-1))
	}
	answer, err := c.do(ctx, request{
		method: http.MethodPut, at: &at, header: header, length: d.Size - offset,
		body: func() io.Reader {
			if offset == d.Size {
				return http.NoBody
			}
			return &counted{io.NewSectionReader(content, offset, d.Size-offset), told}
		},
	}, http.StatusCreated)
	if err != nil {
		return err
	}
	answer.Body.Close()
	return nil
}

// beginsAt reports whether a part begins where it should (RFC 9110, section 14.4).
func beginsAt(contentRange string, offset int64) bool {
	spec, found := strings.CutPrefix(contentRange, "bytes ")
	first, _, _ := strings.Cut(spec, "-")
	return found && first == strconv.FormatInt(offset, 10)
}

// counted tells of what is read.
type counted struct {
	io.Reader
	told func(int)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if n > 0 && c.told != nil {
		c.told(n)
	}
	return n, err
}

// Receiver takes content, from where an earlier try stopped.
type Receiver interface {
	io.Writer
	// Offset is how many bytes it has.
	Offset() int64
	// Restart drops them.
	Restart() error
	// Commit checks the content against its digest and keeps it.
	Commit() error
	// Close lets go of it; what came stays for another try.
	Close() error
}

// PullBlob brings a blob into the receiver, from where that stands, and commits
// it. told hears of every byte that came.
func (c *Client) PullBlob(ctx context.Context, name oci.Name, d oci.Descriptor, to Receiver, told func(n int)) error {
	if err := c.fetch(ctx, name, d, to, told); err != nil {
		return errors.Join(err, to.Close())
	}
	return to.Commit()
}

func (c *Client) fetch(ctx context.Context, name oci.Name, d oci.Descriptor, to Receiver, told func(int)) error {
	_, err := try(ctx, c, to.Offset, func() (struct{}, error) {
		if to.Offset() == d.Size {
			return struct{}{}, nil
		}
		return struct{}{}, c.fetchRest(ctx, name, d, to, told)
	})
	return err
}

func (c *Client) fetchRest(ctx context.Context, name oci.Name, d oci.Descriptor, to Receiver, told func(int)) error {
	header := http.Header{}
	if to.Offset() > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", to.Offset()))
	}
	answer, err := c.do(ctx, request{method: http.MethodGet, path: blobPath(name, d), header: header}, http.StatusOK, http.StatusPartialContent)
	if errors.Is(err, oci.CodeManifestUnknown) {
		// An answer without a sentence does not say what is not there.
		err = oci.Errorf(oci.CodeBlobUnknown, "%s has no blob %s in %s", c.registry, d.Digest, name)
	}
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusPartialContent && !beginsAt(answer.Header.Get("Content-Range"), to.Offset()) {
		return oci.Errorf(oci.CodeUnsupported, "%s sends another part of %s than was asked for (%.60q)", c.registry, d.Digest, answer.Header.Get("Content-Range"))
	}
	if answer.StatusCode == http.StatusOK && to.Offset() > 0 {
		// The registry does not serve parts: all of it comes again.
		if err := to.Restart(); err != nil {
			return err
		}
	}
	// One byte more than is missing is enough to see that too much comes.
	left := d.Size - to.Offset()
	if answer.ContentLength >= 0 && answer.ContentLength != left {
		return oci.Errorf(oci.CodeSizeInvalid, "the image says that %s has %d bytes, and %s would send %d where %d are missing", d.Digest, d.Size, c.registry, answer.ContentLength, left)
	}
	n, err := io.Copy(to, &counted{io.LimitReader(answer.Body, left+1), told})
	var local *fs.PathError
	switch {
	case errors.As(err, &local):
		return fmt.Errorf("keep %s: %w", d.Digest, err)
	case err != nil:
		return temporary{error: fmt.Errorf("the transfer of %s broke off: %w", d.Digest, err)}
	case n < left:
		return temporary{error: fmt.Errorf("the transfer of %s broke off after %d of %d bytes", d.Digest, to.Offset(), d.Size)}
	}
	return nil
}

// OpenBlob opens a blob for reading from an offset on, and returns how many bytes are to come,
// below zero where the registry does not say. What comes is not checked: its reader does.
func (c *Client) OpenBlob(ctx context.Context, name oci.Name, d oci.Descriptor, offset int64) (body io.ReadCloser, length int64, err error) {
	header := http.Header{}
	if offset > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", offset))
	}
	type opened struct {
		io.ReadCloser
		length int64
	}
	found, err := try(ctx, c, nil, func() (opened, error) {
		answer, err := c.do(ctx, request{method: http.MethodGet, path: blobPath(name, d), header: header}, http.StatusOK, http.StatusPartialContent)
		if err != nil {
			return opened{}, err
		}
		if answer.StatusCode == http.StatusPartialContent {
			if !beginsAt(answer.Header.Get("Content-Range"), offset) {
				answer.Body.Close()
				return opened{}, oci.Errorf(oci.CodeUnsupported, "%s sends another part of %s than was asked for", c.registry, d.Digest)
			}
			return opened{answer.Body, answer.ContentLength}, nil
		}
		// It does not serve parts: what is there already comes again.
		if _, err := io.CopyN(io.Discard, answer.Body, offset); err != nil {
			answer.Body.Close()
			return opened{}, temporary{error: fmt.Errorf("the transfer of %s broke off: %w", d.Digest, err)}
		}
		if answer.ContentLength >= 0 {
			answer.ContentLength -= offset
		}
		return opened{answer.Body, answer.ContentLength}, nil
	})
	return found.ReadCloser, found.length, err
}
