package unheld

import (
	"encoding/json"
	"errors"

	"warthesis/internal/oci"
)

// Key names a holding: a repository and the number of a content.
type Key struct {
	RepositoryID int64
	ContentID    int64
}

// End notes that a removal cannot be undone any more.
func (r Records) End(removal, now int64) error {
	return r.DB.Exec("UPDATE removals SET over_at = ? WHERE id = ? AND over_at = 0", now, removal).Error
}

// TakeManifest takes a manifest with all that it names and the tags that went, where it
// may go still, and reports whether it did.
func (r Records) TakeManifest(id int64, terms Terms, now int64) (taken bool, err error) {
	var removal int64
	err = r.DB.Raw(`SELECT CASE WHEN m.state = 'deleted' THEN m.removal_id WHEN r.removed_at <> 0 THEN r.removal_id ELSE n.removal_id END
		FROM manifests AS m JOIN repositories AS r ON r.id = m.repository_id JOIN namespaces AS n ON n.id = r.namespace_id
		WHERE m.id = @id AND (m.state = 'deleted' AND EXISTS (SELECT 1 FROM removals AS x WHERE x.id = m.removal_id AND `+over+`) OR `+placeGone+`)
		AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = m.content_id AND edges.repository_id = m.repository_id AND edges.relation = 3)
		AND (NOT EXISTS (SELECT 1 FROM tags LEFT JOIN removals AS x ON x.id = tags.removal_id WHERE tags.manifest_id = m.id AND (tags.removal_id = 0 OR NOT `+over+`)) OR `+placeGone+`)`,
		terms.values(map[string]any{"id": id})).Scan(&removal).Error
	if err != nil || removal == 0 {
		return false, err
	}
	return true, errors.Join(r.End(removal, now), r.Drop(id))
}

// Drop deletes a manifest with all that hangs on it.
func (r Records) Drop(id int64) error {
	return statements(r.DB, `
		DELETE FROM diff_ids WHERE repository_id = (SELECT repository_id FROM manifests WHERE id = @id) AND config_id IN (SELECT content_id FROM edges WHERE manifest_id = @id AND relation = 1)
			AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = diff_ids.config_id AND edges.repository_id = diff_ids.repository_id AND edges.relation = 1 AND edges.manifest_id <> @id);
		DELETE FROM edges WHERE manifest_id = @id;
		DELETE FROM tags WHERE manifest_id = @id;
		DELETE FROM manifests WHERE id = @id`, map[string]any{"id": id})
}

// TakeTags takes those of the tags that may go still, and returns them.
func (r Records) TakeTags(ids []int64, terms Terms, now int64) (taken []int64, err error) {
	var rows []struct{ ID, RemovalID int64 }
	err = r.DB.Raw(`SELECT t.id, t.removal_id FROM tags AS t JOIN repositories AS r ON r.id = t.repository_id JOIN namespaces AS n ON n.id = r.namespace_id
		JOIN manifests AS m ON m.id = t.manifest_id LEFT JOIN removals AS x ON x.id = t.removal_id
		WHERE t.id IN (SELECT value FROM json_each(@ids)) AND (t.removal_id <> 0 AND `+over+` OR t.removal_id = 0 AND m.state <> 'live')`,
		terms.values(map[string]any{"ids": numbers(ids)})).Scan(&rows).Error
	for _, row := range rows {
		if err == nil && row.RemovalID != 0 {
			err = r.End(row.RemovalID, now)
		}
		taken = append(taken, row.ID)
	}
	if err != nil || len(taken) == 0 {
		return nil, err
	}
	return taken, r.DB.Exec("DELETE FROM tags WHERE id IN (SELECT value FROM json_each(?))", numbers(taken)).Error
}

// numbers writes numbers as one value: there may be more than a statement takes.
func numbers(all []int64) string {
	// Numbers always marshal.
	raw, _ := json.Marshal(all)
	return string(raw)
}

