// Package follows knows which namespaces follow which peers, and what came of that.
package follows

import (
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// MostSources is how many peers one namespace follows.
const MostSources = 20

// ErrNone: the namespace follows nobody, or the tag did not come from a peer.
var ErrNone = errors.New("it follows nobody")

// Source is a peer that is followed.
type Source struct {
	PeerID int64 `json:"peer"`
	// Prefix stands behind the peer's own prefix and before the names.
	Prefix oci.Name `json:"prefix,omitempty"`
	// Patterns are those of which a repository, or a tag of it, has to be; none is any.
	Patterns []string `json:"patterns,omitempty"`
}

// Follow is what a namespace follows.
type Follow struct {
	NamespaceID int64 `gorm:"primaryKey"`
	// Sources are asked in order.
	Sources []Source `gorm:"serializer:json"`
	// FreshFor is for how long, in served time, a tag is served without asking.
	FreshFor time.Duration
	// Complete tells that what nobody asked for is fetched afterwards, Anonymous that those
	// without a login start fetches by a login of ours.
	Complete, Anonymous bool
	SetAt               stamp.Stamp
	SetBy               int64
}

// Tag is what a peer had of a tag when it was last asked.
type Tag struct {
	RepositoryID  int64   `gorm:"primaryKey"`
	Tag           oci.Tag `gorm:"primaryKey"`
	PeerID        int64
	Digest        oci.Digest
	CheckedAt     stamp.Stamp
	CheckedServed int64
	// GoneAt is since when the peer has it no more, 0 while it does; Conflict is what it has
	// and a seal keeps out.
	GoneAt   stamp.Stamp
	Conflict oci.Digest
}

// TableName names the table.
func (Tag) TableName() string { return "followed_tags" }

// Records are those of following, in a change or as of the last commit.
type Records struct{ DB *gorm.DB }

// All returns what all namespaces follow.
func (r Records) All() (all []Follow, err error) { return all, r.DB.Find(&all).Error }

// Of returns what a namespace follows, or ErrNone.
func (r Records) Of(namespace int64) (f Follow, err error) {
	rows := r.DB.Where("namespace_id = ?", namespace).Limit(1).Find(&f)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return f, ErrNone
	}
	return f, rows.Error
}

// Set lets a namespace follow peers, in place of what it followed.
func (r Records) Set(f Follow) error {
	return r.DB.Clauses(clause.OnConflict{UpdateAll: true}).Create(&f).Error
}

// Remove lets a namespace follow nobody. It fails with ErrNone.
func (r Records) Remove(namespace int64) error {
	done := r.DB.Exec("DELETE FROM follows WHERE namespace_id = ?", namespace)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNone
	}
	return done.Error
}

// By returns the names of the namespaces that follow a peer.
func (r Records) By(peer int64) (names []string, err error) {
	return names, r.DB.Raw(`SELECT namespaces.name FROM follows JOIN namespaces ON namespaces.id = follows.namespace_id
		WHERE EXISTS (SELECT 1 FROM json_each(follows.sources) WHERE value ->> 'peer' = ?) ORDER BY namespaces.name`, peer).Scan(&names).Error
}

// Tag returns what a peer had of a tag, or ErrNone.
func (r Records) Tag(repository int64, tag oci.Tag) (found Tag, err error) {
	rows := r.DB.Where("repository_id = ? AND tag = ?", repository, tag).Limit(1).Find(&found)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return found, ErrNone
	}
	return found, rows.Error
}

// Note writes what a peer has of a tag.
func (r Records) Note(t Tag) error {
	return r.DB.Clauses(clause.OnConflict{UpdateAll: true}).Create(&t).Error
}

// Forget notes that a tag is this registry's own from now on.
func (r Records) Forget(repository int64, tag oci.Tag) error {
	return r.DB.Exec("DELETE FROM followed_tags WHERE repository_id = ? AND tag = ?", repository, tag).Error
}

// Lacks notes which of what a manifest names its repository has not, and returns how many.
func (r Records) Lacks(repository, manifest int64, named []oci.Digest) (missing int, err error) {
	raw, err := json.Marshal(append([]oci.Digest{}, named...))
	if err != nil {
		return 0, err
	}
	if err := r.DB.Exec(`INSERT OR IGNORE INTO lacking (repository_id, content_id, manifest_id)
		SELECT ?, c.id, ? FROM json_each(?) AS d CROSS JOIN contents AS c ON c.digest = d.value
		WHERE NOT EXISTS (SELECT 1 FROM holdings AS h WHERE h.repository_id = ? AND h.content_id = c.id AND h.ended_at = 0)
			AND NOT EXISTS (SELECT 1 FROM manifests AS m WHERE m.repository_id = ? AND m.content_id = c.id AND m.state = 'live')`,
		repository, manifest, string(raw), repository, repository).Error; err != nil {
		return 0, err
	}
	return missing, r.DB.Raw("UPDATE manifests SET missing = (SELECT count(*) FROM lacking WHERE manifest_id = manifests.id) WHERE id = ? RETURNING missing", manifest).Scan(&missing).Error
}

// Weigh sums anew how much a full pull brings of an index and of the indexes that name a
// manifest: what a child brings is known once it is here.
func (r Records) Weigh(manifest int64) error {
	return r.DB.Exec(`UPDATE manifests SET content_size = size + (SELECT coalesce(sum(coalesce(c.content_size, e.size)), 0) FROM edges AS e
			LEFT JOIN manifests AS c ON c.repository_id = e.repository_id AND c.content_id = e.content_id AND c.state = 'live' WHERE e.manifest_id = manifests.id AND e.relation <> 4)
		WHERE id IN (SELECT @manifest UNION SELECT e.manifest_id FROM manifests AS m CROSS JOIN edges AS e ON e.content_id = m.content_id AND e.repository_id = m.repository_id AND e.relation = 3 WHERE m.id = @manifest)
			AND EXISTS (SELECT 1 FROM edges WHERE manifest_id = manifests.id AND relation = 3)`, sql.Named("manifest", manifest)).Error
}

