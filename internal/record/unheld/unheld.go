// Package unheld knows what nothing needs any more: it plans, on one snapshot, what may
// go and why, what stays and why, and lets go of it in changes that ask again.
package unheld

import (
	"errors"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// Kind is what goes.
type Kind string

// What goes, in the order in which it does.
const (
	Manifest   Kind = "manifest"
	Tag        Kind = "tag"
	Holding    Kind = "holding"
	Repository Kind = "repository"
	Namespace  Kind = "namespace"
	Blob       Kind = "blob"
	// Stray is a file that the records know nothing of, Leftover the file of an upload
	// that is over.
	Stray    Kind = "stray"
	Leftover Kind = "leftover"
)

// Why is why something goes or stays.
type Why string

// Why something goes.
const (
	// WindowOver: it was removed, and the restore window is over.
	WindowOver Why = "window-over"
	// Unnamed: no manifest of the repository names the blob.
	Unnamed Why = "unnamed"
	// Unneeded: no repository holds the blob.
	Unneeded Why = "unneeded"
	// OfNothing: the tag points to nothing that can be pulled.
	OfNothing Why = "of-nothing"
	// Unrecorded: no record names the file.
	Unrecorded Why = "unrecorded"
	// LeftBehind: the upload that it was of is over.
	LeftBehind Why = "left-behind"
)

// Why something stays.
const (
	// InWindow: its restore window is not over.
	InWindow Why = "restore-window"
	// InGrace: it was touched within the grace.
	InGrace Why = "grace"
	// Uploading: an upload that is open in the repository, or an arrival that holds it open,
	// began before it was touched.
	Uploading Why = "upload"
	// PlaceRemoved: its place is removed, and can come back.
	PlaceRemoved Why = "place-removed"
	// StillNamed: something that stays names it.
	StillNamed Why = "still-named"
	// AfterCrash: the service did not stop in order, and what it said was there just
	// before is not known.
	AfterCrash Why = "after-crash"
	// Since: it was touched, named or brought back after the plan.
	Since Why = "since"
	// TooMany: so much is unrecorded that an admin must say that it may go.
	TooMany Why = "too-many"
	// RecordsOlder: the records are older than the files, or others, and an admin has not
	// decided yet.
	RecordsOlder Why = "records-older"
)

// Terms are by what things count as not needed. Times are served time, in nanoseconds.
type Terms struct {
	Served int64
	Grace  int64
	// Window is the registry's restore window, Floor the least that any counts as.
	Window, Floor int64
	// Crashed tells that what was said to be there is not all known: holdings stay.
	Crashed bool
	// NamespaceID and RepositoryID are the place, 0 for the whole registry. Blobs go with
	// the whole registry alone.
	NamespaceID, RepositoryID int64
}

// Whole reports whether the terms are of the whole registry.
func (t Terms) Whole() bool { return t.NamespaceID == 0 && t.RepositoryID == 0 }

// values are the terms as statements name them.
func (t Terms) values(more map[string]any) map[string]any {
	all := map[string]any{"served": t.Served, "before": t.Served - t.Grace, "window": t.Window, "floor": t.Floor, "namespace": t.NamespaceID, "repository": t.RepositoryID}
	for name, value := range more {
		all[name] = value
	}
	return all
}

// over is the condition that a removal x in a namespace n cannot be undone any more.
const over = "(x.undone_at = 0 AND (x.over_at <> 0 OR x.removed_served + max(min(coalesce(nullif(n.restore_window, 0), @window), @window), @floor) <= @served))"

// placeGone is the condition that a repository r of a namespace n cannot come back.
const placeGone = `(r.removed_at <> 0 AND EXISTS (SELECT 1 FROM removals AS x WHERE x.id = r.removal_id AND ` + over + `)
	OR n.removed_at <> 0 AND EXISTS (SELECT 1 FROM removals AS x WHERE x.id = n.removal_id AND ` + over + `))`

// inPlace keeps what is in the place of the terms.
const inPlace = "(@namespace = 0 OR r.namespace_id = @namespace) AND (@repository = 0 OR r.id = @repository)"

// uploading is the served time at which the oldest open upload into the repository r, or the
// oldest arrival that holds it open, began, beyond all where there is none.
const uploading = `min(coalesce((SELECT min(started_served) FROM uploads WHERE uploads.repository_id = r.id), 9223372036854775807),
	coalesce((SELECT min(a.began_served) FROM arrival_places AS p JOIN arrivals AS a ON a.id = p.arrival_id
		WHERE p.repository = r.name AND a.ended_at = 0 AND a.until_served > @served), 9223372036854775807))`

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// Found is one thing that goes.
type Found struct {
	Kind Kind `json:"kind"`
	// ID is that of a manifest, a tag, a repository or a namespace.
	ID           int64      `json:"id,omitempty"`
	RepositoryID int64      `json:"repository_id,omitempty"`
	ContentID    int64      `json:"content_id,omitempty"`
	Repository   oci.Name   `json:"repository,omitempty"`
	Digest       oci.Digest `json:"digest,omitempty"`
	// Name is that of a tag, a place on the disk, or a namespace.
	Name string `json:"name,omitempty"`
	// Size is in bytes, of the file alone.
	Size int64 `json:"size,omitempty"`
	Why  Why   `json:"why"`
	// RemovalID is the removal by which it went, Since the served time from when it
	// counts.
	RemovalID int64 `json:"removal_id,omitempty"`
	Since     int64 `json:"since,omitempty"`
}

// Sum is how much of a kind goes or stays, and why.
type Sum struct {
	Kind  Kind  `json:"kind"`
	Why   Why   `json:"why"`
	Count int64 `json:"count"`
	Bytes int64 `json:"bytes,omitempty"`
}

// Sums are how much goes and how much stays.
type Sums struct {
	Goes, Stays []Sum
	// LastManifest is the ID of the newest manifest that the plan has seen.
	LastManifest int64
}

// statements runs what stands between semicolons, one after the other.
func statements(db *gorm.DB, sql string, values map[string]any) error {
	var errs []error
	for one := range strings.SplitSeq(sql, ";") {
		if one = strings.TrimSpace(one); one != "" {
			errs = append(errs, exec(db, one, values))
		}
	}
	return errors.Join(errs...)
}

// exec runs a statement whose values have names; those that it does not name may be among
// them.
func exec(db *gorm.DB, sql string, values map[string]any) error {
	return db.Exec(sql, named(sql, values)...).Error
}

// named are the values of a statement, none where it names none.
func named(sql string, values map[string]any) []any {
	if !strings.Contains(sql, "@") {
		return nil
	}
	return []any{values}
}