// TakeHoldings takes those of the holdings that may go still, and returns them. What the
// rows of newer manifests reference is kept, whatever the index says.
func (r Records) TakeHoldings(keys []Key, terms Terms, since *Recent, now int64) (taken []Key, err error) {
	if err := since.tail(r.DB); err != nil {
		return nil, err
	}
	pairs := make([][2]int64, 0, len(keys))
	for _, k := range keys {
		if !since.References(k) {
			pairs = append(pairs, [2]int64{k.RepositoryID, k.ContentID})
		}
	}
	raw, err := json.Marshal(pairs)
	if err != nil {
		return nil, err
	}
	values := terms.values(map[string]any{"keys": string(raw), "now": now, "crashed": terms.Crashed})
	const these = "(h.repository_id, h.content_id) IN (SELECT value ->> 0, value ->> 1 FROM json_each(@keys))"
	const mayGo = `NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = h.content_id AND edges.repository_id = h.repository_id AND edges.relation < 4)`
	var rows []struct{ RepositoryID, ContentID, RemovalID int64 }
	err = r.DB.Raw(`SELECT h.repository_id, h.content_id, CASE WHEN h.ended_at <> 0 THEN h.removal_id ELSE 0 END AS removal_id FROM holdings AS h
		JOIN repositories AS r ON r.id = h.repository_id JOIN namespaces AS n ON n.id = r.namespace_id
		WHERE `+these+` AND `+mayGo+` AND (h.ended_at <> 0 AND EXISTS (SELECT 1 FROM removals AS x WHERE x.id = h.removal_id AND `+over+`)
			OR h.ended_at = 0 AND NOT @crashed AND h.touched_served <= @before AND h.touched_served < `+uploading+` AND r.removed_at = 0 AND n.removed_at = 0 OR `+placeGone+`)`, values).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	pairs = pairs[:0]
	ended := map[int64]bool{}
	for _, row := range rows {
		taken = append(taken, Key{row.RepositoryID, row.ContentID})
		pairs = append(pairs, [2]int64{row.RepositoryID, row.ContentID})
		if row.RemovalID != 0 && !ended[row.RemovalID] {
			ended[row.RemovalID] = true
			if err := r.End(row.RemovalID, now); err != nil {
				return nil, err
			}
		}
	}
	if raw, err = json.Marshal(pairs); err != nil {
		return nil, err
	}
	return taken, r.DB.Exec("DELETE FROM holdings WHERE (repository_id, content_id) IN (SELECT value ->> 0, value ->> 1 FROM json_each(?))", string(raw)).Error
}

// Place is where the bytes of a blob that was taken are.
type Place struct {
	ContentID int64
	Digest    oci.Digest
	Place     string
	Size      int64
}

// TakeBlobs takes those of the blobs that may go still, by the number and the digest of
// their contents, and returns where their bytes are.
// What the rows of newer manifests are, and what a namespace counts as its own, is kept,
// whatever the indexes of links and manifests say.
func (r Records) TakeBlobs(contents map[int64]oci.Digest, terms Terms, since *Recent, now int64) (taken []Place, err error) {
	if err := since.tail(r.DB); err != nil {
		return nil, err
	}
	ids := make([]int64, 0, len(contents))
	for id := range contents {
		if since == nil || !since.documents[id] {
			ids = append(ids, id)
		}
	}
	var rows []Place
	if err := r.DB.Raw(`SELECT b.content_id, c.digest, b.place, b.size FROM blobs AS b JOIN contents AS c ON c.id = b.content_id
		WHERE b.content_id IN (SELECT value FROM json_each(@ids)) AND b.touched_served <= @before
		AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = b.content_id) AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = b.content_id)
		AND NOT EXISTS (SELECT 1 FROM namespace_blobs WHERE namespace_blobs.content_id = b.content_id)`,
		terms.values(map[string]any{"ids": numbers(ids)})).Scan(&rows).Error; err != nil {
		return nil, err
	}
	ids = ids[:0]
	for _, row := range rows {
		// A number can be another digest's meanwhile.
		if contents[row.ContentID] == row.Digest {
			taken = append(taken, row)
			ids = append(ids, row.ContentID)
		}
	}
	return taken, r.dropBlobs(ids, now)
}

// dropBlobs deletes blobs, and the numbers of their digests where nothing has them.
func (r Records) dropBlobs(ids []int64, now int64) error {
	if len(ids) == 0 {
		return nil
	}
	return statements(r.DB, `
		UPDATE hurts SET ended_at = @now, ended_how = 'gone' WHERE ended_at = 0 AND digest IN (SELECT c.digest FROM contents AS c WHERE c.id IN (SELECT value FROM json_each(@ids)));
		DELETE FROM blobs WHERE content_id IN (SELECT value FROM json_each(@ids));
		DELETE FROM contents WHERE id IN (SELECT value FROM json_each(@ids)) AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = contents.id)
			AND NOT EXISTS (SELECT 1 FROM tag_moves WHERE tag_moves.to_id = contents.id) AND NOT EXISTS (SELECT 1 FROM diff_ids WHERE diff_ids.content_id = contents.id)
			AND NOT EXISTS (SELECT 1 FROM namespace_blobs WHERE namespace_blobs.content_id = contents.id)`, map[string]any{"ids": numbers(ids), "now": now})
}

// atOnce is how many rows of a place go by one change.
const atOnce = 500