// Standing is what changes of a manifest while what it names comes.
type Standing struct {
	// Missing is how much of what it names is not here, ContentSize how many bytes a full pull
	// brings, as far as that is known.
	Missing, ContentSize int64
}

// Standing returns how a manifest stands now: what is remembered of it for pulls may be older.
func (r Records) Standing(manifest int64) (s Standing, err error) {
	return s, r.DB.Raw("SELECT missing, content_size FROM manifests WHERE id = ?", manifest).Scan(&s).Error
}

// Wanted returns how large live manifests of a repository say that content is which they
// name and the repository lacks, or ErrNone.
func (r Records) Wanted(repository int64, digest oci.Digest) (size int64, err error) {
	var sizes []int64
	err = r.DB.Raw(`SELECT e.size FROM contents AS c CROSS JOIN lacking AS l ON l.content_id = c.id AND l.repository_id = ?
		CROSS JOIN manifests AS m ON m.id = l.manifest_id AND m.state = 'live' CROSS JOIN edges AS e ON e.manifest_id = m.id AND e.content_id = c.id
		WHERE c.digest = ? LIMIT 1`, repository, digest).Scan(&sizes).Error
	if err == nil && len(sizes) == 0 {
		err = ErrNone
	}
	if err != nil {
		return 0, err
	}
	return sizes[0], nil
}

// Lack is what a repository of a namespace lacks.
type Lack struct {
	Repository oci.Name
	Digest     oci.Digest
	MediaType  string
}

// Lacking returns up to limit of what the repositories of a namespace lack.
func (r Records) Lacking(namespace int64, limit int) (all []Lack, err error) {
	return all, r.DB.Raw(`SELECT DISTINCT repositories.name AS repository, c.digest, t.name AS media_type FROM live_repositories AS repositories
		CROSS JOIN lacking AS l ON l.repository_id = repositories.id CROSS JOIN manifests AS m ON m.id = l.manifest_id AND m.state = 'live'
		CROSS JOIN contents AS c ON c.id = l.content_id CROSS JOIN edges AS e ON e.manifest_id = m.id AND e.content_id = c.id CROSS JOIN media_types AS t ON t.id = e.media_type_id
		WHERE repositories.namespace_id = ? LIMIT ?`, namespace, limit).Scan(&all).Error
}

// Share is what a followed namespace served on a day, from here and from its peers: answers
// with content, and their bytes.
type Share struct {
	NamespaceID int64       `gorm:"primaryKey"`
	Day         stamp.Stamp `gorm:"primaryKey"`
	Here        int64
	HereBytes   int64
	There       int64
	ThereBytes  int64
}

// TableName names the table.
func (Share) TableName() string { return "follow_served" }

// AddShare adds to what a namespace served on a day, and forgets what is older than a moment.
func (r Records) AddShare(s Share, before stamp.Stamp) error {
	return errors.Join(r.DB.Exec(`INSERT INTO follow_served (namespace_id, day, here, here_bytes, there, there_bytes) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET here = here + excluded.here, here_bytes = here_bytes + excluded.here_bytes, there = there + excluded.there, there_bytes = there_bytes + excluded.there_bytes`,
		s.NamespaceID, s.Day, s.Here, s.HereBytes, s.There, s.ThereBytes).Error,
		r.DB.Exec("DELETE FROM follow_served WHERE namespace_id = ? AND day < ?", s.NamespaceID, before).Error)
}

// Shares returns what a namespace served since a moment, in all.
func (r Records) Shares(namespace int64, since stamp.Stamp) (s Share, err error) {
	return s, r.DB.Raw(`SELECT coalesce(sum(here), 0) AS here, coalesce(sum(here_bytes), 0) AS here_bytes, coalesce(sum(there), 0) AS there, coalesce(sum(there_bytes), 0) AS there_bytes
		FROM follow_served WHERE namespace_id = ? AND day >= ?`, namespace, since).Scan(&s).Error
}

// Idle is a manifest that came in part.
type Idle struct {
	Repository oci.Name
	Digest     oci.Digest
}

// Idles returns up to limit live manifests that came in part, that no tag, live index or live
// subject keeps, and that nobody pulled or pushed since a moment of served time.
func (r Records) Idles(before int64, limit int) (all []Idle, err error) {
	return all, r.DB.Raw(`SELECT r.name AS repository, m.digest FROM (SELECT DISTINCT manifest_id FROM lacking) AS l CROSS JOIN manifests AS m ON m.id = l.manifest_id
		CROSS JOIN live_repositories AS r ON r.id = m.repository_id
		WHERE m.state = 'live' AND m.untagged_at <> 0 AND max(m.pushed_served, m.again_served, m.pulled_served, m.untagged_served) < ?
			AND NOT EXISTS (SELECT 1 FROM edges AS e CROSS JOIN manifests AS p ON p.id = e.manifest_id AND p.state = 'live' WHERE e.content_id = m.content_id AND e.repository_id = m.repository_id AND e.relation = 3)
			AND NOT EXISTS (SELECT 1 FROM manifests AS s WHERE s.repository_id = m.repository_id AND s.digest = m.subject AND s.state = 'live') LIMIT ?`, before, limit).Scan(&all).Error
}
