// Package find tells where names and digests stand.
package find

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// live is the state of manifests that readers see.
const live = "live"

// Finder looks in the records as of the last commit.
type Finder struct {
	DB *gorm.DB
	// Seen keeps the repositories that somebody may see; Everything tells that it is all.
	Seen       clause.Expr
	Everything bool
	// Relation gives the number of an edge its word, in SQL.
	Relation string
}

// Place is where a digest was found.
type Place struct {
	Repository oci.Name
	Digest     oci.Digest
	// Relation is "manifest", or as what a manifest of the repository names it.
	Relation string
	// Holder is the manifest that names it; the digest itself for a manifest.
	Holder    oci.Digest
	MediaType string
	Size      int64
	// Layer is the layer that unpacks to the digest, where it was found so.
	Layer oci.Digest
	// Since is when the manifest came, in nanoseconds.
	Since int64
}

// Holder is what a live manifest is, with some of the tags that point to it.
type Holder struct {
	Repository   oci.Name
	Digest       oci.Digest
	ArtifactType string
	Platforms    string
	Tags         string
	// Content is of an image its config and its layers, by number: images with the same one
	// differ in how their manifests are written alone. It is "" for an index.
	Content string
	Since   int64
}

// contentSQL is what an image is made of, up to some layers.
const contentSQL = `coalesce((SELECT group_concat(content_id, ' ') FROM (SELECT content_id FROM edges WHERE edges.manifest_id = manifests.id AND edges.relation IN (1, 2) ORDER BY position LIMIT 200)), '')`

// Twin is a manifest of the same content as another.
type Twin struct {
	Holder
	// Of is the other.
	Of oci.Digest
}

// mostTwins bounds the manifests that are told of.
const mostTwins = 100

// Twins returns live manifests that have the config and the layers of those of the digests,
// and other digests.
func (f Finder) Twins(digests []oci.Digest) (twins []Twin, err error) {
	var rows []struct {
		Twin
		OfContent string
	}
	same := "CROSS JOIN edges AS same ON same.content_id = config.content_id AND same.relation = 1 CROSS JOIN live_repositories AS repositories ON repositories.id = same.repository_id"
	if !f.Everything {
		// From what is seen, as in Digest.
		same = "CROSS JOIN live_repositories AS repositories CROSS JOIN edges AS same ON same.content_id = config.content_id AND same.repository_id = repositories.id AND same.relation = 1"
	}
	err = f.DB.Table("contents").Distinct("repositories.name AS repository, manifests.digest, manifests.platforms, manifests.pushed_at AS since, "+contentSQL+" AS content, contents.digest AS of, "+
		strings.ReplaceAll(strings.ReplaceAll(contentSQL, "manifests.id", "one.id"), "edges.manifest_id", "manifest_id")+" AS of_content").
		Joins("CROSS JOIN manifests AS one ON one.id = (SELECT min(id) FROM manifests WHERE content_id = contents.id)").
		Joins("CROSS JOIN edges AS config ON config.manifest_id = one.id AND config.relation = 1").
		Joins(same).
		Joins("CROSS JOIN manifests ON manifests.id = same.manifest_id AND manifests.state = ? AND manifests.content_id <> one.content_id", live).
		Where("contents.digest IN ?", digests).Where(f.Seen).Limit(mostTwins).Scan(&rows).Error
	for _, row := range rows {
		if row.Content == row.OfContent && row.Content != "" {
			twins = append(twins, row.Twin)
		}
	}
	return twins, err
}

// Holders returns the live manifests of digests, wherever they are, with up to mostTags
// tags each, in order, those of indexes that name them among these. Words of a list stand with blanks between them.
func (f Finder) Holders(digests []oci.Digest, mostTags int) ([]Holder, error) {
	var rows []Holder
	return rows, f.DB.Table("contents").
		Select("repositories.name AS repository, manifests.digest, manifests.artifact_type, manifests.platforms, manifests.pushed_at AS since, "+contentSQL+" AS content, coalesce((SELECT group_concat(name, ' ') FROM "+
			"(SELECT name FROM tags WHERE (tags.manifest_id = manifests.id OR tags.manifest_id IN (SELECT edges.manifest_id FROM edges"+
			" WHERE edges.content_id = manifests.content_id AND edges.repository_id = manifests.repository_id AND edges.relation = 3)) AND tags.removal_id = 0 ORDER BY name LIMIT ?)), '') AS tags", mostTags).
		Joins("CROSS JOIN manifests ON manifests.content_id = contents.id AND manifests.state = ?", live).
		Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = manifests.repository_id").
		Where("contents.digest IN ?", digests).Limit(mostHolders).Find(&rows).Error
}

