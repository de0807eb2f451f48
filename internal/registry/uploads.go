package registry

import (
	"context"
	"errors"
	"fmt"
	"io"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
	"warthesis/internal/registry/reserve"
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
		s.recorded = record.Upload{ID: s.id, RepositoryID: s.repository.ID, Algorithm: algorithm, AccountID: callerOf(ctx).AccountID}
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
	if err := r.receive(ctx, s, p, ""); err != nil {
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
	if err := r.receive(ctx, s, p, digest); err != nil {
		err = r.keepWhatCame(s, err)
		s.rest()
		return err
	}
	err = r.settle(ctx, target{name, s.repository.ID}, s.upload, digest, id, id)
	r.end(s)
	if err != nil {
		// The refusal is the answer; a row left behind is met as an unknown upload.
		_ = r.dropUpload(id)
	}
	return err
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
	id := newID()
	defer r.reserved.Drop(id)
	namespace, err := r.namespaceOf(ctx, to)
	if err != nil {
		return err
	}
	grow := func(bytes int64) error {
		return r.reserve(ctx, id, reserve.Entry{NamespaceID: namespace, AccountID: callerOf(ctx).AccountID, Bytes: bytes})
	}
	if !r.adds(ctx, namespace, digest) {
		grow = nil
	}
	upload, err := r.blobs.NewUpload(id, digest.Algorithm())
	if err != nil {
		return err
	}
	if err := r.readPart(upload, p, grow); err != nil {
		upload.Discard()
		return err
	}
	return r.settle(ctx, to, upload, digest, "", id)
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
func (r *Registry) settle(ctx context.Context, to target, upload *blob.Upload, digest oci.Digest, session, reserved string) error {
	if err := upload.Verify(digest); err != nil {
		upload.Discard()
		return err
	}
	other, err := r.otherDigest(ctx, to.name, digest, upload.Digest)
	if err != nil {
		upload.Discard()
		return err
	}
	content, err := r.unpackedFor(ctx, to.name, "", upload.View)
	if err != nil {
		upload.Discard()
		return err
	}
	r.CountTraffic(callerOf(ctx).AccountID, to.name, usage.Traffic{BytesIn: upload.Offset()})
	return r.arrive(ctx, arrival{
		kind: "push-blob", digest: digest, size: upload.Offset(), isWhole: r.isWhole,
		place: func() (blob.Place, error) { return upload.Place(digest) }, drop: upload.Discard,
		accept: func(tx *record.Tx, b record.Blob) error {
			repository, err := to.in(ctx, tx)
			if err != nil {
				return err
			}
			if err := errors.Join(checkOther(tx, repository.NamespaceID, other), content.check(tx, repository.NamespaceID)); err != nil {
				return err
			}
			if session != "" {
				if err := tx.DropUpload(session); err != nil {
					return err
				}
			}
			// From here on what is held counts.
			r.reserved.Drop(reserved)
			return tx.Hold(repository, b, actor(ctx))
		},
	})
}

// receive opens the upload where needed and takes the piece; the last one says what digest
// the whole has.
func (r *Registry) receive(ctx context.Context, s *session, p Part, digest oci.Digest) error {
	if err := r.reopen(s); err != nil {
		return err
	}
	if p.Offset >= 0 && p.Offset != s.upload.Offset() {
		return oci.Errorf(oci.CodeRangeInvalid, "the chunk begins at byte %d and the upload has %d bytes; send on from there", p.Offset, s.upload.Offset())
	}
	background := &checkpointer{registry: r, session: s}
	s.upload.OnCheckpoint = background.offer
	grow := func(bytes int64) error { return r.reserve(ctx, s.id, s.reserves(bytes)) }
	if digest != "" && !r.adds(ctx, s.repository.NamespaceID, digest) {
		grow = nil
	}
	err := r.readPart(s.upload, p, grow)
	// What was announced and did not come is announced again, or never comes.
	r.reserved.Shrink(s.id, s.upload.Offset())
	s.upload.OnCheckpoint = nil
	background.running.Wait()
	var full *quota.Exceeded
	if errors.Is(err, oci.CodeBlobTooLarge) || errors.As(err, &full) {
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
	// taken is how much came, of which that up to step is reserved; grow reserves more, nil
	// where nothing is to be.
	taken, step int64
	grow        func(bytes int64) error
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, tooLarge(b.limit)
	}
	if b.taken += int64(n); b.grow != nil && b.taken >= b.step {
		if full := b.grow(b.taken); full != nil {
			return 0, full
		}
		b.step = b.taken + reserveStep
	}
	return n, err
}

func tooLarge(limit int64) error {
	return oci.Errorf(oci.CodeBlobTooLarge, "the blob is larger than the %d MiB that this registry takes", limit>>20)
}

// readPart takes a piece, and reserves what it is to bring where grow is not nil.
func (r *Registry) readPart(upload *blob.Upload, p Part, grow func(bytes int64) error) error {
	if p.Body == nil {
		return nil
	}
	left := r.limits.BlobBytes - upload.Offset()
	if p.Length > left {
		return tooLarge(r.limits.BlobBytes)
	}
	if grow != nil {
		if err := grow(upload.Offset() + max(p.Length, 0)); err != nil {
			return err
		}
	}
	taken, err := upload.ReadFrom(&bounded{
		Reader: p.Body, left: left, limit: r.limits.BlobBytes, grow: grow, taken: upload.Offset(), step: upload.Offset() + max(p.Length, 0) + reserveStep,
	})
	if err != nil {
		return err
	}
	if p.Length >= 0 && taken != p.Length {
		return oci.Errorf(oci.CodeSizeInvalid, "%d bytes were announced and %d came", p.Length, taken)
	}
	return nil
}
