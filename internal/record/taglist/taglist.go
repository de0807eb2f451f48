// Package taglist lists the tags of a repository, with what they point to.
package taglist

import (
	"database/sql"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/page"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/stamp"
)

// Row is a tag with what it points to.
type Row struct {
	Name         oci.Tag
	Digest       oci.Digest
	MediaType    string
	ArtifactType string
	Platforms    string
	ContentSize  int64
	MovedAt      stamp.Stamp
	MovedBy      int64
	PulledAt     stamp.Stamp
	Pulls        int64
	FirstServed  int64
	SealedAt     int64
	SealedBy     int64
	SealReason   string
	// Missing is how much of what it names came in part from a peer and is not here yet.
	Missing int64
}

// missing counts what a manifest or, of an index, its children name that is not here, for
// repositories of which anything is not.
const missing = `CASE WHEN EXISTS (SELECT 1 FROM lacking WHERE lacking.repository_id = @repository) THEN manifests.missing + coalesce((SELECT sum(c.missing)
	FROM edges AS e CROSS JOIN manifests AS c ON c.repository_id = e.repository_id AND c.content_id = e.content_id AND c.state = 'live'
	WHERE e.manifest_id = manifests.id AND e.relation = 3), 0) ELSE 0 END AS missing`

// Seal returns what seals ask of the tag.
func (t Row) Seal() seals.Tag {
	return seals.Tag{Name: t.Name, Digest: t.Digest, FirstServed: t.FirstServed, SealedAt: t.SealedAt, SealedBy: t.SealedBy, SealReason: t.SealReason}
}

// Of returns a page of the tags of a repository with what they point to.
func Of(db *gorm.DB, repository int64, p page.Page) ([]Row, error) {
	glob, whole := p.Pattern.Tags()
	if whole {
		return tags(db, repository, p, glob)
	}
	// What SQL cannot tell is told here, of many rows at a time.
	var kept []Row
	limit := p.Limit
	for p.Limit = max(limit, tagsAtOnce); ; {
		rows, err := tags(db, repository, p, glob)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if p.Pattern.MeansTag(row.Name) {
				if kept = append(kept, row); len(kept) == limit {
					return kept, nil
				}
			}
		}
		if len(rows) < p.Limit {
			return kept, nil
		}
		last := rows[len(rows)-1]
		p.After, p.AfterAt = string(last.Name), last.MovedAt
	}
}

// mustBe is what holds of all tags of a kind, as far as SQL can tell: a release has no
// dash, and a commit ends in seven hex digits.
var mustBe = map[string]string{
	"<version>": "tags.order_key >= x'01'", "<release>": "tags.order_key >= x'01' AND instr(tags.name, '-') = 0", "<none>": "0",
	"<commit>": "tags.name GLOB '*" + strings.Repeat("[0-9a-f]", 7) + "'",
}

// tagsAtOnce is how many tags are read at a time where each is looked at.
const tagsAtOnce = 2000

func tags(db *gorm.DB, repository int64, p page.Page, glob string) ([]Row, error) {
	var rows []Row
	query := db.Table("tags").
		Select("tags.name, tags.moved_at, tags.moved_by, tags.pulled_at, tags.pulls, tags.first_served, tags.sealed_at, tags.sealed_by, tags.seal_reason, "+
			"manifests.digest, manifests.media_type, manifests.artifact_type, manifests.platforms, manifests.content_size, "+missing, sql.Named("repository", repository)).
		Joins("JOIN manifests ON manifests.id = tags.manifest_id").
		Where("tags.repository_id = ? AND tags.removal_id = 0", repository)
	if glob != "" {
		query = query.Where("tags.name GLOB ?", glob)
	}
	if must := mustBe[p.Pattern.Kind()]; must != "" {
		query = query.Where(must)
	}
	return rows, p.On(query, "tags.name", "tags.moved_at").Find(&rows).Error
}

// Digest is a tag with the digest that it points to.
type Digest struct {
	Name   oci.Tag    `json:"name"`
	Digest oci.Digest `json:"digest"`
}

// Digests returns up to limit tags of a repository behind after, in order.
func Digests(db *gorm.DB, repository int64, after string, limit int) (tags []Digest, err error) {
	return tags, db.Table("tags").Select("tags.name, manifests.digest").Joins("JOIN manifests ON manifests.id = tags.manifest_id AND manifests.state = 'live'").
		Where("tags.repository_id = ? AND tags.name > ? AND tags.removal_id = 0", repository, after).Order("tags.name").Limit(limit).Scan(&tags).Error
}
