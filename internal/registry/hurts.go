package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"syscall"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/unheld"
	"warthesis/internal/registry/files"
)

// Checked is what became of reading a file.
type Checked struct {
	// Bytes is how many were read.
	Bytes int64
	// What is wrong with it, "" for nothing; of what is wrong Found is the size that it has.
	What  hurts.What
	Found int64
}

// CheckContent reads a file from the disk against its digest. each is told of pieces, and
// ends it by an error. What is wrong is set aside, so that nobody is served it, and noted.
func (r *Registry) CheckContent(ctx context.Context, b unheld.Reading, each func(bytes int) error) (c Checked, err error) {
	at := blob.Place{Digest: b.Digest, Suffix: b.Place}
	hash := b.Digest.Algorithm().Hash()
	c.Found, err = r.blobs.ReadThrough(at, func(piece []byte) error {
		hash.Write(piece)
		c.Bytes += int64(len(piece))
		return each(len(piece))
	})
	switch {
	case errors.Is(err, blob.ErrUnknown):
		c.What = hurts.Missing
	case errors.Is(err, syscall.EIO):
		slog.Error("content on the disk cannot be read", "digest", b.Digest, "error", err)
		c.What = hurts.Rotten
	case err != nil:
		return c, fmt.Errorf("read the content %s: %w", b.Digest, err)
	case c.Found != b.Size:
		c.What = hurts.Short
	case fmt.Sprintf("%x", hash.Sum(nil)) != b.Digest.Encoded():
		c.What = hurts.Rotten
	default:
		return c, nil
	}
	isHurt, err := r.hurt(ctx, b, c)
	if !isHurt {
		c.What = ""
	}
	return c, err
}

// hurt sets content aside and notes what is wrong with it, and reports whether it was that
// content still. It is set aside first: were it noted first, a crash in between would let
// it be served.
func (r *Registry) hurt(ctx context.Context, b unheld.Reading, c Checked) (is bool, err error) {
	at := blob.Place{Digest: b.Digest, Suffix: b.Place}
	if is, err = r.records.View(ctx).Unheld().IsAt(b.ContentID, b.Place); err != nil || !is {
		return false, err
	}
	if c.What != hurts.Missing {
		if err := r.blobs.SetAside(at); err != nil {
			return false, err
		}
	}
	r.raw.Remove(b.Digest)
	r.checked.Remove(at)
	r.looked.Remove(b.Digest)
	ctx = context.WithoutCancel(ctx)
	_, err = r.records.UpdateQuietly(ctx, "scrub", func(tx *record.Tx) error {
		if is, err = tx.Unheld().IsAt(b.ContentID, b.Place); err != nil || !is {
			return err
		}
		fresh, err := tx.Hurts().Add(hurts.Hurt{Digest: b.Digest, Place: b.Place, What: c.What, Size: b.Size, FoundSize: c.Found, FoundAt: tx.Now()})
		if err != nil || !fresh {
			return err
		}
		said := map[hurts.What]string{
			hurts.Missing: "its file is missing", hurts.Rotten: "its file has other bytes",
			hurts.Short: fmt.Sprintf("its file has %d bytes and should have %d", c.Found, b.Size),
		}[c.What]
		slog.Error("content on the disk is hurt", "digest", b.Digest, "what", said)
		e := record.Event{Kind: record.EventContentHurt, Digest: b.Digest, Detail: said}
		return errors.Join(tx.Unheld().SetHurt(b.ContentID), tx.Log(e))
	})
	return is, err
}

// Mend takes a good copy of content that is here and hurt, of a size in bytes; nobody holds it
// by that who did not before. It fails with CodeDigestInvalid where it is no good copy.
func (r *Registry) Mend(ctx context.Context, digest oci.Digest, size int64, from io.Reader) error {
	upload, err := r.blobs.NewUpload(newID(), digest.Algorithm())
	if err != nil {
		return err
	}
	// One byte more than it has is enough to see that too much comes.
	if _, err = upload.ReadFrom(io.LimitReader(from, size+1)); err == nil {
		err = upload.Verify(digest)
	}
	if err != nil {
		upload.Discard()
		return err
	}
	return r.arrive(ctx, arrival{
		kind: "mend", digest: digest, size: upload.Offset(), isWhole: r.isRight,
		place: func() (blob.Place, error) { return upload.Place(digest) }, drop: upload.Discard,
		accept: func(*record.Tx, record.Blob) error { return nil },
	})
}

// Files compares what lies on the disk with the records.
func (r *Registry) Files() *files.Files {
	return &files.Files{Blobs: r.blobs, Records: r.records, Placed: r.placed, Missing: func(ctx context.Context, b unheld.Reading) (bool, error) {
		return r.hurt(ctx, b, Checked{What: hurts.Missing})
	}}
}
