package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"syscall"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/unheld"
)

// StatBlob returns the size in bytes of a blob that the repository holds. It
// fails with CodeBlobUnknown; also where the file is not what the records say, so
// that whoever asks before pushing sends it again and mends it.
func (r *Registry) StatBlob(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	b, err := r.held(ctx, name, digest)
	if err != nil {
		return 0, err
	}
	if whole, err := r.isWhole(b); err != nil {
		return 0, err
	} else if !whole {
		return 0, oci.Errorf(oci.CodeBlobUnknown, "the registry's copy of %s is damaged; push it again", digest)
	}
	return b.Size, nil
}

// held returns a blob that the repository holds.
func (r *Registry) held(ctx context.Context, name oci.Name, digest oci.Digest) (record.Blob, error) {
	found, err := r.find(ctx, name)
	if err == nil {
		var b record.Blob
		if b, err = r.records.Holding(ctx, found.ID, digest); err == nil {
			return b, nil
		}
	}
	if errors.Is(err, record.ErrNotFound) {
		return record.Blob{}, oci.Errorf(oci.CodeBlobUnknown, "the repository %s holds no blob %s", name, digest)
	}
	return record.Blob{}, err
}

// OpenBlob opens a blob that the repository holds and returns it with its size in
// bytes; the caller closes it. It fails with CodeBlobUnknown, and with
// CodeStorageFault, before any byte is read, where the file is not what the
// records say.
func (r *Registry) OpenBlob(ctx context.Context, name oci.Name, digest oci.Digest) (blob.File, int64, error) {
	b, err := r.held(ctx, name, digest)
	if err != nil {
		return nil, 0, err
	}
	f, b, err := r.openContent(ctx, b)
	if err != nil {
		return nil, 0, err
	}
	// A file that was written to since it was placed is read before it is served.
	info, err := f.Stat()
	if err == nil && !r.isUntouched(b, blob.Changed(info)) {
		err = r.check(ctx, b, f, blob.Changed(info))
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, b.Size, nil
}

// placeOf returns where content lies.
func placeOf(b record.Blob) blob.Place { return blob.Place{Digest: b.Digest, Suffix: b.Place} }

// isUntouched reports whether a file is as it was when its content was known to be right:
// by the very time of its last change, whatever the clock said then. Where that time is
// not recorded yet, it was not.
func (r *Registry) isUntouched(b record.Blob, changed time.Time) bool {
	if right, checked := r.checked.Get(placeOf(b)); checked {
		return right.Equal(changed)
	}
	return b.ChangedAt != 0 && b.ChangedAt == record.StampOf(changed)
}

// placed returns the change time of content that was placed just now, and is right as it
// is; 0 where it is not known.
func (r *Registry) placed(at blob.Place) record.Stamp {
	_, changed, err := r.blobs.Stat(at)
	if err != nil {
		return 0
	}
	r.checked.Add(at, changed)
	return record.StampOf(changed)
}

// check reads content against its digest, and remembers that it is right, or that it is not.
func (r *Registry) check(ctx context.Context, b record.Blob, f blob.File, changed time.Time) error {
	hash := b.Digest.Algorithm().Hash()
	if _, err := io.Copy(hash, io.NewSectionReader(f, 0, b.Size)); err != nil {
		slog.Error("content on the disk can't be read", "digest", b.Digest, "error", err)
		r.foundDamaged(ctx, b, hurts.Unreadable, 0)
		return damaged(b.Digest)
	}
	if found := fmt.Sprintf("%x", hash.Sum(nil)); found != b.Digest.Encoded() {
		slog.Error("content on the disk was changed", "digest", b.Digest, "found", found, "changed", changed)
		r.foundDamaged(ctx, b, hurts.Rotten, b.Size)
		return damaged(b.Digest)
	}
	r.checked.Add(placeOf(b), changed)
	r.right.add(unheld.Right{ContentID: b.ContentID, Place: b.Place, ChangedAt: int64(record.StampOf(changed))})
	return nil
}

func damaged(digest oci.Digest) error {
	return oci.Errorf(oci.CodeStorageFault, "the registry's copy of %s is damaged; push it again, or ask whoever runs the registry", digest)
}

// openContent opens content that the records vouch for, and returns what they say
// about it now: it may have got another place since they were asked.
func (r *Registry) openContent(ctx context.Context, b record.Blob) (blob.File, record.Blob, error) {
	if b.Damaged {
		return nil, b, damaged(b.Digest)
	}
	f, there, err := r.blobs.Open(placeOf(b))
	if errors.Is(err, blob.ErrUnknown) {
		now, again := r.records.View(ctx).Blob(b.Digest)
		if again == nil && now.Place != b.Place {
			b = now
			f, there, err = r.blobs.Open(placeOf(b))
		}
	}
	if errors.Is(err, syscall.EMFILE) || errors.Is(err, syscall.ENFILE) {
		// The process has too many open files, which says nothing about this one.
		return nil, b, err
	}
	if err == nil && there == b.Size {
		return f, b, nil
	}
	what := hurts.Short
	switch {
	case err == nil:
		f.Close()
	case errors.Is(err, blob.ErrUnknown):
		what = hurts.Missing
	default:
		what = hurts.Unreadable
	}
	slog.Error("content on the disk is not what the records say", "digest", b.Digest, "recorded", b.Size, "found", there, "what", what, "error", err)
	r.foundDamaged(ctx, b, what, there)
	return nil, b, damaged(b.Digest)
}

// isWhole reports whether there is a file of the recorded size, which was not
// written to since it was placed, or is right all the same.
func (r *Registry) isWhole(b record.Blob) (bool, error) {
	if b.Damaged {
		return false, nil
	}
	there, changed, err := r.blobs.Stat(placeOf(b))
	if errors.Is(err, blob.ErrUnknown) {
		return false, nil
	}
	if err != nil || there != b.Size || r.isUntouched(b, changed) {
		return err == nil && there == b.Size, err
	}
	return r.isRight(b)
}

// isRight reads the file of content, where there is one, and reports whether it is
// that content.
func (r *Registry) isRight(b record.Blob) (bool, error) {
	if b.Damaged {
		return false, nil
	}
	f, b, err := r.openContent(context.Background(), b)
	if errors.Is(err, oci.CodeStorageFault) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return false, err
	}
	err = r.check(context.Background(), b, f, blob.Changed(info))
	if errors.Is(err, oci.CodeStorageFault) {
		return false, nil
	}
	return err == nil, err
}

