package follow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// mostResumed is how often a transfer is gone on with that broke off.
const mostResumed = 5

// opened is content that a peer has begun to send.
type opened struct {
	body   io.ReadCloser
	length int64
	client *peer.Client
}

// fetch brings content into its repository. seen is what the one who asks may read here.
func (f *Follower) fetch(ctx context.Context, of key, s *Stream, among []candidate, seen record.Seen) error {
	d := oci.Descriptor{Digest: of.digest, Size: s.Size}
	none := func(c candidate) error {
		return oci.Errorf(oci.CodeBlobUnknown, "the peer %s has no blob %s in %s", c.Name, d.Digest, c.there)
	}
	if f.registry.HasContent(ctx, of.digest, s.Size) {
		// It only has to be there as well, for this repository.
		from, _, err := ask(ctx, f, among, patienceNot, func(asking context.Context, client *peer.Client, c candidate) (bool, error) {
			there, err := client.HasBlob(asking, c.there, d)
			if err == nil && !there {
				err = none(c)
			}
			return there, err
		})
		if err != nil {
			return nowhere(of, err)
		}
		may, err := f.registry.MayHoldHere(ctx, from.ID, of.digest, seen)
		if err != nil {
			return err
		}
		if may {
			if held, err := f.registry.HoldHere(ctx, of.name, of.digest, s.Size); err != nil || held {
				return err
			}
		}
	}
	// What is opened goes on beyond the question: how long that may take is the way's own bound.
	from, first, err := ask(ctx, f, among, patienceNot, func(_ context.Context, client *peer.Client, c candidate) (o opened, err error) {
		o.client = client
		o.body, o.length, err = client.OpenBlob(ctx, c.there, d, 0)
		return o, err
	})
	if err != nil {
		return nowhere(of, err)
	}
	if first.length >= 0 && first.length != s.Size {
		first.body.Close()
		return oci.Errorf(oci.CodeSizeInvalid, "the image says that %s has %d bytes, and the peer %s would send %d", of.digest, s.Size, from.Name, first.length)
	}
	// Only now: a peer that hangs holds no room of the namespace.
	into, err := f.registry.BeginFetch(ctx, from.ID, of.name, of.digest, s.Size)
	if err != nil {
		first.body.Close()
		return err
	}
	file, err := into.View()
	if err != nil {
		first.body.Close()
		into.Abandon()
		return err
	}
	into.Eager = true
	into.OnTake = func(offset int64) { s.change(func() { s.written = offset }) }
	s.change(func() { s.file, s.view, s.opened = file, into.View, true })
	if err := f.copy(ctx, first, from, d, into); err != nil {
		into.Abandon()
		return err
	}
	return into.Finish(ctx, of.digest)
}

// nowhere says of content that no peer has it.
func nowhere(of key, err error) error {
	if errors.Is(err, errNowhere) {
		return oci.Errorf(oci.CodeBlobUnknown, "no peer has the blob %s of %s", of.digest, of.name)
	}
	return err
}

// slowest is how many bytes a second have to come of a transfer that takes longer than
// slowFor.
const (
	slowest = 1 << 10
	slowFor = time.Minute
)

// steady ends a transfer that drips: it would hold up others.
type steady struct {
	io.ReadCloser
	began time.Time
	came  int64
	// err is what reading failed with, nil where it did not.
	err error
}

// Read reads what came.
func (s *steady) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	s.came += int64(n)
	if took := time.Since(s.began); err == nil && took > slowFor && s.came < int64(took/time.Second)*slowest {
		err = fmt.Errorf("%d bytes came in %s, which is too slow", s.came, took.Round(time.Second))
	}
	if err != io.EOF {
		s.err = err
	}
	return n, err
}

// copy takes content, and goes on where the transfer breaks off.
func (f *Follower) copy(ctx context.Context, first opened, from candidate, d oci.Descriptor, into *registry.Fetch) error {
	body := first.body
	for resumed := 0; ; resumed++ {
		before := into.Offset()
		reading := &steady{ReadCloser: body, began: time.Now()}
		// One byte more than is missing is enough to see that too much comes.
		_, err := into.ReadFrom(io.LimitReader(reading, d.Size-before+1))
		body.Close()
		switch left := d.Size - into.Offset(); {
		case left < 0:
			return oci.Errorf(oci.CodeSizeInvalid, "the peer %s sends more than the %d bytes that %s has", from.Name, d.Size, d.Digest)
		case err == nil && left == 0:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && reading.err == nil:
			// The disk here is no fault of the peer.
			return err
		case resumed == mostResumed, into.Offset() == before && resumed > 0:
			if err == nil {
				err = fmt.Errorf("the transfer ended after %d of %d bytes", into.Offset(), d.Size)
			}
			return f.health.judge(from.Peer, err)
		}
		if body, _, err = first.client.OpenBlob(ctx, from.there, d, into.Offset()); err != nil {
			return f.health.judge(from.Peer, err)
		}
	}
}
