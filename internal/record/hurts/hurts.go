// Package hurts knows which content has a file that is not what it should be.
package hurts

import (
	"errors"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// What is wrong with a file.
type What string

// What can be wrong with a file.
const (
	// Missing: there is none. Short: it has another size. Rotten: it has other bytes.
	Missing What = "missing"
	Short   What = "short"
	Rotten  What = "rotten"
	// Unreadable: reading it fails, or it is no file.
	Unreadable What = "unreadable"
)

// How a hurt ended.
const (
	// Mended: a good copy came. Gone: the content itself went.
	Mended = "mended"
	Gone   = "gone"
)

// Hurt is one file that was found not to be what it should be.
type Hurt struct {
	ID     int64
	Digest oci.Digest
	Place  string
	What   What
	// Size is what it should have, FoundSize what it had, in bytes.
	Size, FoundSize int64
	FoundAt         stamp.Stamp
	// EndedAt is 0 while it hurts, EndedHow how it ended.
	EndedAt  stamp.Stamp
	EndedHow string
}

// Hurts are all of them, in a change or as of the last commit.
type Hurts struct{ DB *gorm.DB }

// ErrNone: the content is not hurt.
var ErrNone = errors.New("no such hurt")

// Add records one, and reports whether it is new.
func (h Hurts) Add(one Hurt) (bool, error) {
	done := h.DB.Exec("INSERT INTO hurts (digest, place, what, size, found_size, found_at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
		one.Digest, one.Place, one.What, one.Size, one.FoundSize, one.FoundAt)
	return done.RowsAffected > 0, done.Error
}

// Mend notes that a good copy of the content is here, and reports whether it was hurt.
func (h Hurts) Mend(digest oci.Digest, now stamp.Stamp) (bool, error) {
	done := h.DB.Exec("UPDATE hurts SET ended_at = ?, ended_how = 'mended' WHERE digest = ? AND ended_at = 0", now, digest)
	return done.RowsAffected > 0, done.Error
}

// Count counts those that hurt.
func (h Hurts) Count() (n int64, err error) {
	return n, h.DB.Raw("SELECT count(*) FROM hurts WHERE ended_at = 0").Scan(&n).Error
}

// Get returns the hurt of a digest that hurts, or ErrNone.
func (h Hurts) Get(digest oci.Digest) (one Hurt, err error) {
	found := h.DB.Raw("SELECT * FROM hurts WHERE digest = ? AND ended_at = 0", digest).Scan(&one)
	if found.Error == nil && found.RowsAffected == 0 {
		return one, ErrNone
	}
	return one, found.Error
}

// List returns up to limit hurts before one or with 0 from the end, the last found first;
// with ended also those that ended.
func (h Hurts) List(ended bool, before int64, limit int) (rows []Hurt, err error) {
	query := h.DB.Table("hurts").Order("id DESC").Limit(limit)
	if !ended {
		query = query.Where("ended_at = 0")
	}
	if before != 0 {
		query = query.Where("id < ?", before)
	}
	return rows, query.Scan(&rows).Error
}

// Image is a live image that cannot be pulled whole.
type Image struct {
	Repository oci.Name
	Digest     oci.Digest
	Pulls      int64
	PulledAt   stamp.Stamp
	// TagWords and PullerWords have a blank between two.
	TagWords, PullerWords string
}

// Tags are those that point to the image.
func (i Image) Tags() []oci.Tag {
	tags := []oci.Tag{}
	for _, word := range strings.Fields(i.TagWords) {
		tags = append(tags, oci.Tag(word))
	}
	return tags
}

// Pullers are the accounts that pulled the image, where pulls are logged.
func (i Image) Pullers() []string { return append([]string{}, strings.Fields(i.PullerWords)...) }

// mostImages bounds the images that are told of.
const mostImages = 500

// Images returns the live images that have content in them, with who pulled them since.
func (h Hurts) Images(digest oci.Digest, since stamp.Stamp) (images []Image, err error) {
	return images, h.DB.Raw(`WITH RECURSIVE up (repository_id, content_id) AS (
			SELECT repository_id, content_id FROM holdings WHERE content_id = (SELECT id FROM contents WHERE digest = @digest)
			UNION SELECT repository_id, content_id FROM manifests WHERE content_id = (SELECT id FROM contents WHERE digest = @digest)
			UNION SELECT m.repository_id, m.content_id FROM up JOIN edges ON edges.content_id = up.content_id AND edges.repository_id = up.repository_id AND edges.relation < 4
				JOIN manifests AS m ON m.id = edges.manifest_id AND m.state = 'live')
		SELECT repositories.name AS repository, m.digest, m.pulls, m.pulled_at,
			coalesce((SELECT group_concat(name, ' ') FROM (SELECT name FROM tags WHERE tags.manifest_id = m.id AND tags.removal_id = 0 ORDER BY name LIMIT 20)), '') AS tag_words,
			coalesce((SELECT replace(group_concat(DISTINCT account), ',', ' ') FROM events WHERE events.repository = repositories.name AND events.kind = 'pull' AND events.digest = m.digest AND events.at > @since), '') AS puller_words
		FROM up JOIN manifests AS m ON m.repository_id = up.repository_id AND m.content_id = up.content_id AND m.state = 'live'
		JOIN live_repositories AS repositories ON repositories.id = m.repository_id ORDER BY m.pulled_at DESC LIMIT @most`,
		map[string]any{"digest": digest, "since": since, "most": mostImages}).Scan(&images).Error
}

// Holder is a repository that has content, as a blob or as a manifest.
type Holder struct {
	Repository oci.Name
	Manifest   bool
}

// Holders returns up to limit live repositories that have content.
func (h Hurts) Holders(digest oci.Digest, limit int) (all []Holder, err error) {
	return all, h.DB.Raw(`SELECT r.name AS repository, 0 AS manifest FROM contents AS c CROSS JOIN holdings ON holdings.content_id = c.id AND holdings.ended_at = 0
			CROSS JOIN live_repositories AS r ON r.id = holdings.repository_id WHERE c.digest = @digest
		UNION ALL SELECT r.name, 1 FROM contents AS c CROSS JOIN manifests AS m ON m.content_id = c.id AND m.state = 'live'
			CROSS JOIN live_repositories AS r ON r.id = m.repository_id WHERE c.digest = @digest LIMIT @limit`, map[string]any{"digest": digest, "limit": limit}).Scan(&all).Error
}
