package record

import "warthesis/internal/oci"

// Actor is who does something, for the logs.
type Actor struct {
	// Account is 0 where nobody is logged in, and for the service itself.
	Account int64
	// Token is the name of the token by which the account came, "" for none.
	Token string
	// Origin is from where a change of a tag comes; the tag log has it.
	Origin Origin
}

// Origin is from where a tag was moved. Anything else is the peer that it came from.
type Origin string

// The origins that are no peer.
const (
	// OriginPush: a manifest was pushed under the tag.
	OriginPush Origin = ""
	// OriginHand: somebody changed the tag alone.
	OriginHand Origin = "hand"
)

// RemovalKind is what a removal began with.
type RemovalKind string

// The kinds of removals.
const (
	RemovalOfTag        RemovalKind = "tag"
	RemovalOfManifest   RemovalKind = "manifest"
	RemovalOfBlob       RemovalKind = "blob"
	RemovalOfRepository RemovalKind = "repository"
	RemovalOfNamespace  RemovalKind = "namespace"
)

// Removal is one act of somebody with all that went by it: what went points to it.
type Removal struct {
	ID           int64
	Kind         RemovalKind
	NamespaceID  int64
	RepositoryID int64
	// Name is what the thing was called then: a tag, a digest, a repository, a namespace.
	Name      string
	RemovedAt Stamp
	// RemovedServed is served time in nanoseconds.
	RemovedServed int64
	RemovedBy     int64
	Token         string
	Reason        string
	// UndoneAt is 0 while the removal stands.
	UndoneAt Stamp
	UndoneBy int64
}

// remove records a removal in a repository or, of a namespace, in a repository that has
// only the namespace's ID, and returns its ID.
func (tx *Tx) remove(kind RemovalKind, in Repository, name string, by Actor) (id int64, err error) {
	return id, tx.db.Raw(`INSERT INTO removals (kind, namespace_id, repository_id, name, removed_at, removed_served, removed_by, token)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`, kind, in.NamespaceID, in.ID, name, tx.Now(), tx.Served(), by.Account, by.Token).Scan(&id).Error
}

// undo notes that a removal does not stand any more.
func (tx *Tx) undo(removal int64, by Actor) error {
	return tx.db.Model(&Removal{}).Where("id = ?", removal).Updates(map[string]any{"undone_at": tx.Now(), "undone_by": by.Account}).Error
}

// TagMove is one line of the tag log.
type TagMove struct {
	ID  int64
	Tag oci.Tag
	// From is what the tag pointed to before, "" for a new tag; To is what it points to
	// since, "" where it was removed.
	From, To    oci.Digest
	MovedAt     Stamp
	MovedServed int64
	// UntilAt is when the tag was moved next, 0 where it was not since.
	UntilAt Stamp
	MovedBy int64
	Token   string
	Origin  Origin
}

// TagLog returns up to limit lines of a tag's log, or with "" of those of all tags of the
// repository, before a line or with 0 from the end, the newest first.
func (v View) TagLog(repository int64, tag oci.Tag, before int64, limit int) ([]TagMove, error) {
	var rows []TagMove
	query := v.db.Where("repository_id = ?", repository)
	if tag != "" {
		query = query.Where("tag = ?", tag)
	}
	if before != 0 {
		query = query.Where("tag_moves.id < ?", before)
	}
	return rows, query.Table("tag_moves").
		Select(`tag_moves.*, coalesce(before.digest, '') AS "from", coalesce(since.digest, '') AS "to",
			coalesce((SELECT later.moved_at FROM tag_moves AS later WHERE later.repository_id = tag_moves.repository_id AND later.tag = tag_moves.tag
				AND later.id > tag_moves.id ORDER BY later.id LIMIT 1), 0) AS until_at`).
		Joins("LEFT JOIN contents AS before ON before.id = tag_moves.from_id").
		Joins("LEFT JOIN contents AS since ON since.id = tag_moves.to_id").
		Order("tag_moves.id DESC").Limit(limit).Find(&rows).Error
}
