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
	// ChangedAt is the change time of a file that is right.
	ChangedAt time.Time
}

// CheckContent reads a file from the disk against its digest. each is told of pieces, and
// ends it by an error. What is wrong is set aside, so that nobody is served it, and noted.
func (r *Registry) CheckContent(ctx context.Context, b unheld.Reading, each func(bytes int) error) (c Checked, err error) {
	at := blob.Place{Digest: b.Digest, Suffix: b.Place}
	hash := b.Digest.Algorithm().Hash()
	_, before, _ := r.blobs.Stat(at)
	var stopped error
	c.Found, err = r.blobs.ReadThrough(at, func(piece []byte) error {
		hash.Write(piece)
		c.Bytes += int64(len(piece))
		stopped = each(len(piece))
		return stopped
	})
	switch {
	case stopped != nil:
		return c, stopped
	case errors.Is(err, blob.ErrUnknown):
		c.What = hurts.Missing
	case err != nil:
		slog.Error("content on the disk can't be read", "digest", b.Digest, "error", err)
		c.What = hurts.Unreadable
	case c.Found != b.Size:
		c.What = hurts.Short
	case fmt.Sprintf("%x", hash.Sum(nil)) != b.Digest.Encoded():
		c.What = hurts.Rotten
	default:
		c.ChangedAt = before
		return c, nil
	}
	isHurt, err := r.hurt(ctx, b, c)
	if !isHurt {
		c.What = ""
	}
	return c, err
}

// foundDamaged notes damage that a request has met, as a scrub does, so that the next one
// does not read the file again.
func (r *Registry) foundDamaged(ctx context.Context, b record.Blob, what hurts.What, found int64) {
	if b.Damaged {
		return
	}
	reading := unheld.Reading{ContentID: b.ContentID, Digest: b.Digest, Place: b.Place, Size: b.Size}
	if _, err := r.hurt(context.WithoutCancel(ctx), reading, Checked{What: what, Found: found}); err != nil {
		slog.Error("damage that a request has met could not be noted", "digest", b.Digest, "error", err)
	}
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
			// It is noted all the same, and not served by the note.
			slog.Error("damaged content could not be set aside", "digest", b.Digest, "error", err)
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
			hurts.Missing: "its file is missing", hurts.Rotten: "its file has other bytes", hurts.Unreadable: "its file can't be read",
			hurts.Short: fmt.Sprintf("its file has %d bytes and should have %d", c.Found, b.Size),
		}[c.What]
		slog.Error("content on the disk is hurt", "digest", b.Digest, "what", said)
		e := record.Event{Kind: record.EventContentHurt, Digest: b.Digest, Detail: said}
		return errors.Join(tx.SetDamaged(b.ContentID), tx.Log(e))
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
