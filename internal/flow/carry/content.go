package carry

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"warthesis/internal/oci"
)

// content is a blob of a source, read while it is sent. Whoever sends it reads in order, and
// begins anew at another place only where something broke. A read that fails is tried again
// for a while; one that goes on failing ends what is being sent.
type content struct {
	ctx context.Context
	end context.CancelCauseFunc
	c   *Carrier
	i   *Image
	d   oci.Descriptor

	mu   sync.Mutex
	body io.ReadCloser
	at   int64
	// sum has what was read from the beginning on, nil once something was left out.
	sum hash.Hash
	err error
}

// sourcePatience is how long a source that sends nothing is asked again.
const sourcePatience = 2 * time.Minute

// ReadAt reads on, or begins anew at an offset.
func (r *content) ReadAt(p []byte, off int64) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return 0, r.err
	}
	if off >= r.d.Size {
		return 0, io.EOF
	}
	if limit := r.c.o.Limit; limit != nil {
		p = p[:min(len(p), limit.Burst())]
		if err := limit.WaitN(r.ctx, len(p)); err != nil {
			return 0, err
		}
	}
	if off != r.at {
		r.drop()
		r.at, r.sum = off, nil
	}
	if off == 0 {
		r.sum = r.d.Digest.Algorithm().Hash()
	}
	n, err := r.read(p)
	if err == nil {
		err = r.check(p[:n])
	}
	if err != nil && r.ctx.Err() == nil {
		r.err = err
		r.end(err)
	}
	return n, err
}

// read reads some bytes, over several connections if need be. The mutex is held.
func (r *content) read(p []byte) (int, error) {
	pauses := backoff.NewExponentialBackOff()
	for began := time.Now(); ; {
		err := r.open()
		if err == nil {
			var n int
			n, err = r.body.Read(p)
			if n > 0 {
				return n, nil
			}
			if err == nil {
				continue
			}
			// It ended too soon, or broke.
			r.drop()
		}
		var known *oci.Error
		pause := pauses.NextBackOff()
		if errors.As(err, &known) && !passes(known) || time.Since(began)+pause > sourcePatience {
			return 0, r.c.fromFails(r.i, fmt.Errorf("%s: %w", r.d.Digest, err))
		}
		select {
		case <-time.After(pause):
		case <-r.ctx.Done():
			return 0, context.Cause(r.ctx)
		}
	}
}

// passes reports whether a registry that refused like this may answer soon.
func passes(err *oci.Error) bool {
	return err.Code == oci.CodeTooManyRequests || err.Code == oci.CodeUnavailable
}

func (r *content) open() error {
	if r.body != nil {
		return nil
	}
	body, _, err := r.i.from.OpenBlob(r.ctx, r.i.Item.Ref.Name, r.d, r.at)
	if err != nil {
		return err
	}
	r.body = body
	return nil
}

// check goes on with the sum, and refuses the end of what is not what its digest says.
func (r *content) check(p []byte) error {
	r.at += int64(len(p))
	if r.at > r.d.Size {
		return r.lies()
	}
	if r.sum == nil {
		return nil
	}
	r.sum.Write(p)
	if r.at == r.d.Size && fmt.Sprintf("%x", r.sum.Sum(nil)) != r.d.Digest.Encoded() {
		return r.lies()
	}
	return nil
}

func (r *content) lies() error {
	return oci.Errorf(oci.CodeDigestInvalid, "what %s sends for %s is something else; whoever runs it has to mend it", r.c.source(r.i), r.d.Digest)
}

// drop closes the connection. The mutex is held.
func (r *content) drop() {
	if r.body != nil {
		r.body.Close()
		r.body = nil
	}
}

func (r *content) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.drop()
}

// failed is why the source failed, nil where it did not.
func (r *content) failed() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}
