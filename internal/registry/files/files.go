// Package files compares what lies on the disk with what the records say.
package files

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/unheld"
)

// Files are those of a registry.
type Files struct {
	Blobs   *blob.Store
	Records *record.Store
	// Placed hears of a file that was found right, and returns when it last changed. Missing of content that has none,
	// and says whether that is so still.
	Placed  func(blob.Place) record.Stamp
	Missing func(context.Context, unheld.Reading) (bool, error)
}

// Looked is what a look at a folder of content found.
type Looked struct {
	// Files were listed, Strays of them are not recorded, Fresh of those not known before.
	Files, Strays, Fresh int
	// Missing are recorded and have no file, Adopted were found at another place.
	Missing, Adopted int
}

// Look compares what lies in some folders, one behind the other, with the records.
// What lies there and is not recorded is noted, what is recorded and does not lie there is
// hurt, unless a good copy lies there that the records know nothing of.
func (f *Files) Look(ctx context.Context, folders []blob.Folder) (l Looked, err error) {
	var places []blob.Place
	for _, folder := range folders {
		some, err := f.Blobs.List(folder)
		if err != nil {
			return l, err
		}
		places = append(places, some...)
	}
	// Asked behind the list: what is recorded is on the disk before.
	from, _ := folders[0].From()
	_, before := folders[len(folders)-1].From()
	view := f.Records.View(ctx)
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
		adopted, missing, err := f.lookFor(ctx, digest, extra[digest])
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
	fresh, gone, err := f.strays(ctx, extra, strays)
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
	_, err = f.Records.UpdateQuietly(ctx, "sweep", func(tx *record.Tx) error {
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
func (f *Files) lookFor(ctx context.Context, digest oci.Digest, extra []blob.Place) (adopted blob.Place, missing bool, err error) {
	b, err := f.Records.View(ctx).Blob(digest)
	if errors.Is(err, record.ErrNotFound) {
		return adopted, false, nil
	}
	if err != nil {
		return adopted, false, err
	}
	if _, _, err := f.Blobs.Stat(blob.Place{Digest: b.Digest, Suffix: b.Place}); !errors.Is(err, blob.ErrUnknown) {
		return adopted, false, err
	}
	for _, at := range extra {
		hash := digest.Algorithm().Hash()
		size, err := f.Blobs.ReadThrough(at, func(piece []byte) error { hash.Write(piece); return ctx.Err() })
		if err != nil || size != b.Size || fmt.Sprintf("%x", hash.Sum(nil)) != digest.Encoded() {
			continue
		}
		if _, err := f.Records.UpdateQuietly(ctx, "sweep", func(tx *record.Tx) error {
			_, err := tx.KeepBlob(record.Placing{Digest: digest, Size: size, Place: at.Suffix, ChangedAt: f.Placed(at), Damaged: &b})
			return err
		}); err != nil {
			return adopted, false, err
		}
		return at, false, nil
	}
	missing, err = f.Missing(ctx, unheld.Reading{ContentID: b.ContentID, Digest: digest, Place: b.Place, Size: b.Size})
	return adopted, missing, err
}

// strays says which places are not known as strays yet, and which known ones are none any
// more.
func (f *Files) strays(ctx context.Context, extra map[oci.Digest][]blob.Place, known []unheld.File) (fresh, gone []unheld.File, err error) {
	listed := map[blob.Place]bool{}
	for digest, all := range extra {
		now, err := f.Records.View(ctx).Blob(digest)
		if err != nil && !errors.Is(err, record.ErrNotFound) {
			return nil, nil, err
		}
		for _, at := range all {
			// The records may have got it since they were asked.
			listed[at] = err != nil || now.Place != at.Suffix
		}
	}
	for _, stray := range known {
		at := blob.Place{Digest: stray.Digest, Suffix: stray.Place}
		if !listed[at] {
			gone = append(gone, stray)
		}
		listed[at] = false
	}
	for at, stray := range listed {
		if !stray {
			continue
		}
		size, _, err := f.Blobs.Stat(at)
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
func (f *Files) ClearAside(ctx context.Context) error {
	aside, err := f.Blobs.Aside()
	for _, digest := range aside {
		_, hurt := f.Records.View(ctx).Hurts().Get(digest)
		switch {
		case errors.Is(hurt, hurts.ErrNone):
			// What can't be removed now costs space and nothing else.
			if left := f.Blobs.TakeAside(digest); left != nil {
				slog.Warn("content that was set aside could not be removed", "digest", digest, "error", left)
			}
		case hurt != nil:
			return hurt
		}
	}
	return err
}

// filesAtOnce is about how many files are compared between two breaths.
const filesAtOnce = 2000

// Folders are those that hold content, in groups that have not too many files each.
func (f *Files) Folders(ctx context.Context) (groups [][]blob.Folder, err error) {
	bytes, err := f.Records.View(ctx).Unheld().Bytes()
	all := f.Blobs.Folders()
	half := len(all) / 2
	size := max(1, min(half, half*filesAtOnce/int(max(bytes.Files, 1))))
	// Those of one algorithm stand behind those of the other.
	for _, of := range [][]blob.Folder{all[:half], all[half:]} {
		groups = append(groups, slices.Collect(slices.Chunk(of, size))...)
	}
	return groups, err
}
