package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// StatBlob returns the size in bytes of a blob that the repository holds. It
// fails with CodeBlobUnknown; also where the file is not what the records say, so
// that whoever asks before pushing sends it again and mends it.
func (r *Registry) StatBlob(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	b, err := r.held(ctx, name, digest)
	if err != nil {
		return 0, err
	}
	if whole, err := r.isWhole(b.Digest, b.Size, b.PlacedAt); err != nil {
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
	f, err := r.openContent(digest, b.Size)
	if err != nil {
		return nil, 0, err
	}
	// A file that was written to since it was placed is read before it is served.
	info, err := f.Stat()
	if err == nil && !r.isUntouched(digest, b.PlacedAt, blob.Changed(info)) {
		err = r.check(digest, b.Size, f, blob.Changed(info))
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, b.Size, nil
}

// isUntouched reports whether a file is as it was when it was known to be right: by
// the very time of its last change, or where that is not remembered, by one that is
// not after it was placed.
func (r *Registry) isUntouched(digest oci.Digest, placed record.Stamp, changed time.Time) bool {
	if right, checked := r.checked.Get(digest); checked {
		return right.Equal(changed)
	}
	return !changed.After(placed.Time())
}

// placed notes that content was placed just now, and is right as it is.
func (r *Registry) placed(digest oci.Digest) {
	if _, changed, err := r.blobs.Stat(digest); err == nil {
		r.checked.Add(digest, changed)
	}
}

// check reads content against its digest, and remembers that it is right.
func (r *Registry) check(digest oci.Digest, size int64, f blob.File, changed time.Time) error {
	hash := digest.Algorithm().Hash()
	if _, err := io.Copy(hash, io.NewSectionReader(f, 0, size)); err != nil {
		return fmt.Errorf("read content %s: %w", digest, err)
	}
	if found := fmt.Sprintf("%x", hash.Sum(nil)); found != digest.Encoded() {
		slog.Error("content on the disk was changed", "digest", digest, "found", found, "changed", changed)
		return damaged(digest)
	}
	r.checked.Add(digest, changed)
	return nil
}

func damaged(digest oci.Digest) error {
	return oci.Errorf(oci.CodeStorageFault, "the registry's copy of %s is damaged; push it again, or ask whoever runs the registry", digest)
}

// openContent opens content that the records vouch for.
func (r *Registry) openContent(digest oci.Digest, size int64) (blob.File, error) {
	f, there, err := r.blobs.Open(digest)
	if err != nil && !errors.Is(err, blob.ErrUnknown) {
		return nil, err
	}
	if err == nil && there == size {
		return f, nil
	}
	if err == nil {
		f.Close()
	}
	slog.Error("content on the disk is not what the records say", "digest", digest, "recorded", size, "found", there, "missing", err != nil)
	return nil, damaged(digest)
}

// isWhole reports whether there is a file of the recorded size, which was not
// written to since it was placed, or is right all the same.
func (r *Registry) isWhole(digest oci.Digest, size int64, placed record.Stamp) (bool, error) {
	there, changed, err := r.blobs.Stat(digest)
	if errors.Is(err, blob.ErrUnknown) {
		return false, nil
	}
	if err != nil || there != size || r.isUntouched(digest, placed, changed) {
		return err == nil && there == size, err
	}
	return r.isRight(digest, size)
}

// isRight reads the file of content, where there is one, and reports whether it is
// that content.
func (r *Registry) isRight(digest oci.Digest, size int64) (bool, error) {
	f, there, err := r.blobs.Open(digest)
	if errors.Is(err, blob.ErrUnknown) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || there != size {
		return false, err
	}
	err = r.check(digest, size, f, blob.Changed(info))
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
	source, err := r.records.View(ctx).HeldAnywhere(digest, from, seen)
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if whole, err := r.isWhole(source.Digest, source.Size, source.PlacedAt); err != nil || !whole {
		return false, err
	}
	to, err := r.target(ctx, name)
	if err != nil {
		return false, err
	}
	err = r.records.Update(ctx, func(tx *record.Tx) error {
		held, err := tx.HeldAnywhere(digest, from, seen)
		if err != nil {
			return err
		}
		repository, err := to.in(ctx, tx)
		if err != nil {
			return err
		}
		return tx.Hold(repository, held)
	})
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}
