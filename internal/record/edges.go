package record

import (
	"encoding/json"
	"slices"

	"warthesis/internal/oci"
)

// relations are as what a manifest names something, in the order of their numbers in
// the records, from 1.
var relations = []oci.Relation{oci.RelationConfig, oci.RelationLayer, oci.RelationChild, oci.RelationSubject}

// relationSQL gives the number of an edge its word back.
const relationSQL = "CASE edges.relation WHEN 1 THEN 'config' WHEN 2 THEN 'layer' WHEN 3 THEN 'child' ELSE 'subject' END"

func relationNumbers(of []oci.Relation) []int {
	numbers := make([]int, len(of))
	for i, r := range of {
		numbers[i] = slices.Index(relations, r) + 1
	}
	return numbers
}

// keepEdges records all that a manifest names in one statement a table, whose values
// come as one text: so thousands of them hold the writer for some milliseconds alone.
func (tx *Tx) keepEdges(m Manifest, edges []oci.Edge) error {
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
	if err := tx.db.Exec("INSERT OR IGNORE INTO contents (digest) SELECT value ->> 1 FROM json_each(?)", all).Error; err != nil {
		return err
	}
	if err := tx.db.Exec("INSERT OR IGNORE INTO media_types (name) SELECT DISTINCT value ->> 3 FROM json_each(?)", all).Error; err != nil {
		return err
	}
	return tx.db.Exec(`INSERT INTO edges (manifest_id, position, repository_id, content_id, relation, media_type_id, size)
		SELECT ?, key, ?, contents.id, value ->> 0, media_types.id, value ->> 2 FROM json_each(?)
		CROSS JOIN contents ON contents.digest = value ->> 1 CROSS JOIN media_types ON media_types.name = value ->> 3`, m.ID, m.RepositoryID, all).Error
}
