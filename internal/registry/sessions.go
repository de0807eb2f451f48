package registry

import (
	"context"
	"errors"
	"sync"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

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
	r.reserved.Drop(s.id)
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

// endUploadsOf ends all uploads of a repository, whoever is sending.
func (r *Registry) endUploadsOf(ctx context.Context, repository int64) error {
	ids, err := r.records.View(ctx).Unheld().Uploads(repository)
	if err != nil {
		return err
	}
	for _, id := range ids {
		u, err := r.records.Upload(ctx, repository, id)
		if errors.Is(err, record.ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		s := r.adopt(&session{id: u.ID, repository: record.Repository{ID: repository}, recorded: u, turn: make(chan struct{}, 1)})
		s.cutRunning()
		select {
		case s.turn <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := r.reopen(s); err == nil {
			s.upload.Discard()
		}
		r.end(s)
		s.pass()
		if err := r.dropUpload(id); err != nil {
			return err
		}
	}
	return nil
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
