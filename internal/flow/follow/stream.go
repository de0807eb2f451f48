package follow

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"sync"

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
	if err := f.banned(ctx, name, digest); err != nil {
		return nil, withoutReason(err)
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
		err := f.fetch(peer.WithVia(f.ctx, f.via(by)), of, s, among, by.Seen)
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
