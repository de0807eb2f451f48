package follow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record/follows"
	"warthesis/internal/registry"
)

// heldBack is how much of content goes out only once all of it was checked and kept, in
// bytes.
const heldBack = 64 << 10

// The bounds of what is fetched at the same time, by one asker and in all.
const (
	mostFetches    = 128
	mostFetchesOfA = 24
)

// mostResumed is how often a transfer is gone on with that broke off.
const mostResumed = 5

// key joins those who ask a peer for the same content for the same repository.
type key struct {
	name   oci.Name
	digest oci.Digest
}

// blobOf names content among what is remembered.
func blobOf(of key) string { return "blob " + string(of.name) + "@" + of.digest.String() }

// fetches are those under way.
type fetches struct {
	mu   sync.Mutex
	open map[key]*Stream
	// of counts those that an asker began.
	of map[string]int
}

// Stream is content that comes from a peer, for those who read it meanwhile.
type Stream struct {
	// Size is in bytes.
	Size int64

	mu sync.Mutex
	// moved is closed and made anew with each change.
	moved chan struct{}
	file  blob.File
	// view opens the file once more, while content comes.
	view func() (blob.File, error)
	// written is how much the file has; opened tells that a peer has it, and kept that all
	// of it was checked and is held.
	written      int64
	opened, kept bool
	err          error
	readers      int
	over         bool
}

func (s *Stream) change(do func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do()
	close(s.moved)
	s.moved = make(chan struct{})
}

// Blob returns content that a repository lacks and a manifest here names, as it comes from a
// peer; nil where it is not to be had, or is here by now. It fails with oci.CodeUnavailable
// and with oci.CodeTooManyRequests. Who gets a stream closes it.
func (f *Follower) Blob(ctx context.Context, name oci.Name, digest oci.Digest, by Asker) (*Stream, error) {
	of := f.of(name)
	if of == nil || registry.Hidden(ctx) {
		return nil, nil
	}
	in, err := f.records.Repository(ctx, name)
	if err != nil || f.isAbsent(by.names(blobOf(key{name, digest}))) {
		return nil, nil
	}
	size, err := f.records.View(ctx).Follows().Wanted(in.ID, digest)
	if errors.Is(err, follows.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := f.records.View(ctx).Bans().Check(in.NamespaceID, digest); err != nil {
		return nil, err
	}
	among, err := f.candidates(ctx, of, name, "", by)
	if err != nil || len(among) == 0 {
		return nil, err
	}
	s, err := f.join(key{name, digest}, size, by, among)
	if err != nil {
		return nil, err
	}
	return s.wait(ctx)
}

// join returns the stream of content, which it begins where nobody did.
func (f *Follower) join(of key, size int64, by Asker, among []candidate) (*Stream, error) {
	f.fetches.mu.Lock()
	defer f.fetches.mu.Unlock()
	if s := f.fetches.open[of]; s != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.readers++
		return s, nil
	}
	switch {
	case f.ctx.Err() != nil:
		return nil, errStops
	case len(f.fetches.open) >= mostFetches:
		return nil, oci.Errorf(oci.CodeTooManyRequests, "%d blobs are being fetched from other registries, which is the most; try again in a moment", mostFetches)
	case f.fetches.of[by.Who] >= mostFetchesOfA:
		return nil, oci.Errorf(oci.CodeTooManyRequests, "%d blobs are being fetched for you from other registries, which is the most; wait for some", mostFetchesOfA)
	}
	s := &Stream{Size: size, moved: make(chan struct{}), readers: 1}
	f.fetches.open[of] = s
	f.fetches.of[by.Who]++
	// It goes on to its end when the one who began it leaves.
	f.ended.Go(func() {
		err := f.fetch(peer.WithVia(f.ctx, f.via(by)), of, s, among)
		f.fetches.mu.Lock()
		delete(f.fetches.open, of)
		if f.fetches.of[by.Who]--; f.fetches.of[by.Who] == 0 {
			delete(f.fetches.of, by.Who)
		}
		f.fetches.mu.Unlock()
		if errors.Is(err, oci.CodeBlobUnknown) {
			f.noteAbsent(by.names(blobOf(of)))
		}
		// A peer that does not answer is told of once, and not for each who asks.
		if err != nil && !errors.Is(err, oci.CodeUnavailable) {
			slog.Warn("content of a peer did not come", "repository", of.name, "digest", of.digest, "error", err)
		}
		s.change(func() { s.err, s.kept, s.over = err, err == nil, true })
		s.letGo()
	})
	return s, nil
}

