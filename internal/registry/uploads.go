package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Part is a piece of an upload as it comes in.
type Part struct {
	// Body is read to its end.
	Body io.Reader
	// Offset is where the piece says it begins, in bytes; below zero it does not
	// say and goes to the end of what is there.
	Offset int64
	// Length is how many bytes the piece says it has; below zero it does not say.
	Length int64
	// Cut ends a blocked read of Body from another goroutine. It may be nil.
	Cut func()
}

// Progress is how far an upload has come.
type Progress struct {
	ID string
	// Offset is the number of bytes that are safe: nothing before it needs to be sent again.
	Offset int64
}

// session is an open upload. Requests on it take turns.
type session struct {
	id         string
	repository record.Repository
	recorded   record.Upload
	// who counts for the limit of open uploads; "" where the session is from
	// before a restart.
	who string
	// turn holds one token, which the running request has.
	turn chan struct{}
	// upload is nil until a request needs it. Guarded by turn, as is over.
	upload *blob.Upload
	over   bool

	mu sync.Mutex
	// cut ends the running request's read; nil where none runs or it cannot be cut.
	cut func()
}

// StartUpload opens an upload session (distribution-spec, "Pushing a blob in
// chunks"). The repository is made where it is missing.
func (r *Registry) StartUpload(ctx context.Context, name oci.Name, algorithm oci.Algorithm) (Progress, error) {
	if err := r.blobs.Room(); err != nil {
		return Progress{}, err
	}
	s := &session{id: newID(), who: callerOf(ctx).who(), turn: make(chan struct{}, 1)}
	if err := r.openOne(s.who); err != nil {
		return Progress{}, err
	}
	to, err := r.target(ctx, name)
	if err != nil {
		r.closeOne(s.who)
		return Progress{}, err
	}
	err = r.records.Update(ctx, "start-upload", func(tx *record.Tx) (err error) {
		if s.repository, err = to.in(ctx, tx); err != nil {
			return err
		}
		s.recorded = record.Upload{ID: s.id, RepositoryID: s.repository.ID, Algorithm: algorithm}
		return tx.KeepUpload(s.recorded)
	})
	if err != nil {
		r.closeOne(s.who)
		return Progress{}, fmt.Errorf("start an upload: %w", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sessions[s.id] = s
	return Progress{ID: s.id}, nil
}

// UploadProgress returns how far an upload has come. It cuts a request that is
// still sending: whoever asks wants to go on from the answer.
func (r *Registry) UploadProgress(ctx context.Context, name oci.Name, id string) (Progress, error) {
	s, err := r.take(ctx, name, id, nil)
	if err != nil {
		return Progress{}, err
	}
	defer s.pass()
	return s.progress(), nil
}

// AppendUpload takes a piece. Bytes that came before a failed read stay, so that
// the sender can go on behind them. It fails with CodeRangeInvalid where the piece
// does not begin where the upload ends, and with CodeSizeInvalid where its length
// is not what it said.
func (r *Registry) AppendUpload(ctx context.Context, name oci.Name, id string, p Part) (Progress, error) {
	s, err := r.take(ctx, name, id, p.Cut)
	if err != nil {
		return Progress{}, err
	}
	defer s.pass()
	if err := r.receive(s, p); err != nil {
		err = r.keepWhatCame(s, err)
		return s.rest(), err
	}
	err = r.checkpoint(s)
	return s.rest(), err
}

// FinishUpload takes the last piece, which may be empty, and places the content
// under the digest. Content with another digest is refused with CodeDigestInvalid
// and the upload is over.
func (r *Registry) FinishUpload(ctx context.Context, name oci.Name, id string, p Part, digest oci.Digest) error {
	s, err := r.take(ctx, name, id, p.Cut)
	if err != nil {
		return err
	}
	defer s.pass()
	if err := r.receive(s, p); err != nil {
		err = r.keepWhatCame(s, err)
		s.rest()
		return err
	}
	err = r.settle(ctx, target{name, s.repository.ID}, s.upload, digest, id)
	r.end(s)
	if err != nil {
		// The refusal is the answer; a row left behind is met as an unknown upload.
		_ = r.dropUpload(id)
	}
	return err
}

// keepWhatCame records what a failed piece brought, and returns why it failed.
func (r *Registry) keepWhatCame(s *session, failure error) error {
	if s.over {
		return failure
	}
	return errors.Join(failure, r.checkpoint(s))
}

// PushBlob takes a blob in one piece (distribution-spec, "Single POST").
func (r *Registry) PushBlob(ctx context.Context, name oci.Name, p Part, digest oci.Digest) error {
	who := callerOf(ctx).who()
	if err := r.openOne(who); err != nil {
		return err
	}
	defer r.closeOne(who)
	to, err := r.target(ctx, name)
	if err != nil {
		return err
	}
	upload, err := r.blobs.NewUpload(newID(), digest.Algorithm())
	if err != nil {
		return err
	}
	if err := r.readPart(upload, p); err != nil {
		upload.Discard()
		return err
	}
	return r.settle(ctx, to, upload, digest, "")
}

// CancelUpload ends an upload and removes what it brought.
func (r *Registry) CancelUpload(ctx context.Context, name oci.Name, id string) error {
	s, err := r.take(ctx, name, id, nil)
	if err != nil {
		return err
	}
	defer s.pass()
	if s.upload != nil {
		s.upload.Discard()
	}
	r.end(s)
	return r.dropUpload(id)
}

func (r *Registry) dropUpload(id string) error {
	return r.records.Update(context.Background(), "drop-upload", func(tx *record.Tx) error { return tx.DropUpload(id) })
}

// settle makes a whole upload a blob that the repository holds. The upload is over
// afterwards, whatever the outcome.
func (r *Registry) settle(ctx context.Context, to target, upload *blob.Upload, digest oci.Digest, session string) error {
	if err := upload.Verify(digest); err != nil {
		upload.Discard()
		return err
	}
	return r.arrive(ctx, arrival{
		kind: "push-blob", digest: digest, size: upload.Offset(), isWhole: r.isWhole,
		place: func() (blob.Place, error) { return upload.Place(digest) }, drop: upload.Discard,
		accept: func(tx *record.Tx, b record.Blob) error {
			repository, err := to.in(ctx, tx)
			if err != nil {
				return err
			}
			if session != "" {
				if err := tx.DropUpload(session); err != nil {
					return err
				}
			}
			return tx.Hold(repository, b, actor(ctx))
		},
	})
}

// receive opens the upload where needed and takes the piece.
func (r *Registry) receive(s *session, p Part) error {
	if err := r.reopen(s); err != nil {
		return err
	}
	if p.Offset >= 0 && p.Offset != s.upload.Offset() {
		return oci.Errorf(oci.CodeRangeInvalid, "the chunk begins at byte %d and the upload has %d bytes; send on from there", p.Offset, s.upload.Offset())
	}
	background := &checkpointer{registry: r, session: s}
	s.upload.OnCheckpoint = background.offer
	err := r.readPart(s.upload, p)
	s.upload.OnCheckpoint = nil
	background.running.Wait()
	if errors.Is(err, oci.CodeBlobTooLarge) {
		s.upload.Discard()
		s.upload = nil
		r.end(s)
		return errors.Join(err, r.dropUpload(s.id))
	}
	return err
}

// bounded fails once more than left bytes came.
type bounded struct {
	io.Reader
	left  int64
	limit int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, tooLarge(b.limit)
	}
	return n, err
}

func tooLarge(limit int64) error {
	return oci.Errorf(oci.CodeBlobTooLarge, "the blob is larger than the %d MiB that this registry takes", limit>>20)
}

func (r *Registry) readPart(upload *blob.Upload, p Part) error {
	if p.Body == nil {
		return nil
	}
	left := r.limits.BlobBytes - upload.Offset()
	if p.Length > left {
		return tooLarge(r.limits.BlobBytes)
	}
	taken, err := upload.ReadFrom(&bounded{p.Body, left, r.limits.BlobBytes})
	if err != nil {
		return err
	}
	if p.Length >= 0 && taken != p.Length {
		return oci.Errorf(oci.CodeSizeInvalid, "%d bytes were announced and %d came", p.Length, taken)
	}
	return nil
}

func (r *Registry) reopen(s *session) error {
	if s.upload != nil {
		return nil
	}
	u := s.recorded
	upload, err := r.blobs.ReopenUpload(s.id, blob.Checkpoint{Algorithm: u.Algorithm, Offset: u.Offset, State: u.State})
	if errors.Is(err, blob.ErrUnknown) {
		return errors.Join(uploadUnknown(s.id), r.dropUpload(s.id))
	}
	s.upload = upload
	return err
}

// checkpoint makes what came durable and records it.
func (r *Registry) checkpoint(s *session) error {
	if s.upload == nil || s.upload.Offset() == s.recorded.Offset {
		return nil
	}
	c, err := s.upload.Checkpoint()
	if err != nil {
		// Nobody can say which bytes are still there: the upload starts again from the last checkpoint.
		s.upload.Close()
		s.upload = nil
		return err
	}
	return r.recordCheckpoint(s, c)
}

func (r *Registry) recordCheckpoint(s *session, c blob.Checkpoint) error {
	u := s.recorded
	u.Offset, u.State = c.Offset, c.State
	err := r.records.Update(context.Background(), "checkpoint", func(tx *record.Tx) error { return tx.KeepUpload(u) })
	if err == nil {
		s.recorded = u
	}
	return err
}

// checkpointer records the snapshots that a long piece offers, beside the
// receiving of the piece: one at a time, and one that comes meanwhile is skipped.
type checkpointer struct {
	registry *Registry
	session  *session
	running  sync.WaitGroup
	mu       sync.Mutex
	busy     bool
}

func (c *checkpointer) offer(point blob.Checkpoint) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.busy {
		return
	}
	c.busy = true
	upload := c.session.upload
	c.running.Go(func() {
		// A failed sync shows again when the upload is placed or checkpointed.
		if upload.Sync() == nil {
			_ = c.registry.recordCheckpoint(c.session, point)
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.busy = false
	})
}

func uploadUnknown(id string) error {
	return oci.Errorf(oci.CodeBlobUploadUnknown, "there is no open upload %s here; it ended, was cancelled or never was: start a new one", id)
}

// take finds the session and waits for its turn, after cutting the request that
// has it. The caller passes the turn on with pass.
func (r *Registry) take(ctx context.Context, name oci.Name, id string, cut func()) (*session, error) {
	s, err := r.session(ctx, name, id)
	if err != nil {
		return nil, err
	}
	s.cutRunning()
	select {
	case s.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if s.over {
		s.pass()
		return nil, uploadUnknown(id)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cut = cut
	return s, nil
}

func (s *session) cutRunning() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cut != nil {
		s.cut()
	}
}

// pass lets the next request have its turn.
func (s *session) pass() {
	s.mu.Lock()
	s.cut = nil
	s.mu.Unlock()
	<-s.turn
}

func (s *session) progress() Progress {
	if s.upload == nil {
		return Progress{ID: s.id, Offset: s.recorded.Offset}
	}
	return Progress{ID: s.id, Offset: s.upload.Offset()}
}

// rest lets go of the file between two requests, and returns how far the upload has
// come: one that nobody sends to costs its row and its bytes on the disk. The caller
// has the turn, and what came is recorded.
func (s *session) rest() Progress {
	if s.upload != nil && !s.over {
		s.upload.Close()
		s.upload = nil
	}
	return s.progress()
}

// session finds an open upload of the repository, also one from before a restart.
func (r *Registry) session(ctx context.Context, name oci.Name, id string) (*session, error) {
	found, err := r.find(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return nil, uploadUnknown(id)
	}
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	s := r.sessions[id]
	r.mu.Unlock()
	if s == nil {
		recorded, err := r.records.Upload(ctx, found.ID, id)
		if errors.Is(err, record.ErrNotFound) {
			return nil, uploadUnknown(id)
		}
		if err != nil {
			return nil, err
		}
		s = r.adopt(&session{id: id, repository: found, recorded: recorded, turn: make(chan struct{}, 1)})
	}
	if s.repository.ID != found.ID {
		return nil, uploadUnknown(id)
	}
	return s, nil
}

// adopt enters the session, or returns the one that another request entered first.
func (r *Registry) adopt(s *session) *session {
	r.mu.Lock()
	defer r.mu.Unlock()
	if there := r.sessions[s.id]; there != nil {
		return there
	}
	r.sessions[s.id] = s
	return s
}

// end takes the session out of reach. The caller has its turn.
func (r *Registry) end(s *session) {
	s.over = true
	r.closeOne(s.who)
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.sessions, s.id)
}

// openOne counts one more upload of the caller, or fails with
// CodeTooManyRequests where there are too many.
func (r *Registry) openOne(who string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open[who] >= r.limits.UploadsPerCaller {
		return oci.Errorf(oci.CodeTooManyRequests, "you have %d uploads open, and more are not allowed at once; finish or cancel one", r.open[who])
	}
	r.open[who]++
	return nil
}

func (r *Registry) closeOne(who string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open[who]--; r.open[who] <= 0 {
		delete(r.open, who)
	}
}

// EndIdleUploads ends uploads that nobody has sent to for the idle time, and
// removes what they brought.
func (r *Registry) EndIdleUploads(ctx context.Context) error {
	idle, err := r.records.UploadsIdleSince(ctx, int64(r.clock.Served()-r.limits.UploadIdle))
	if err != nil {
		return err
	}
	var errs []error
	for _, u := range idle {
		errs = append(errs, r.endIdle(u))
	}
	return errors.Join(errs...)
}

func (r *Registry) endIdle(u record.Upload) error {
	s := r.adopt(&session{id: u.ID, repository: record.Repository{ID: u.RepositoryID}, recorded: u, turn: make(chan struct{}, 1)})
	select {
	case s.turn <- struct{}{}:
	default:
		// Somebody is sending right now.
		return nil
	}
	defer s.pass()
	// Somebody may have sent to it since the question.
	if now, err := r.records.Upload(context.Background(), u.RepositoryID, u.ID); s.over || err != nil || now.TouchedServed > u.TouchedServed {
		return nil
	}
	if err := r.reopen(s); err == nil {
		s.upload.Discard()
	}
	r.end(s)
	return r.dropUpload(s.id)
}

// releaseSessions closes the staged files of uploads that nobody is sending to;
// the others are cut first, and record what they had.
func (r *Registry) releaseSessions() {
	r.mu.Lock()
	sessions := make([]*session, 0, len(r.sessions))
	for _, s := range r.sessions {
		sessions = append(sessions, s)
	}
	r.mu.Unlock()
	for _, s := range sessions {
		s.cutRunning()
		s.turn <- struct{}{}
		if s.upload != nil {
			s.upload.Close()
		}
		r.end(s)
		s.pass()
	}
}
