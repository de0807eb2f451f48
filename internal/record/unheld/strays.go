package unheld

import (
	"encoding/json"

	"warthesis/internal/oci"
)

// File is a place on the disk, as the records know it or not.
type File struct {
	Digest oci.Digest
	Place  string
	Size   int64
	// FoundAt and FoundServed are when it was found, of strays.
	FoundAt, FoundServed int64
	// Erased tells of a stray that its content was erased: it is deleted without a window.
	Erased bool
	// Hurt tells that it is known not to be what it should be.
	Hurt bool
}

// Recorded returns the places that are recorded of digests from one up to another.
func (r Records) Recorded(from, before oci.Digest) (map[oci.Digest]File, error) {
	var rows []File
	err := r.DB.Raw(`SELECT contents.digest, blobs.place, blobs.size, blobs.state <> 'whole' AS hurt FROM contents CROSS JOIN blobs ON blobs.content_id = contents.id
		WHERE contents.digest >= ? AND contents.digest < ?`, from, before).Scan(&rows).Error
	all := make(map[oci.Digest]File, len(rows))
	for _, row := range rows {
		all[row.Digest] = row
	}
	return all, err
}

// Strays returns the strays that are known of digests from one up to another.
func (r Records) Strays(from, before oci.Digest) (rows []File, err error) {
	return rows, r.DB.Raw("SELECT * FROM strays WHERE digest >= ? AND digest < ?", from, before).Scan(&rows).Error
}

