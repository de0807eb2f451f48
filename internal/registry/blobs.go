package registry

import (
	"context"
	"errors"
	"log/slog"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// StatBlob returns the size in bytes of a blob that the repository holds. It
// fails with CodeBlobUnknown; also where the file is not what the records say, so
// that whoever asks before pushing sends it again and mends it.
func (r *Registry) StatBlob(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	size, err := r.held(ctx, name, digest)
	if err != nil {
		return 0, err
	}
	if whole, err := r.isWhole(digest, size); err != nil {
		return 0, err
	} else if !whole {
		return 0, oci.Errorf(oci.CodeBlobUnknown, "the registry's copy of %s is damaged; push it again", digest)
	}
	return size, nil
}

// held returns the recorded size in bytes of a blob that the repository holds.
func (r *Registry) held(ctx context.Context, name oci.Name, digest oci.Digest) (int64, error) {
	found, err := r.find(ctx, name)
	if err == nil {
		var size int64
		if size, err = r.records.Holding(ctx, found.ID, digest); err == nil {
			return size, nil
		}
	}
	if errors.Is(err, record.ErrNotFound) {
		return 0, oci.Errorf(oci.CodeBlobUnknown, "the repository %s holds no blob %s", name, digest)
	}
	return 0, err
}

// OpenBlob opens a blob that the repository holds and returns it with its size in
// bytes; the caller closes it. It fails with CodeBlobUnknown, and with
// CodeStorageFault, before any byte is read, where the file is not what the
// records say.
func (r *Registry) OpenBlob(ctx context.Context, name oci.Name, digest oci.Digest) (blob.File, int64, error) {
	size, err := r.held(ctx, name, digest)
	if err != nil {
		return nil, 0, err
	}
	f, err := r.openContent(digest, size)
	return f, size, err
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
	return nil, oci.Errorf(oci.CodeStorageFault, "the registry's copy of %s is damaged; push it again, or ask whoever runs the registry", digest)
}

// isThere reports whether content need not be placed: a record vouches for it and
// the file has its size. A damaged file is replaced by the next push.
func (r *Registry) isThere(ctx context.Context, digest oci.Digest, size int64) (bool, error) {
	known, err := r.records.Blob(ctx, digest)
	if errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	if err != nil || known.Size != size {
		return false, err
	}
	return r.isWhole(digest, size)
}

// isWhole reports whether there is a file of this size in bytes.
func (r *Registry) isWhole(digest oci.Digest, size int64) (bool, error) {
	there, err := r.blobs.Stat(digest)
	if errors.Is(err, blob.ErrUnknown) {
		return false, nil
	}
	return err == nil && there == size, err
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
	if whole, err := r.isWhole(digest, source.Size); err != nil || !whole {
		return false, err
	}
	err = r.records.Update(ctx, func(tx *record.Tx) error {
		held, err := tx.HeldAnywhere(digest, from, seen)
		if err != nil {
			return err
		}
		repository, err := tx.EnsureRepository(name)
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