// EmptyRepository takes what is left of a repository that cannot come back, some of it at
// a time, and reports whether nothing is. It fails with ErrWaits while it has manifests or
// holdings or can come back, and with ErrUploads while it has only uploads left.
func (r Records) EmptyRepository(id int64, terms Terms) (empty bool, err error) {
	var row struct{ Waits, Uploads bool }
	values := terms.values(map[string]any{"id": id, "most": atOnce})
	if err := r.DB.Raw(`SELECT NOT coalesce((SELECT `+placeGone+` FROM repositories AS r JOIN namespaces AS n ON n.id = r.namespace_id WHERE r.id = @id), 0)
		OR EXISTS (SELECT 1 FROM manifests WHERE repository_id = @id) OR EXISTS (SELECT 1 FROM holdings WHERE repository_id = @id) AS waits,
		EXISTS (SELECT 1 FROM uploads WHERE repository_id = @id) AS uploads`, values).Scan(&row).Error; err != nil {
		return false, err
	}
	switch {
	case row.Waits:
		return false, ErrWaits
	case row.Uploads:
		return false, ErrUploads
	}
	for _, sql := range []string{
		"DELETE FROM tag_moves WHERE id IN (SELECT id FROM tag_moves WHERE repository_id = @id LIMIT @most)",
		"DELETE FROM tag_names WHERE repository_id = @id AND name IN (SELECT name FROM tag_names WHERE repository_id = @id LIMIT @most)",
	} {
		done := r.DB.Exec(sql, values)
		if done.Error != nil || done.RowsAffected == atOnce {
			return false, done.Error
		}
	}
	return true, nil
}

// ErrWaits: something in the place is not gone yet. ErrUploads: uploads are open there.
var (
	ErrWaits   = errors.New("something in it is not gone")
	ErrUploads = errors.New("uploads are open in it")
)

// Uploads returns the uploads that are open in a repository.
func (r Records) Uploads(repository int64) (ids []string, err error) {
	return ids, r.DB.Raw("SELECT id FROM uploads WHERE repository_id = ?", repository).Scan(&ids).Error
}

// IsEmptyNamespace reports whether a namespace that cannot come back has no repository
// that is not gone for good.
func (r Records) IsEmptyNamespace(id int64, terms Terms) (empty bool, err error) {
	return empty, r.DB.Raw(`SELECT coalesce((SELECT n.removed_at <> 0 AND EXISTS (SELECT 1 FROM removals AS x WHERE x.id = n.removal_id AND `+over+`) FROM namespaces AS n WHERE n.id = @id), 0)
		AND NOT EXISTS (SELECT 1 FROM repositories WHERE namespace_id = @id AND gone_at = 0)`, terms.values(map[string]any{"id": id})).Scan(&empty).Error
}

// Finish notes of removals that cannot be undone any more that nothing is left of them,
// of some of them at a time, behind an ID; it returns the last that it looked at, 0 at
// the end.
func (r Records) Finish(after int64, terms Terms, now int64) (last int64, err error) {
	var ids []int64
	if err := r.DB.Raw(`SELECT x.id FROM removals AS x LEFT JOIN repositories AS r ON r.id = x.repository_id LEFT JOIN namespaces AS n ON n.id = coalesce(r.namespace_id, x.namespace_id)
		WHERE x.id > @after AND x.undone_at = 0 AND x.swept_at = 0 AND `+over+` ORDER BY x.id LIMIT @most`, terms.values(map[string]any{"after": after, "most": atOnce / 5})).Scan(&ids).Error; err != nil || len(ids) == 0 {
		return 0, err
	}
	return ids[len(ids)-1], r.DB.Exec(`UPDATE removals SET swept_at = ?, over_at = CASE over_at WHEN 0 THEN ? ELSE over_at END WHERE id IN (SELECT value FROM json_each(?))
		AND NOT EXISTS (SELECT 1 FROM tags WHERE tags.removal_id = removals.id AND tags.removal_id <> 0) AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.removal_id = removals.id AND manifests.removal_id <> 0)
		AND NOT EXISTS (SELECT 1 FROM holdings INDEXED BY holdings_removed WHERE holdings.ended_at <> 0 AND holdings.removal_id = removals.id)
		AND NOT EXISTS (SELECT 1 FROM repositories WHERE repositories.id = removals.repository_id AND repositories.removal_id = removals.id AND repositories.gone_at = 0)
		AND NOT EXISTS (SELECT 1 FROM namespaces WHERE removals.kind = 'namespace' AND namespaces.id = removals.namespace_id AND namespaces.removal_id = removals.id AND namespaces.gone_at = 0)`,
		now, now, numbers(ids)).Error
}
