package registry

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"syscall"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/unheld"
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

// Looked is what a look at a folder of content found.
type Looked struct {
	// Files were listed, Strays of them are not recorded, Fresh of those not known before.
	Files, Strays, Fresh int
	// Missing are recorded and have no file, Adopted were found at another place.
	Missing, Adopted int
}

// LookFolders compares what lies in some folders, one behind the other, with the records.
// What lies there and is not recorded is noted, what is recorded and does not lie there is
// hurt, unless a good copy lies there that the records know nothing of.
func (r *Registry) LookFolders(ctx context.Context, folders []blob.Folder) (l Looked, err error) {
	var places []blob.Place
	for _, f := range folders {
		some, err := r.blobs.List(f)
		if err != nil {
			return l, err
		}
		places = append(places, some...)
	}
	// Asked behind the list: what is recorded is on the disk before.
	from, _ := folders[0].From()
	_, before := folders[len(folders)-1].From()
	view := r.records.View(ctx)
	recorded, err := view.Unheld().Recorded(from, before)
	if err != nil {
		return l, err
	}
	strays, err := view.Unheld().Strays(from, before)
	if err != nil {
		return l, err
	}
	l.Files = len(places)
	there := make(map[oci.Digest]bool, len(recorded))
	extra := map[oci.Digest][]blob.Place{}
	for _, at := range places {
		if file, is := recorded[at.Digest]; is && file.Place == at.Suffix {
			there[at.Digest] = true
		} else {
			extra[at.Digest] = append(extra[at.Digest], at)
		}
	}
	for digest, file := range recorded {
		if there[digest] && !file.Hurt {
			continue
		}
		adopted, missing, err := r.lookFor(ctx, digest, extra[digest])
		if err != nil {
			return l, err
		}
		if adopted != (blob.Place{}) {
			l.Adopted++
			extra[digest] = without(extra[digest], adopted)
		} else if missing {
			l.Missing++
		}
	}
	fresh, gone, err := r.strays(ctx, extra, strays)
	if err != nil {
		return l, err
	}
	for _, all := range extra {
		l.Strays += len(all)
	}
	l.Fresh = len(fresh)
	if len(fresh)+len(gone) == 0 {
		return l, nil
	}
	_, err = r.records.UpdateQuietly(ctx, "sweep", func(tx *record.Tx) error {
		return tx.Unheld().KeepStrays(fresh, gone, int64(tx.Now()), tx.Served())
	})
	return l, err
}

func without(places []blob.Place, one blob.Place) (rest []blob.Place) {
	for _, p := range places {
		if p != one {
			rest = append(rest, p)
		}
	}
	return rest
}

// lookFor looks for content that does not lie where it is recorded: as it is recorded now,
// and at places that are not recorded.
func (r *Registry) lookFor(ctx context.Context, digest oci.Digest, extra []blob.Place) (adopted blob.Place, missing bool, err error) {
	b, err := r.records.View(ctx).Blob(digest)
	if errors.Is(err, record.ErrNotFound) {
		return adopted, false, nil
	}
	if err != nil {
		return adopted, false, err
	}
	if _, _, err := r.blobs.Stat(placeOf(b)); !errors.Is(err, blob.ErrUnknown) {
		return adopted, false, err
	}
	for _, at := range extra {
		hash := digest.Algorithm().Hash()
		size, err := r.blobs.ReadThrough(at, func(piece []byte) error { hash.Write(piece); return ctx.Err() })
		if err != nil || size != b.Size || fmt.Sprintf("%x", hash.Sum(nil)) != digest.Encoded() {
			continue
		}
		if _, err := r.records.UpdateQuietly(ctx, "sweep", func(tx *record.Tx) error {
			_, err := tx.KeepBlob(record.Placing{Digest: digest, Size: size, Place: at.Suffix, Damaged: &b})
			return err
		}); err != nil {
			return adopted, false, err
		}
		r.placed(at)
		return at, false, nil
	}
	missing, err = r.hurt(ctx, unheld.Reading{ContentID: b.ContentID, Digest: digest, Place: b.Place, Size: b.Size}, Checked{What: hurts.Missing})
	return adopted, missing, err
}

// strays says which places are not known as strays yet, and which known ones are none any
// more.
func (r *Registry) strays(ctx context.Context, extra map[oci.Digest][]blob.Place, known []unheld.File) (fresh, gone []unheld.File, err error) {
	listed := map[blob.Place]bool{}
	for digest, all := range extra {
		now, err := r.records.View(ctx).Blob(digest)
		if err != nil && !errors.Is(err, record.ErrNotFound) {
			return nil, nil, err
		}
		for _, at := range all {
			// The records may have got it since they were asked.
			listed[at] = err != nil || now.Place != at.Suffix
		}
	}
	for _, f := range known {
		at := blob.Place{Digest: f.Digest, Suffix: f.Place}
		if !listed[at] {
			gone = append(gone, f)
		}
		listed[at] = false
	}
	for at, stray := range listed {
		if !stray {
			continue
		}
		size, _, err := r.blobs.Stat(at)
		if errors.Is(err, blob.ErrUnknown) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		fresh = append(fresh, unheld.File{Digest: at.Digest, Place: at.Suffix, Size: size})
	}
	return fresh, gone, nil
}

// ClearAside takes what was set aside of content that is not hurt any more: a good copy
// came, or it went itself.
func (r *Registry) ClearAside(ctx context.Context) error {
	aside, err := r.blobs.Aside()
	for _, digest := range aside {
		_, hurt := r.records.View(ctx).Hurts().Get(digest)
		switch {
		case errors.Is(hurt, hurts.ErrNone):
			err = errors.Join(err, r.blobs.TakeAside(digest))
		case hurt != nil:
			return hurt
		}
	}
	return err
}

// filesAtOnce is about how many files are compared between two breaths.
const filesAtOnce = 2000

// Folders are those that hold content, in groups that have not too many files each.
func (r *Registry) Folders(ctx context.Context) (groups [][]blob.Folder, err error) {
	bytes, err := r.records.View(ctx).Unheld().Bytes()
	all := r.blobs.Folders()
	half := len(all) / 2
	size := max(1, min(half, half*filesAtOnce/int(max(bytes.Files, 1))))
	// Those of one algorithm stand behind those of the other.
	for _, of := range [][]blob.Folder{all[:half], all[half:]} {
		groups = append(groups, slices.Collect(slices.Chunk(of, size))...)
	}
	return groups, err
}
