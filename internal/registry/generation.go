package registry

import (
	"context"
	"fmt"
	"log/slog"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// errOtherRecords: the records are not those of the blobs beside them.
var errOtherRecords = oci.Errorf(oci.CodeStorageFault, "the records belong to another registry than the stored blobs. Restore the records of this registry, "+
	"or start once with --new-records to use these: blobs that they don't name are kept until an admin runs a sweep with --unrecorded")

// beginGeneration compares the generation of the records with that of the blobs, and
// raises it. Where they disagree, unrecorded files are kept until an admin decides. It
// fails where the records are of another registry, unless accepted.
func (r *Registry) beginGeneration(accept bool) error {
	ctx := context.Background()
	files, name, number, err := r.generations(ctx)
	if err != nil {
		return err
	}
	why := ""
	switch {
	case accept:
		why = "the records were begun anew beside stored blobs"
		if files.Registry != "" {
			name = files.Registry
		}
	case files.Registry == "":
		// The first start of this version.
	case name != "" && name != files.Registry:
		return errOtherRecords
	case name == "":
		name, why = files.Registry, "the records are older than the stored blobs: they were written by an earlier version"
	case number < files.Number:
		why = fmt.Sprintf("the records are older than the stored blobs (generation %d, the blobs have %d)", number, files.Number)
	case number > files.Number+1:
		why = fmt.Sprintf("the stored blobs are older than the records (generation %d, the records have %d)", files.Number, number)
	}
	if name == "" {
		name = newID()
	}
	if why != "" {
		slog.Warn("files that no record names are kept until an admin decides: restore the right records, or run a sweep with --unrecorded", "because", why)
	}
	return r.setGeneration(ctx, blob.Generation{Registry: name, Number: max(number, files.Number) + 1}, why)
}

// generations returns the generation of the blobs, and the name and number in the records.
func (r *Registry) generations(ctx context.Context) (files blob.Generation, name string, number int64, err error) {
	if files, err = r.blobs.Generation(); err == nil {
		name, number, err = r.records.View(ctx).Generation()
	}
	return files, name, number, err
}

// RaiseGeneration raises the generation of the records and of the blobs.
func (r *Registry) RaiseGeneration(ctx context.Context) error {
	files, name, number, err := r.generations(ctx)
	if err != nil {
		return err
	}
	return r.setGeneration(ctx, blob.Generation{Registry: name, Number: max(number, files.Number) + 1}, "")
}

// setGeneration writes the records first: a crash in between leaves them one ahead, which
// counts as equal.
func (r *Registry) setGeneration(ctx context.Context, g blob.Generation, older string) error {
	err := r.records.Update(ctx, "generation", func(tx *record.Tx) error {
		if err := tx.SetGeneration(g.Registry, g.Number); err != nil || older == "" {
			return err
		}
		return tx.SetOlder(older)
	})
	if err != nil {
		return err
	}
	return r.blobs.SetGeneration(g)
}

// UnrecordedHeld reports whether unrecorded files are kept because the records are older
// than the files, or others.
func (r *Registry) UnrecordedHeld(ctx context.Context) (bool, error) {
	why, err := r.records.View(ctx).Older()
	return why != "", err
}

// ReleaseUnrecorded notes that an admin decided: unrecorded files may be deleted.
func (r *Registry) ReleaseUnrecorded(ctx context.Context) error {
	held, err := r.UnrecordedHeld(ctx)
	if err != nil || !held {
		return err
	}
	return r.records.Update(ctx, "generation", func(tx *record.Tx) error { return tx.SetOlder("") })
}
