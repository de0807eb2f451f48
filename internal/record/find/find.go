// Package find tells where names and digests stand.
package find

import (
	"cmp"
	"errors"
	"slices"

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
}

// Holder is what a live manifest is, with some of the tags that point to it.
type Holder struct {
	Repository   oci.Name
	Digest       oci.Digest
	ArtifactType string
	Platforms    string
	Tags         string
}

// Holders returns the live manifests of digests, wherever they are, with up to mostTags
// tags each, in order. Words of a list stand with blanks between them.
func (f Finder) Holders(digests []oci.Digest, mostTags int) ([]Holder, error) {
	var rows []Holder
	return rows, f.DB.Table("contents").
		Select("repositories.name AS repository, manifests.digest, manifests.artifact_type, manifests.platforms, coalesce((SELECT group_concat(name, ' ') FROM "+
			"(SELECT name FROM tags WHERE tags.manifest_id = manifests.id AND tags.removal_id = 0 ORDER BY name LIMIT ?)), '') AS tags", mostTags).
		Joins("CROSS JOIN manifests ON manifests.content_id = contents.id AND manifests.state = ?", live).
		Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = manifests.repository_id").
		Where("contents.digest IN ?", digests).Limit(mostHolders).Find(&rows).Error
}

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
		Select("repositories.name AS repository, contents.digest, 'manifest' AS relation, contents.digest AS holder, manifests.media_type, manifests.content_size AS size").
		Joins("CROSS JOIN manifests ON manifests.content_id = contents.id AND manifests.state = ?", live).
		Joins("CROSS JOIN live_repositories AS repositories ON repositories.id = manifests.repository_id").
		Order("contents.digest").Find(&found).Error
	edges := of().
		Select("repositories.name AS repository, contents.digest, " + f.Relation + " AS relation, manifests.digest AS holder, media_types.name AS media_type, edges.size, edges.manifest_id, edges.position")
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
	return found, errors.Join(manifests, names)
}
