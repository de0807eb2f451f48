// Package erasing knows what has to go so that content is here no more: the manifests that
// name it, those that name these, and the tags that point to any of them.
package erasing

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// Place is a repository that has the content, or something that names it.
type Place struct {
	ID          int64
	NamespaceID int64
	Name        oci.Name
	// Removed tells that the repository or its namespace is removed, and could come back.
	Removed bool
	// Held tells that it is held as a blob.
	Held bool
}

// Image is a manifest that goes, with the tags that point to it.
type Image struct {
	ID           int64
	RepositoryID int64
	Digest       oci.Digest
	MediaType    string
	// Live tells that it can be pulled, and does not only wait for its restore window.
	Live bool
	Tags []Tag `gorm:"-"`
}

// Tag is a tag that goes.
type Tag struct {
	ID         int64
	ManifestID int64
	Name       oci.Tag
	Live       bool
}

// Plan is all that goes.
type Plan struct {
	Places []Place
	Images []Image
	// Elsewhere is how many more repositories have the content, in other namespaces.
	Elsewhere int64
}

// Plan returns what has to go of a namespace or, with 0, of the registry so that the
// content of the digests is here no more: what names before what is named.
func (r Records) Plan(namespace int64, digests []oci.Digest) (p Plan, err error) {
	const content = "(SELECT id FROM contents WHERE digest IN @digests)"
	const mine = "(@namespace = 0 OR repositories.namespace_id = @namespace) AND repositories.gone_at = 0"
	values := map[string]any{"digests": digests, "namespace": namespace}
	if err = r.DB.Raw(`WITH RECURSIVE up (id) AS (
			SELECT id FROM manifests WHERE content_id IN `+content+`
			UNION SELECT manifest_id FROM edges WHERE content_id IN `+content+` AND relation < 4
			UNION SELECT edges.manifest_id FROM up JOIN manifests AS m ON m.id = up.id
				JOIN edges ON edges.content_id = m.content_id AND edges.repository_id = m.repository_id AND edges.relation = 3)
		SELECT m.id, m.repository_id, m.digest, m.media_type, m.state = 'live' AS live FROM up JOIN manifests AS m ON m.id = up.id
		JOIN repositories ON repositories.id = m.repository_id WHERE `+mine+` ORDER BY m.id DESC`, values).Scan(&p.Images).Error; err != nil {
		return p, err
	}
	tags := map[int64][]Tag{}
	all := []int64{}
	for _, m := range p.Images {
		all = append(all, m.ID)
	}
	for start := 0; start < len(all); start += atOnce {
		var some []Tag
		if err := r.DB.Raw("SELECT id, manifest_id, name, removal_id = 0 AS live FROM tags WHERE manifest_id IN ? ORDER BY name", all[start:min(start+atOnce, len(all))]).Scan(&some).Error; err != nil {
			return p, err
		}
		for _, t := range some {
			tags[t.ManifestID] = append(tags[t.ManifestID], t)
		}
	}
	for i := range p.Images {
		p.Images[i].Tags = tags[p.Images[i].ID]
	}
	err = r.DB.Raw(`SELECT repositories.id, repositories.namespace_id, repositories.name, repositories.removed_at <> 0 OR namespaces.removed_at <> 0 AS removed,
			EXISTS (SELECT 1 FROM holdings WHERE holdings.repository_id = repositories.id AND holdings.content_id IN `+content+`) AS held
		FROM repositories JOIN namespaces ON namespaces.id = repositories.namespace_id
		WHERE `+mine+` AND repositories.id IN (SELECT repository_id FROM holdings WHERE content_id IN `+content+` UNION SELECT repository_id FROM manifests WHERE content_id IN `+content+`
			UNION SELECT repository_id FROM edges WHERE content_id IN `+content+` AND relation < 4) ORDER BY repositories.name, repositories.id`, values).Scan(&p.Places).Error
	if err != nil || namespace == 0 {
		return p, err
	}
	return p, r.DB.Raw(`SELECT count(*) FROM repositories WHERE namespace_id <> @namespace AND gone_at = 0
		AND id IN (SELECT repository_id FROM holdings WHERE content_id IN `+content+` UNION SELECT repository_id FROM manifests WHERE content_id IN `+content+`)`, values).Scan(&p.Elsewhere).Error
}

// atOnce keeps lists of values well below what one statement may carry.
const atOnce = 500

// Mark is another one where anything else would go.
func (p Plan) Mark() string {
	hash := sha256.New()
	for _, place := range p.Places {
		fmt.Fprintln(hash, place.ID, place.Held)
	}
	for _, m := range p.Images {
		fmt.Fprintln(hash, m.ID, m.Live, m.Tags)
	}
	return hex.EncodeToString(hash.Sum(nil)[:16])
}

// File is where the bytes of content are.
type File struct {
	Digest oci.Digest
	Place  string
	Size   int64
}

// Take takes the holdings of content of a namespace or, with 0, of the registry, once all
// that names it has gone, and returns where bytes are that nothing has any more.
func (r Records) Take(namespace int64, digests []oci.Digest) (places []File, err error) {
	const content = "(SELECT id FROM contents WHERE digest IN @digests)"
	values := map[string]any{"digests": digests, "namespace": namespace}
	if err := r.DB.Exec(`DELETE FROM holdings WHERE content_id IN `+content+` AND (@namespace = 0 OR repository_id IN (SELECT id FROM repositories WHERE namespace_id = @namespace))`, values).Error; err != nil {
		return nil, err
	}
	const free = ` content_id IN ` + content + ` AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id)
		AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id)`
	if err := r.DB.Raw("SELECT contents.digest, blobs.place, blobs.size FROM blobs JOIN contents ON contents.id = blobs.content_id WHERE"+free, values).Scan(&places).Error; err != nil {
		return nil, err
	}
	return places, r.DB.Exec("DELETE FROM blobs WHERE"+free, values).Error
}