// HolderCounts counts the repositories, of those that are seen, that hold each of the blobs.
func (f Finder) HolderCounts(digests []oci.Digest) (map[oci.Digest]int64, error) {
	counts := make(map[oci.Digest]int64, len(digests))
	for some := range slices.Chunk(digests, atOnce) {
		var rows []struct {
			Digest oci.Digest
			Count  int64
		}
		if err := f.DB.Table("contents").Select("contents.digest, count(*) AS count").Where(f.Seen).
			Joins("JOIN holdings ON holdings.content_id = contents.id AND holdings.ended_at = 0").
			Joins("JOIN live_repositories AS repositories ON repositories.id = holdings.repository_id").
			Where("contents.digest IN ?", some).Group("contents.digest").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, row := range rows {
			counts[row.Digest] = row.Count
		}
	}
	return counts, nil
}

// atOnce keeps lists of values well below what one statement may carry.
const atOnce = 500

// mostHolders bounds the manifests that are told of at once.
const mostHolders = 2000

// namedPlace is a place in a manifest, with what puts places in order.
type namedPlace struct {
	Place      `gorm:"embedded"`
	ManifestID int64
	Position   int
}

// Digest returns up to limit places each where a digest, or the beginning of
// one, stands: as a live manifest, and as what live manifests name. Who sees all is
// answered from the first places there are; for others it is asked what stands in
// each repository that they see, so that one digest in very many hidden places costs
// them no more than what they see.
func (f Finder) Digest(prefix string, limit int) ([]Place, error) {
	var found []Place
	var named []namedPlace
	of := func() *gorm.DB {
		return f.DB.Table("contents").Where(f.Seen).Where("contents.digest >= ? AND contents.digest < ?", prefix, prefix+"~").Limit(limit)
	}
	manifests := of().
		Select("repositories.name AS repository, contents.digest, 'manifest' AS relation, contents.digest AS holder, manifests.media_type, manifests.content_size AS size, manifests.pushed_at AS since").
		Joins("CROSS JOIN manifests ON manifests.content_id = contents.id AND manifests.state = ?", live).
		Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = manifests.repository_id").
		Order("contents.digest").Find(&found).Error
	edges := of().
		Select("repositories.name AS repository, contents.digest, " + f.Relation + " AS relation, manifests.digest AS holder, media_types.name AS media_type, edges.size, manifests.pushed_at AS since, edges.manifest_id, edges.position")
	if f.Everything {
		edges = edges.Joins("CROSS JOIN edges ON edges.content_id = contents.id").
			Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = edges.repository_id")
	} else {
		edges = edges.Joins("CROSS JOIN live_repositories AS repositories").
			Joins("CROSS JOIN edges ON edges.content_id = contents.id AND edges.repository_id = repositories.id")
	}
	names := edges.Joins("CROSS JOIN manifests ON manifests.id = edges.manifest_id AND manifests.state = ?", live).
		Joins("JOIN media_types ON media_types.id = edges.media_type_id").Order("contents.digest").Find(&named).Error
	slices.SortFunc(named, func(a, b namedPlace) int {
		return cmp.Or(cmp.Compare(a.Digest, b.Digest), cmp.Compare(a.Relation, b.Relation), cmp.Compare(a.ManifestID, b.ManifestID), cmp.Compare(a.Position, b.Position))
	})
	for _, n := range named {
		found = append(found, n.Place)
	}
	unpacked, lost := f.unpacked(prefix, limit)
	return append(found, unpacked...), errors.Join(manifests, names, lost)
}

// unpacked returns places where a layer unpacks to a digest, or one with that beginning.
func (f Finder) unpacked(prefix string, limit int) (found []Place, err error) {
	query := f.DB.Table("contents").Select(`repositories.name AS repository, contents.digest, 'diff_id' AS relation, manifests.digest AS holder, manifests.pushed_at AS since,
		coalesce((SELECT digest FROM (SELECT c.digest, row_number() OVER (ORDER BY l.position) - 1 AS n FROM edges AS l JOIN contents AS c ON c.id = l.content_id
			WHERE l.manifest_id = manifests.id AND l.relation = 2) WHERE n = diff_ids.position), '') AS layer`)
	if f.Everything {
		query = query.Joins("CROSS JOIN diff_ids ON diff_ids.content_id = contents.id").
			Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = diff_ids.repository_id")
	} else {
		query = query.Joins("CROSS JOIN live_repositories AS repositories").
			Joins("CROSS JOIN diff_ids ON diff_ids.content_id = contents.id AND diff_ids.repository_id = repositories.id")
	}
	query = query.Joins("CROSS JOIN edges ON edges.content_id = diff_ids.config_id AND edges.repository_id = diff_ids.repository_id AND edges.relation = 1")
	return found, query.Joins("CROSS JOIN manifests ON manifests.id = edges.manifest_id AND manifests.state = ?", live).
		Where("contents.digest >= ? AND contents.digest < ?", prefix, prefix+"~").Where(f.Seen).Order("contents.digest").Limit(limit).Scan(&found).Error
}