// MountBlob lets a repository hold a blob that another one holds, without its
// bytes being sent (distribution-spec, "Mounting a blob from another
// repository"). The source must be seen; with an empty one any repository will do
// that is. It reports whether the blob was mounted; otherwise it is to be pushed.
func (r *Registry) MountBlob(ctx context.Context, name oci.Name, digest oci.Digest, from oci.Name, seen record.Seen) (mounted bool, err error) {
	// What is banned there is refused at once, and not after it was sent.
	into, err := r.records.View(ctx).Namespace(name.Namespace())
	if err == nil || errors.Is(err, record.ErrNotFound) {
		err = r.records.View(ctx).Bans().Check(into.ID, digest)
	}
	if err != nil {
		return false, r.inWords(ctx, record.Repository{Name: name}, err)
	}
	source, err := r.records.View(ctx).HeldAnywhere(digest, from, seen)
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if whole, err := r.isWhole(source); err != nil || !whole {
		return false, err
	}
	content, err := r.unpackedHere(ctx, name, source)
	if err != nil {
		return false, err
	}
	to, err := r.target(ctx, name)
	if err != nil {
		return false, err
	}
	err = r.records.Update(ctx, "mount", func(tx *record.Tx) error {
		held, err := tx.HeldAnywhere(digest, from, seen)
		if err != nil {
			return err
		}
		repository, err := to.in(ctx, tx)
		if err == nil {
			err = content.check(tx, repository.NamespaceID)
		}
		if err != nil {
			return err
		}
		return tx.Hold(repository, held, actor(ctx))
	})
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}
