package removals

import (
	"fmt"
	"strings"

	"gorm.io/gorm/clause"
)

// of keeps what is in repositories that are seen: what lies in others must not show in a sum.
const of = ".repository_id IN (SELECT repositories.id FROM repositories WHERE ?)"

// Freed returns how many bytes nothing in the repositories that are seen needs once manifests
// of a repository are gone for good.
func (r Records) Freed(repository int64, images []Image, seen clause.Expr) (bytes int64, err error) {
	ids, contents := make([]string, len(images)), make([]string, len(images))
	for i, m := range images {
		ids[i], contents[i] = fmt.Sprint(m.ID), fmt.Sprint(m.ContentID)
	}
	// Numbers of ours, as one text: there may be more than a statement takes values.
	set := strings.Join(ids, ",")
	return bytes, r.DB.Raw(`SELECT coalesce(sum(size), 0) FROM (
		SELECT blobs.content_id, blobs.size FROM blobs WHERE blobs.content_id IN (SELECT content_id FROM edges WHERE manifest_id IN (`+set+`) AND relation <> 4)
			AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id AND holdings.repository_id <> ? AND holdings`+of+`)
			AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = blobs.content_id AND edges.relation <> 4 AND edges.manifest_id NOT IN (`+set+`) AND edges`+of+`)
			AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id AND manifests.id NOT IN (`+set+`) AND manifests`+of+`)
		UNION SELECT blobs.content_id, blobs.size FROM blobs WHERE blobs.content_id IN (`+strings.Join(contents, ",")+`)
			AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id AND manifests.id NOT IN (`+set+`) AND manifests`+of+`)
			AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id AND holdings`+of+`))`, repository, seen, seen, seen, seen, seen).Scan(&bytes).Error
}

// FreedWithPlace returns how many bytes nothing in the repositories that are seen needs once
// a repository or, with 0, a whole namespace is gone for good.
func (r Records) FreedWithPlace(namespace, repository int64, seen clause.Expr) (bytes int64, err error) {
	mine := "SELECT id FROM repositories WHERE namespace_id = ?"
	place := namespace
	if repository != 0 {
		mine, place = "?", repository
	}
	return bytes, r.DB.Raw(`SELECT coalesce(sum(blobs.size), 0) FROM blobs WHERE blobs.content_id IN (
			SELECT content_id FROM holdings WHERE repository_id IN (`+mine+`) UNION SELECT content_id FROM manifests WHERE repository_id IN (`+mine+`))
		AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id AND holdings.repository_id NOT IN (`+mine+`) AND holdings`+of+`)
		AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id AND manifests.repository_id NOT IN (`+mine+`) AND manifests`+of+`)`,
		place, place, place, seen, place, seen).Scan(&bytes).Error
}
