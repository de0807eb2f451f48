// Package edges is what manifests name, by numbers.
package edges

import (
	"encoding/json"
	"slices"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// relations are as what a manifest names something, in the order of their numbers in
// the records, from 1.
var relations = []oci.Relation{oci.RelationConfig, oci.RelationLayer, oci.RelationChild, oci.RelationSubject}

// SQL gives the number of an edge its word back.
const SQL = "CASE edges.relation WHEN 1 THEN 'config' WHEN 2 THEN 'layer' WHEN 3 THEN 'child' ELSE 'subject' END"

// Numbers returns the numbers of relations.
func Numbers(of []oci.Relation) []int {
	numbers := make([]int, len(of))
	for i, r := range of {
		numbers[i] = slices.Index(relations, r) + 1
	}
	return numbers
}

// Keep records all that a manifest names, in a change. The values come as one text, so that
// thousands of them hold the writer for some milliseconds alone; in most cases all of
// them are known by number, and it is one statement.
func Keep(db *gorm.DB, manifest, repository int64, edges []oci.Edge) error {
	if len(edges) == 0 {
		return nil
	}
	rows := make([][4]any, len(edges))
	for i, e := range edges {
		rows[i] = [4]any{slices.Index(relations, e.Relation) + 1, e.Digest, e.Size, e.MediaType}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	all := string(raw)
	kept, err := insert(db, manifest, repository, all)
	if err != nil || kept == int64(len(edges)) {
		return err
	}
	if err := db.Exec("INSERT OR IGNORE INTO contents (digest) SELECT value ->> 1 FROM json_each(?)", all).Error; err != nil {
		return err
	}
	if err := db.Exec("INSERT OR IGNORE INTO media_types (name) SELECT DISTINCT value ->> 3 FROM json_each(?)", all).Error; err != nil {
		return err
	}
	_, err = insert(db, manifest, repository, all)
	return err
}

// insert records the edges, where they are not, whose digests and media types have
// numbers, and returns how many.
func insert(db *gorm.DB, manifest, repository int64, all string) (int64, error) {
	done := db.Exec(`INSERT OR IGNORE INTO edges (manifest_id, position, repository_id, content_id, relation, media_type_id, size)
		SELECT ?, key, ?, contents.id, value ->> 0, media_types.id, value ->> 2 FROM json_each(?)
		CROSS JOIN contents ON contents.digest = value ->> 1 CROSS JOIN media_types ON media_types.name = value ->> 3`, manifest, repository, all)
	return done.RowsAffected, done.Error
}
