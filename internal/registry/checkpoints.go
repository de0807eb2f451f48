package registry

import (
	"context"
	"errors"
	"sync"

	"warthesis/internal/blob"
	"warthesis/internal/record"
)

// keepWhatCame records what a failed piece brought, and returns why it failed.
func (r *Registry) keepWhatCame(s *session, failure error) error {
	if s.over {
		return failure
	}
	return errors.Join(failure, r.checkpoint(s))
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