// opened is content that a peer has begun to send.
type opened struct {
	body   io.ReadCloser
	length int64
	client *peer.Client
}

// fetch brings content into its repository.
func (f *Follower) fetch(ctx context.Context, of key, s *Stream, among []candidate) error {
	d := oci.Descriptor{Digest: of.digest, Size: s.Size}
	none := func(c candidate) error {
		return oci.Errorf(oci.CodeBlobUnknown, "the peer %s has no blob %s in %s", c.Name, d.Digest, c.there)
	}
	if f.registry.HasContent(ctx, of.digest, s.Size) {
		// It only has to be there as well, for this repository.
		_, _, err := ask(ctx, f, among, patienceNot, func(asking context.Context, client *peer.Client, c candidate) (bool, error) {
			there, err := client.HasBlob(asking, c.there, d)
			if err == nil && !there {
				err = none(c)
			}
			return there, err
		})
		if err != nil {
			return nowhere(of, err)
		}
		if held, err := f.registry.HoldHere(ctx, of.name, of.digest, s.Size); err != nil || held {
			return err
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
	into, err := f.registry.BeginFetch(ctx, of.name, of.digest, s.Size)
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

// wait waits until a peer has it, or it is here: then there is nothing to stream.
func (s *Stream) wait(ctx context.Context) (*Stream, error) {
	for {
		s.mu.Lock()
		moved, opened, over, err := s.moved, s.opened, s.over, s.err
		s.mu.Unlock()
		switch {
		case over && (err == nil || errors.Is(err, oci.CodeBlobUnknown)):
			s.Close()
			return nil, nil
		case over:
			s.Close()
			return nil, told(err)
		case opened:
			return s, nil
		}
		select {
		case <-moved:
		case <-ctx.Done():
			s.Close()
			return nil, ctx.Err()
		}
	}
}

// Close lets go of a stream.
func (s *Stream) Close() {
	s.mu.Lock()
	s.readers--
	s.mu.Unlock()
	s.letGo()
}

// letGo closes the file once nobody reads it, and nothing comes any more.
func (s *Stream) letGo() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over && s.readers == 0 && s.file != nil {
		s.file.Close()
		s.file = nil
	}
}

// sliceLength is how much goes out at once, in bytes.
const sliceLength = 1 << 20

// own opens the file for one reader alone, so that a socket takes its bytes without copying
// them through the process; nil where it is at its place already, and read from the shared
// one.
func (s *Stream) own() blob.File {
	s.mu.Lock()
	view, over := s.view, s.over
	s.mu.Unlock()
	if over {
		return nil
	}
	f, err := view()
	if err != nil {
		return nil
	}
	return f
}

// write writes a part of what has come.
func (s *Stream) write(w io.Writer, own blob.File, offset, length int64) (int64, error) {
	if own == nil {
		return io.Copy(w, io.NewSectionReader(s.file, offset, length))
	}
	if _, err := own.Seek(offset, io.SeekStart); err != nil {
		return 0, err
	}
	return io.CopyN(w, own, length)
}

// Copy writes a part of the content as it comes: its last bytes only once all of it was
// checked and kept. extend is called before each write.
func (s *Stream) Copy(ctx context.Context, w io.Writer, offset, length int64, extend func(bytes int64) error) (sent int64, err error) {
	own := s.own()
	if own != nil {
		defer own.Close()
	}
	for sent < length {
		ready, err := s.ready(ctx, offset+sent)
		if err != nil {
			return sent, err
		}
		some := min(ready, length-sent, sliceLength)
		if err := extend(some); err != nil {
			return sent, err
		}
		n, err := s.write(w, own, offset+sent, some)
		sent += n
		if err == nil && n < some {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return sent, err
		}
	}
	return sent, nil
}

// ready waits until there is something behind an offset that may go out, and returns how
// much.
func (s *Stream) ready(ctx context.Context, offset int64) (int64, error) {
	for {
		s.mu.Lock()
		moved, err, most := s.moved, s.err, s.Size
		if !s.kept {
			most = min(s.written, s.Size-heldBack)
		}
		s.mu.Unlock()
		switch {
		case most > offset:
			return most - offset, nil
		case err != nil:
			return 0, err
		}
		select {
		case <-moved:
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
}