// KeepStrays records strays, and forgets those that are none any more.
func (r Records) KeepStrays(found, gone []File, now, served int64) error {
	rows := make([][3]any, len(found))
	for i, f := range found {
		rows[i] = [3]any{f.Digest, f.Place, f.Size}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	if len(found) > 0 {
		if err := r.DB.Exec(`INSERT INTO strays (digest, place, size, found_at, found_served) SELECT value ->> 0, value ->> 1, value ->> 2, ?, ? FROM json_each(?) WHERE 1 ON CONFLICT DO NOTHING`,
			now, served, string(raw)).Error; err != nil {
			return err
		}
	}
	for _, f := range gone {
		if err := r.DB.Exec("DELETE FROM strays WHERE digest = ? AND place = ?", f.Digest, f.Place).Error; err != nil {
			return err
		}
	}
	return nil
}

// KeepErased records files of erased content, in the change that erases it: whatever happens
// then, they are deleted.
func (r Records) KeepErased(files []File, now, served int64) error {
	for _, f := range files {
		if err := r.DB.Exec("INSERT INTO strays (digest, place, size, found_at, found_served, erased) VALUES (?, ?, ?, ?, ?, 1) ON CONFLICT DO UPDATE SET erased = 1",
			f.Digest, f.Place, f.Size, now, served).Error; err != nil {
			return err
		}
	}
	return nil
}

// Erased returns up to limit files of erased content that are to be deleted still.
func (r Records) Erased(limit int) (files []File, err error) {
	return files, r.DB.Raw("SELECT * FROM strays WHERE erased <> 0 LIMIT ?", limit).Scan(&files).Error
}

// dueStray is the condition that a stray has waited for the registry's restore window.
const dueStray = "(erased <> 0 OR found_served + max(@window, @floor) <= @served)"

// DueStrays gives all strays that may go to each.
func (r Records) DueStrays(terms Terms, each func(File) error) error {
	at := File{}
	for {
		var rows []File
		if err := r.DB.Raw("SELECT * FROM strays WHERE (digest, place) > (@digest, @place) AND "+dueStray+" ORDER BY digest, place LIMIT 500",
			terms.values(map[string]any{"digest": at.Digest, "place": at.Place})).Scan(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		for _, row := range rows {
			if err := each(row); err != nil {
				return err
			}
		}
		at = rows[len(rows)-1]
	}
}

// StrayCounts are how many strays there are, of how many files.
type StrayCounts struct{ Strays, Bytes, Files int64 }

// CountStrays counts them.
func (r Records) CountStrays() (c StrayCounts, err error) {
	return c, r.DB.Raw(`SELECT (SELECT count(*) FROM strays) AS strays, (SELECT coalesce(sum(size), 0) FROM strays) AS bytes,
		(SELECT count(*) FROM strays) + (SELECT count(*) FROM blobs) AS files`).Scan(&c).Error
}

// MayGo reports whether a stray may go still: nothing has recorded it.
func (r Records) MayGo(f File, terms Terms) (may bool, err error) {
	return may, r.DB.Raw(`SELECT EXISTS (SELECT 1 FROM strays WHERE digest = @digest AND place = @place AND `+dueStray+`)
		AND NOT EXISTS (SELECT 1 FROM contents JOIN blobs ON blobs.content_id = contents.id WHERE contents.digest = @digest AND blobs.place = @place)`,
		terms.values(map[string]any{"digest": f.Digest, "place": f.Place})).Scan(&may).Error
}

// ToRead returns up to limit files that were read least lately, of those read before a
// served time.
func (r Records) ToRead(before int64, behind Reading, limit int) (rows []Reading, err error) {
	return rows, r.DB.Table("blobs").Select(readingSQL).Joins("JOIN contents ON contents.id = blobs.content_id").Where("blobs.state = 'whole' AND (blobs.read_served, blobs.content_id) > (?, ?) AND blobs.read_served < ?", behind.ReadServed, behind.ContentID, before).
		Order("blobs.read_served, blobs.content_id").Limit(limit).Scan(&rows).Error
}

// readingSQL are the columns of a Reading.
const readingSQL = "blobs.content_id, contents.digest, blobs.place, blobs.size, blobs.placed_at, blobs.read_served"

// Reading is a file that is to be read.
type Reading struct {
	ContentID  int64
	Digest     oci.Digest
	Place      string
	Size       int64
	PlacedAt   int64
	ReadServed int64
}

// InPlace returns up to limit files, behind a content, of what a repository or with 0 a
// namespace holds and of its manifests.
func (r Records) InPlace(namespace, repository, behind int64, limit int) (rows []Reading, err error) {
	mine := "SELECT id FROM repositories WHERE gone_at = 0 AND namespace_id = @namespace"
	if repository != 0 {
		mine = "SELECT @repository"
	}
	query := `SELECT ` + readingSQL + ` FROM blobs JOIN contents ON contents.id = blobs.content_id
		WHERE blobs.state = 'whole' AND blobs.content_id > @behind AND (blobs.content_id IN (SELECT content_id FROM holdings WHERE repository_id IN (` + mine + `))
			OR blobs.content_id IN (SELECT content_id FROM manifests WHERE repository_id IN (` + mine + `))) ORDER BY blobs.content_id LIMIT @limit`
	values := map[string]any{"namespace": namespace, "repository": repository, "behind": behind, "limit": limit}
	return rows, r.DB.Raw(query, values).Scan(&rows).Error
}

// OfImage returns the files of a live manifest with all that it and its children name.
func (r Records) OfImage(repository int64, digest oci.Digest) (rows []Reading, err error) {
	return rows, r.DB.Raw(`WITH RECURSIVE part (content_id) AS (
			SELECT content_id FROM manifests WHERE repository_id = @repository AND digest = @digest AND state = 'live'
			UNION SELECT edges.content_id FROM part JOIN manifests ON manifests.content_id = part.content_id AND manifests.repository_id = @repository
				JOIN edges ON edges.manifest_id = manifests.id AND edges.relation < 4)
		SELECT `+readingSQL+` FROM part JOIN blobs ON blobs.content_id = part.content_id
		JOIN contents ON contents.id = part.content_id WHERE blobs.state = 'whole' ORDER BY blobs.content_id`, map[string]any{"repository": repository, "digest": digest}).Scan(&rows).Error
}

// DueBytes returns how many bytes files have that were read before a served time.
func (r Records) DueBytes(before int64) (bytes int64, err error) {
	return bytes, r.DB.Raw("SELECT coalesce(sum(size), 0) FROM blobs WHERE state = 'whole' AND read_served < ?", before).Scan(&bytes).Error
}

// Right is a file whose content was found right, and its change time then, in nanoseconds.
type Right struct {
	ContentID int64
	Place     string
	ChangedAt int64
}

// WereRead notes that files were read, and were right.
func (r Records) WereRead(all []Right, now, served int64) error {
	return r.eachRight("UPDATE blobs SET read_at = ?, read_served = ?, changed_at = t.changed", all, now, served)
}

// WereChecked notes the change times of files whose content was found right.
func (r Records) WereChecked(all []Right) error {
	return r.eachRight("UPDATE blobs SET changed_at = t.changed", all)
}

func (r Records) eachRight(update string, all []Right, values ...any) error {
	rows := make([][3]any, len(all))
	for i, one := range all {
		rows[i] = [3]any{one.ContentID, one.Place, one.ChangedAt}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return r.DB.Exec(update+` FROM (SELECT value ->> 0 AS content, value ->> 1 AS place, value ->> 2 AS changed FROM json_each(?)) AS t
		WHERE blobs.content_id = t.content AND blobs.place = t.place`, append(values, string(raw))...).Error
}

// Bytes returns how many bytes of files are recorded, and when the least lately read one was
// read, in served time.
func (r Records) Bytes() (b struct{ Files, Bytes, Oldest int64 }, err error) {
	return b, r.DB.Raw("SELECT count(*) AS files, coalesce(sum(size), 0) AS bytes, coalesce(min(read_served), 0) AS oldest FROM blobs WHERE state = 'whole'").Scan(&b).Error
}

// IsAt reports whether content is recorded at a place, as whole.
func (r Records) IsAt(content int64, place string) (is bool, err error) {
	return is, r.DB.Raw("SELECT EXISTS (SELECT 1 FROM blobs WHERE content_id = ? AND place = ? AND state = 'whole')", content, place).Scan(&is).Error
}

// SetHurt notes that the file of content is not what it should be.
func (r Records) SetHurt(content int64) error {
	return r.DB.Exec("UPDATE blobs SET state = 'hurt' WHERE content_id = ?", content).Error
}

// Size returns how many bytes the records take.
func (r Records) Size() (bytes int64, err error) {
	return bytes, r.DB.Raw("SELECT page_count * page_size FROM pragma_page_count(), pragma_page_size()").Scan(&bytes).Error
}
