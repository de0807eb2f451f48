package protocol

import (
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
)

// incoming is a request's body that may take as long as it likes, but not stall.
type incoming struct {
	body    io.Reader
	control *http.ResponseController
	idle    time.Duration

	mu  sync.Mutex
	cut bool
}

func (d *Door) incoming(c *gin.Context) *incoming {
	return &incoming{body: c.Request.Body, control: http.NewResponseController(inner(c)), idle: d.idle}
}

var errCut = oci.Errorf(oci.CodeBlobUploadInvalid, "another request took this upload over; ask for its progress and go on from there")

// Read reads on, with a new deadline for each piece.
func (b *incoming) Read(p []byte) (int, error) {
	if err := b.extend(); err != nil {
		return 0, err
	}
	n, err := b.body.Read(p)
	if err == nil || err == io.EOF {
		return n, err
	}
	var stalled net.Error
	switch {
	case b.wasCut():
		err = errCut
	case errors.As(err, &stalled) && stalled.Timeout():
		err = oci.Errorf(oci.CodeSizeInvalid, "no byte came for %s, so the registry stopped waiting; send on from where the upload is", b.idle)
	default:
		err = oci.Errorf(oci.CodeSizeInvalid, "the body ended before its announced length; send on from where the upload is")
	}
	return n, err
}

func (b *incoming) extend() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.cut {
		return errCut
	}
	return b.control.SetReadDeadline(time.Now().Add(b.idle))
}

func (b *incoming) wasCut() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.cut
}

// Cut ends a read that waits for bytes, and all later ones.
func (b *incoming) Cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.cut = true
	// Where the connection has gone already there is nothing left to cut.
	_ = b.control.SetReadDeadline(time.Unix(1, 0))
}

// sendSlice is what is handed to the socket at once: small enough that a slow and
// honest receiver gets through it before the deadline.
const sendSlice = 8 << 20

// slowest is the rate in bytes a second below which a receiver counts as stalled.
const slowest = 16 << 10

// sendFile hands part of an open file to the socket. It goes past Gin's writer,
// which would hide that the connection can take a file without copying it
// through this process. It returns the bytes that were sent.
func (d *Door) sendFile(c *gin.Context, f blob.File, offset, length int64) (sent int64, err error) {
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return 0, err
	}
	c.Writer.WriteHeaderNow()
	w := inner(c)
	control := http.NewResponseController(w)
	for sent < length {
		slice := min(sendSlice, length-sent)
		allowed := time.Minute + time.Duration(slice/slowest)*time.Second
		if err := control.SetWriteDeadline(time.Now().Add(allowed)); err != nil {
			return sent, err
		}
		n, err := io.CopyN(w, f, slice)
		d.budget.Sign()
		sent += n
		if err != nil {
			return sent, err
		}
	}
	return sent, nil
}

// inner returns the server's own writer below Gin's.
func inner(c *gin.Context) http.ResponseWriter {
	if wrapped, ok := c.Writer.(interface{ Unwrap() http.ResponseWriter }); ok {
		return wrapped.Unwrap()
	}
	return c.Writer
}
