// Package removals knows what went by each removal, what would go by one, and what has to
// come back with it.
package removals

import (
	"errors"
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// ErrNone: there is no such removal.
var ErrNone = errors.New("no such removal")

// Row is a removal with the places it was in, as they are called now, and how much went by
// it. Times are as the records have them: nanoseconds of wall time or, where they are called
// so, of served time; 0 is never.
type Row struct {
	ID            int64
	Kind          string
	NamespaceID   int64
	RepositoryID  int64
	Name          string
	RemovedAt     int64
	RemovedServed int64
	RemovedBy     int64
	Token         string
	Reason        string
	UndoneAt      int64
	UndoneBy      int64
	// OverAt is since when it cannot be undone, because a sweep took some of it; 0 for not.
	OverAt int64
	// RunID is the run of retention rules that removed it, 0 for none.
	RunID int64

	Namespace  string
	Repository oci.Name
	// NamespaceGone and RepositoryGone tell that the place is removed itself.
	NamespaceGone, RepositoryGone bool
	// Window is the restore window of the namespace, 0 for that of the registry.
	Window int64
	// Tags and Images are how many went by it and are still gone.
	Tags, Images int64
}

// Place says in what it was: a repository or a namespace.
func (r Row) Place() string {
	if r.Repository != "" {
		return string(r.Repository)
	}
	return r.Namespace
}

// Filter says which removals are meant.
type Filter struct {
	NamespaceID, RepositoryID int64
	// Before is the ID of the last row of the page before, 0 for the first page.
	Before int64
	// RunID keeps those of one run.
	RunID int64
	// Undone lists those that were undone as well.
	Undone bool
	// Places keeps those of namespaces and repositories.
	Places bool
	Limit  int
	// Seen keeps what the caller may see of removals in repositories, and of repositories
	// and namespaces themselves.
	Seen clause.Expr
}

// Sees is who asks for removals: which ones it could undo.
type Sees struct {
	// All is who may undo everything, Curates who may in every repository.
	All, Curates bool
	Account      int64
}

// Condition is what holds of the removals that somebody could undo. member is the condition
// on grants of an account, which it takes twice.
func (s Sees) Condition(member string) clause.Expr {
	const contents = "removals.kind NOT IN ('namespace', 'repository') AND repositories.removed_at = 0"
	switch {
	case s.All:
		return gorm.Expr("1")
	case s.Curates:
		return gorm.Expr("namespaces.removed_at = 0 AND " + contents)
	}
	a := s.Account
	return gorm.Expr(`namespaces.removed_at = 0 AND (removals.kind = 'repository'
		AND `+placeSQL+` IN (SELECT namespace_id FROM grants WHERE role = 'owner' AND namespace_id <> 0 AND (`+member+`))
		OR `+contents+` AND (
		`+placeSQL+` IN (SELECT namespace_id FROM grants WHERE role IN ('curator', 'owner') AND namespace_id <> 0 AND (`+member+`))
		OR removals.repository_id IN (SELECT repository_id FROM grants WHERE role IN ('curator', 'owner') AND repository_id <> 0 AND (`+member+`))))`, a, a, a, a, a, a)
}

// placeSQL is the namespace that a removal is in: that of the repository as it is now.
const placeSQL = "coalesce(repositories.namespace_id, removals.namespace_id)"

const rowSQL = `removals.id, removals.kind, ` + placeSQL + ` AS namespace_id, removals.repository_id, removals.name, removals.removed_at, removals.removed_served,
	removals.removed_by, removals.token, removals.reason, removals.undone_at, removals.undone_by, removals.over_at, removals.run_id,
	coalesce(namespaces.name, '') AS namespace, coalesce(repositories.name, '') AS repository,
	coalesce(namespaces.removed_at <> 0, 0) AS namespace_gone, coalesce(repositories.removed_at <> 0, 0) AS repository_gone, coalesce(namespaces.restore_window, 0) AS "window",
	(SELECT count(*) FROM tags WHERE tags.removal_id = removals.id) AS tags,
	(SELECT count(*) FROM manifests WHERE manifests.removal_id = removals.id) AS images`

func (r Records) rows() *gorm.DB {
	return r.DB.Table("removals").Select(rowSQL).
		Joins("LEFT JOIN repositories ON repositories.id = removals.repository_id").
		Joins("LEFT JOIN namespaces ON namespaces.id = " + placeSQL)
}

// List returns a page of removals, the last first.
func (r Records) List(f Filter) (rows []Row, err error) {
	query := r.rows().Where(f.Seen)
	if f.Places {
		query = query.Where("removals.kind IN ('namespace', 'repository')")
	}
	if f.RepositoryID != 0 {
		query = query.Where("removals.repository_id = ?", f.RepositoryID)
	}
	if f.NamespaceID != 0 {
		query = query.Where(placeSQL+" = ?", f.NamespaceID)
	}
	if f.RunID != 0 {
		query = query.Where("removals.run_id = ?", f.RunID)
	}
	if f.Before != 0 {
		query = query.Where("removals.id < ?", f.Before)
	}
	if !f.Undone {
		query = query.Where("removals.undone_at = 0")
	}
	return rows, query.Order("removals.id DESC").Limit(f.Limit).Scan(&rows).Error
}

// Get returns a removal, or ErrNone.
func (r Records) Get(id int64) (row Row, err error) {
	found := r.rows().Where("removals.id = ?", id).Limit(1).Scan(&row)
	if found.Error == nil && found.RowsAffected == 0 {
		return row, ErrNone
	}
	return row, found.Error
}

// EndWindow ends the restore window of a removal at a moment of wall time.
func (r Records) EndWindow(id, now int64) error {
	return r.DB.Exec("UPDATE removals SET over_at = ? WHERE id = ? AND over_at = 0 AND undone_at = 0", now, id).Error
}

// Tag is a tag that went.
type Tag struct {
	ID         int64
	Name       oci.Tag
	Digest     oci.Digest
	ManifestID int64
	// Now is what a tag of the name points to meanwhile, "" for none.
	Now oci.Digest
}

// Tags returns up to limit tags that went by a removal, in order.
func (r Records) Tags(id int64, limit int) (tags []Tag, err error) {
	return tags, r.DB.Raw(`SELECT tags.id, tags.name, tags.manifest_id, coalesce(manifests.digest, '') AS digest,
		coalesce((SELECT m.digest FROM tags AS t JOIN manifests AS m ON m.id = t.manifest_id WHERE t.repository_id = tags.repository_id AND t.name = tags.name AND t.removal_id = 0), '') AS now
		FROM tags LEFT JOIN manifests ON manifests.id = tags.manifest_id WHERE tags.removal_id = ? ORDER BY tags.name LIMIT ?`, id, limit).Scan(&tags).Error
}

// Image is a manifest that went, or would.
type Image struct {
	ID           int64
	ContentID    int64
	Digest       oci.Digest
	State        string
	ArtifactType string
	MediaType    string
	Platforms    string
	Size         int64
	Subject      oci.Digest
}

const imageSQL = "manifests.id, manifests.content_id, manifests.digest, manifests.state, manifests.artifact_type, manifests.media_type, manifests.platforms, manifests.content_size AS size, manifests.subject"

// Images returns up to limit manifests that went by a removal.
func (r Records) Images(id int64, limit int) (images []Image, err error) {
	return images, r.DB.Raw("SELECT "+imageSQL+" FROM manifests WHERE removal_id = ? ORDER BY id LIMIT ?", id, limit).Scan(&images).Error
}

// GoneError: something that would have to come back is not here any more.
type GoneError struct {
	Digest oci.Digest
	// Of is the manifest that names it, "" for a manifest that a tag points to.
	Of oci.Digest
}

func (e *GoneError) Error() string { return "the content " + string(e.Digest) + " is gone" }

// Closure is all that has to come back so that manifests are whole.
type Closure struct {
	// Manifests are those that are not live, Contents those of ended holdings.
	Manifests []Image
	Contents  []int64
	seen      map[int64]bool
	held      map[int64]bool
}

// MostInClosure bounds the manifests that are looked at for one removal.
const MostInClosure = 5000

// ErrClosure: more than MostInClosure manifests hang on it.
var ErrClosure = fmt.Errorf("more than %d manifests hang on it", MostInClosure)

// NewClosure returns one with nothing in it.
func NewClosure() *Closure { return &Closure{seen: map[int64]bool{}, held: map[int64]bool{}} }

// Add adds a manifest with all that it names. It fails with *GoneError.
func (r Records) Add(c *Closure, repository, manifest int64) error {
	for open := []int64{manifest}; len(open) > 0; {
		id := open[0]
		open = open[1:]
		if c.seen[id] {
			continue
		}
		if c.seen[id] = true; len(c.seen) > MostInClosure {
			return ErrClosure
		}
		var m Image
		found := r.DB.Raw("SELECT "+imageSQL+" FROM manifests WHERE id = ? AND repository_id = ?", id, repository).Scan(&m)
		if found.Error != nil {
			return found.Error
		}
		if found.RowsAffected == 0 {
			return &GoneError{}
		}
		if m.State != "live" {
			c.Manifests = append(c.Manifests, m)
		}
		children, err := r.named(c, repository, m)
		if err != nil {
			return err
		}
		open = append(open, children...)
	}
	return nil
}

// named adds what a manifest names to the closure, and returns its children by ID.
func (r Records) named(c *Closure, repository int64, m Image) (children []int64, err error) {
	var edges []struct {
		ContentID, Relation, ManifestID int64
		Digest                          oci.Digest
		MediaType                       string
		// Held is 1 for a holding, 0 for one that ended, -1 for none.
		Held int
	}
	if err := r.DB.Raw(`SELECT edges.content_id, edges.relation, contents.digest, media_types.name AS media_type, coalesce(manifests.id, 0) AS manifest_id,
		CASE WHEN holdings.content_id IS NULL OR blobs.content_id IS NULL THEN -1 ELSE holdings.ended_at = 0 END AS held
		FROM edges JOIN contents ON contents.id = edges.content_id JOIN media_types ON media_types.id = edges.media_type_id
		LEFT JOIN manifests ON manifests.content_id = edges.content_id AND manifests.repository_id = edges.repository_id AND edges.relation = 3
		LEFT JOIN holdings ON holdings.repository_id = edges.repository_id AND holdings.content_id = edges.content_id
		LEFT JOIN blobs ON blobs.content_id = edges.content_id
		WHERE edges.manifest_id = ? AND edges.repository_id = ? AND edges.relation <> 4 ORDER BY edges.position`, m.ID, repository).Scan(&edges).Error; err != nil {
		return nil, err
	}
	for _, e := range edges {
		switch {
		case e.ManifestID != 0:
			children = append(children, e.ManifestID)
		case e.Held == 1 || oci.IsNonDistributable(e.MediaType) || c.held[e.ContentID]:
		case e.Held == 0:
			c.held[e.ContentID] = true
			c.Contents = append(c.Contents, e.ContentID)
		default:
			return nil, &GoneError{Digest: e.Digest, Of: m.Digest}
		}
	}
	return children, nil
}

// Plan is what a removal of images would take, and what not.
type Plan struct {
	// Tags and Images go; the image that was named is the first.
	Tags   []Tag
	Images []Image
	// Kept are children and referrers that stay.
	Kept []Kept
	// Freed is how many bytes nothing that the asker sees needs any more when the restore
	// window is over.
	Freed int64
}

// Kept is a manifest that stays, and why.
type Kept struct {
	Image
	Relation oci.Relation
	Why      string
}

// Counts are how much is in a place.
type Counts struct{ Repositories, Tags, Images int64 }

// Counts counts what is in a repository or, with 0, in a namespace.
func (r Records) Counts(namespace, repository int64) (c Counts, err error) {
	const mine = "SELECT id FROM repositories WHERE namespace_id = ? AND removed_at = 0 AND (? = 0 OR id = ?)"
	return c, r.DB.Raw(`SELECT (SELECT count(*) FROM (`+mine+`)) AS repositories,
		(SELECT count(*) FROM tags WHERE removal_id = 0 AND repository_id IN (`+mine+`)) AS tags,
		(SELECT count(*) FROM manifests WHERE state = 'live' AND repository_id IN (`+mine+`)) AS images`,
		namespace, repository, repository, namespace, repository, repository, namespace, repository, repository).Scan(&c).Error
}

// MostAtOnce bounds the manifests that go by one removal.
const MostAtOnce = 1000

// ErrMost: more than MostAtOnce manifests would go.
var ErrMost = errors.New("too many images would go at once")

// Plan returns what would go with a live manifest: its tags; with whole also the children
// that nothing else names, and what refers to all these. It fails with ErrMost.
func (r Records) Plan(repository int64, first Image, whole bool) (p Plan, err error) {
	goes := map[int64]bool{first.ID: true}
	p.Images = []Image{first}
	// What one keeps another may let go: it is gone round until nothing is added.
	for added := true; added; {
		added, p.Kept = false, nil
		for i := 0; i < len(p.Images); i++ {
			near, err := r.near(repository, p.Images[i])
			if err != nil {
				return p, err
			}
			for _, k := range near {
				if goes[k.ID] {
					continue
				}
				if k.Why, err = r.holds(repository, k.Image, goes); err != nil {
					return p, err
				}
				if k.Why == "" && !whole {
					k.Why = "only the image itself goes"
				}
				if k.Why != "" {
					p.Kept = append(p.Kept, k)
					continue
				}
				if len(p.Images) >= MostAtOnce {
					return p, ErrMost
				}
				goes[k.ID], added = true, true
				p.Images = append(p.Images, k.Image)
			}
		}
	}
	ids := make([]int64, len(p.Images))
	for i, m := range p.Images {
		ids[i] = m.ID
	}
	err = r.DB.Raw(`SELECT tags.id, tags.name, tags.manifest_id, manifests.digest FROM tags JOIN manifests ON manifests.id = tags.manifest_id
		WHERE tags.manifest_id IN ? AND tags.removal_id = 0 ORDER BY tags.name`, ids).Scan(&p.Tags).Error
	return p, err
}

// near returns the live children of a manifest, and what refers to it.
func (r Records) near(repository int64, m Image) (near []Kept, err error) {
	return near, r.DB.Raw(`SELECT `+imageSQL+`, 'child' AS relation FROM edges JOIN manifests ON manifests.content_id = edges.content_id
			AND manifests.repository_id = edges.repository_id AND manifests.state = 'live' WHERE edges.manifest_id = ? AND edges.relation = 3
		UNION SELECT `+imageSQL+`, 'subject' AS relation FROM manifests WHERE repository_id = ? AND subject = ? AND subject <> '' AND state = 'live' LIMIT ?`,
		m.ID, repository, m.Digest, MostAtOnce+1).Scan(&near).Error
}

// holds says what keeps a manifest although all of goes go, "" where nothing does.
func (r Records) holds(repository int64, m Image, goes map[int64]bool) (string, error) {
	var tag oci.Tag
	if err := r.DB.Raw("SELECT name FROM tags WHERE manifest_id = ? AND removal_id = 0 ORDER BY name LIMIT 1", m.ID).Scan(&tag).Error; err != nil {
		return "", err
	}
	if tag != "" {
		return "the tag " + string(tag) + " points to it", nil
	}
	var parents []Image
	if err := r.DB.Raw(`SELECT `+imageSQL+` FROM edges JOIN manifests ON manifests.id = edges.manifest_id AND manifests.state = 'live'
		WHERE edges.content_id = ? AND edges.repository_id = ? AND edges.relation = 3 LIMIT ?`, m.ContentID, repository, MostAtOnce+1).Scan(&parents).Error; err != nil {
		return "", err
	}
	for _, parent := range parents {
		if !goes[parent.ID] {
			return "the index " + string(parent.Digest) + " names it", nil
		}
	}
	return "", nil
}
