// Package taglog is the record of what tags pointed to: from when to when, by whom, and
// how it came.
package taglog

import (
	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// Origin is from where a tag was moved. Anything else is the peer that it came from.
type Origin string

// The origins that are no peer.
const (
	// OriginPush: a manifest was pushed under the tag.
	OriginPush Origin = ""
	// OriginHand: somebody changed the tag alone.
	OriginHand Origin = "hand"
	// OriginUndo: a removal was undone.
	OriginUndo Origin = "undo"
	// OriginRule: a retention rule let the tag go.
	OriginRule Origin = "rule"
)

// Move is one line of the tag log. Times are in nanoseconds, of wall time or, where they
// are called so, of served time.
type Move struct {
	ID  int64
	Tag oci.Tag
	// From is what the tag pointed to before, "" for a new tag; To is what it points to
	// since, "" where it was removed.
	From, To    oci.Digest
	MovedAt     int64
	MovedServed int64
	// UntilAt is when the tag was moved next, 0 where it was not since.
	UntilAt int64
	MovedBy int64
	Token   string
	Origin  Origin
}

// Log is the log of one repository, in a change or as of the last commit.
type Log struct {
	DB           *gorm.DB
	RepositoryID int64
}

// Write adds a line about a tag that points from a manifest to another since; 0 is none.
func (l Log) Write(m Move, from, to int64) error {
	return l.DB.Exec(`INSERT INTO tag_moves (repository_id, tag, from_id, to_id, moved_at, moved_served, moved_by, token, origin)
		VALUES (?, ?, coalesce((SELECT content_id FROM manifests WHERE id = ?), 0), coalesce((SELECT content_id FROM manifests WHERE id = ?), 0), ?, ?, ?, ?, ?)`,
		l.RepositoryID, m.Tag, from, to, m.MovedAt, m.MovedServed, m.MovedBy, m.Token, m.Origin).Error
}

// Read returns up to limit lines of a tag, or with "" of all tags of the repository, before
// a line or with 0 from the end, the newest first.
func (l Log) Read(tag oci.Tag, before int64, limit int) (rows []Move, err error) {
	query := l.DB.Where("repository_id = ?", l.RepositoryID)
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

// Changes returns up to limit lines in which a tag that was there was moved or removed,
// behind a served time and before a line or with 0 from the end, the newest first, with
// when there first was a tag of the name.
func (l Log) Changes(since, before int64, limit int) (rows []Change, err error) {
	query := l.DB.Table("tag_moves").Select(`tag_moves.id, tag_moves.tag, tag_moves.moved_at, tag_moves.moved_served, tag_moves.moved_by,
		coalesce(tag_names.first_served, 0) AS first_served, tag_moves.to_id <> 0 AS moved`).
		Joins("LEFT JOIN tag_names ON tag_names.repository_id = tag_moves.repository_id AND tag_names.name = tag_moves.tag").
		Where("tag_moves.repository_id = ? AND tag_moves.from_id <> 0 AND tag_moves.moved_served > ?", l.RepositoryID, since)
	if before != 0 {
		query = query.Where("tag_moves.id < ?", before)
	}
	return rows, query.Order("tag_moves.id DESC").Limit(limit).Scan(&rows).Error
}

// Change is a line in which a tag that was there was moved or removed.
type Change struct {
	ID          int64
	Tag         oci.Tag
	MovedAt     int64
	MovedServed int64
	MovedBy     int64
	FirstServed int64
	// Moved tells of a move, and not of a removal.
	Moved bool
}
