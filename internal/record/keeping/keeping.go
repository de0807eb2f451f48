// Package keeping reads what retention rules judge: all that is live in a repository, and
// the waits of lists that would take much.
package keeping

import (
	"encoding/json"
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// Compiled are the retention rules that were read.
type Compiled = rulelists.Compiled[*rule.RetentionFacts]

// NewCompiled returns retention rules, none of which was read yet.
func NewCompiled() *Compiled { return rulelists.NewCompiled(rule.Retention) }

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// ErrNone: there is no such repository, or it is removed.
var ErrNone = errors.New("no such repository")

// Place is a repository to be judged, as it is called now.
type Place struct {
	ID, NamespaceID int64
	Name            oci.Name
	// Mark is another one after each change of its tags and images, unless something only
	// came: nothing goes less for it.
	Mark   int64
	Labels string
}

const placeSQL = "SELECT id, namespace_id, name, mark, labels FROM live_repositories WHERE "

// Places returns up to limit live repositories of a namespace, or of one repository, or with
// neither of all, in the order of their numbers behind after.
func (r Records) Places(namespace, repository, after int64, limit int) (places []Place, err error) {
	return places, r.DB.Raw(placeSQL+"id > ? AND (? = 0 OR namespace_id = ?) AND (? = 0 OR id = ?) ORDER BY id LIMIT ?",
		after, namespace, namespace, repository, repository, limit).Scan(&places).Error
}

// Place returns a live repository, or ErrNone.
func (r Records) Place(id int64) (p Place, err error) {
	found := r.DB.Raw(placeSQL+"id = ?", id).Scan(&p)
	if found.Error == nil && found.RowsAffected == 0 {
		return p, ErrNone
	}
	return p, found.Error
}

// Size counts the live tags and images of a repository, each up to most.
func (r Records) Size(id int64, most int) (n int, err error) {
	return n, r.DB.Raw(`SELECT (SELECT count(*) FROM (SELECT 1 FROM tags WHERE repository_id = ? AND removal_id = 0 LIMIT ?))
		+ (SELECT count(*) FROM (SELECT 1 FROM manifests WHERE repository_id = ? AND state = 'live' LIMIT ?))`, id, most, id, most).Scan(&n).Error
}

// labelsSQL are those of the labels in a column that are asked for, as JSON: by the part of
// their names before the first =.
func labelsSQL(column string) string {
	return "CASE WHEN json_valid(" + column + ") THEN (SELECT json_group_object(key, value) FROM json_each(" + column + ") WHERE substr(key, 1, instr(key || '=', '=') - 1) IN (SELECT value FROM json_each(?))) ELSE '' END AS " + column
}

// Load reads all that is live in a repository, with those of the labels that are named: a rule
// asks for few, and all together they may be large. It reads several times: the caller sees
// one moment.
func (r Records) Load(p Place, labels []string) (*worth.Repository, error) {
	all := &worth.Repository{ID: p.ID, NamespaceID: p.NamespaceID, Name: p.Name}
	if p.Labels != "" {
		if err := json.Unmarshal([]byte(p.Labels), &all.Labels); err != nil {
			return nil, err
		}
	}
	columns, values := "'' AS annotations, '' AS labels", []any{p.ID}
	if len(labels) > 0 {
		// A list may ask for more of them than a statement takes values.
		asked, err := json.Marshal(labels)
		if err != nil {
			return nil, err
		}
		columns, values = labelsSQL("annotations")+", "+labelsSQL("labels"), []any{string(asked), string(asked), p.ID}
	}
	if err := r.DB.Raw(`SELECT id, content_id, digest, subject, media_type, artifact_type, platforms, `+columns+`, content_size,
		pushed_served, again_served, touched_served, asked_served, pulled_served, untagged_served FROM manifests WHERE repository_id = ? AND state = 'live' ORDER BY id`, values...).Scan(&all.Images).Error; err != nil {
		return nil, err
	}
	if err := r.DB.Raw(`SELECT id, manifest_id, name, order_key, moved_served, pushed_served, first_served, sealed_at FROM tags
		WHERE repository_id = ? AND removal_id = 0 ORDER BY name`, p.ID).Scan(&all.Tags).Error; err != nil {
		return nil, err
	}
	var names []worth.Names
	if err := r.DB.Raw(`SELECT DISTINCT edges.manifest_id AS parent, child.id AS child FROM manifests AS parent
		CROSS JOIN edges ON edges.manifest_id = parent.id AND edges.relation = 3
		CROSS JOIN manifests AS child ON child.content_id = edges.content_id AND child.repository_id = parent.repository_id AND child.state = 'live'
		WHERE parent.repository_id = ? AND parent.state = 'live' AND parent.media_type IN (?, ?)`,
		p.ID, oci.MediaTypeIndex, oci.MediaTypeSecondIndex).Scan(&names).Error; err != nil {
		return nil, err
	}
	all.Join(names)
	return all, nil
}

// KeepLabels keeps the labels of an image.
func (r Records) KeepLabels(manifest int64, labels map[string]string) error {
	if len(labels) == 0 {
		return nil
	}
	raw, err := json.Marshal(labels)
	if err != nil {
		return err
	}
	return r.DB.Exec("UPDATE manifests SET labels = ? WHERE id = ?", string(raw), manifest).Error
}

// Kept reports whether a tag, an index or a subject that is live keeps an image.
func (r Records) Kept(repository int64, m worth.Image) (kept bool, err error) {
	return kept, r.DB.Raw(`SELECT EXISTS (SELECT 1 FROM tags WHERE manifest_id = ? AND removal_id = 0)
		OR EXISTS (SELECT 1 FROM edges JOIN manifests ON manifests.id = edges.manifest_id AND manifests.state = 'live'
			WHERE edges.content_id = ? AND edges.repository_id = ? AND edges.relation = 3)
		OR ? <> '' AND EXISTS (SELECT 1 FROM manifests WHERE repository_id = ? AND digest = ? AND state = 'live')`,
		m.ID, m.ContentID, repository, m.Subject, repository, m.Subject).Scan(&kept).Error
}

// HasTags counts the live tags of an image.
func (r Records) HasTags(m worth.Image) (n int, err error) {
	return n, r.DB.Raw("SELECT count(*) FROM tags WHERE manifest_id = ? AND removal_id = 0", m.ID).Scan(&n).Error
}

// LastPull is when an image or a child of it was last pulled, in served time.
func (r Records) LastPull(repository int64, m worth.Image) (served int64, err error) {
	return served, r.DB.Raw(`SELECT coalesce(max(pulled_served), 0) FROM (SELECT pulled_served FROM manifests WHERE id = ? UNION ALL
		SELECT child.pulled_served FROM edges JOIN manifests AS child ON child.content_id = edges.content_id AND child.repository_id = edges.repository_id
			WHERE edges.manifest_id = ? AND edges.relation = 3)`, m.ID, m.ID).Scan(&served).Error
}

// Waiting is a list that waits in a repository, because it would take much of it.
type Waiting struct {
	RepositoryID  int64
	Repository    oci.Name
	ListID        int64
	WidenedServed int64
	UntilServed   int64
	Takes, OutOf  int
}

// Waits returns those of a repository.
func (r Records) Waits(repository int64) (map[worth.Wait]int64, error) {
	var rows []Waiting
	err := r.DB.Raw("SELECT list_id, widened_served, until_served FROM retention_waits WHERE repository_id = ?", repository).Scan(&rows).Error
	all := make(map[worth.Wait]int64, len(rows))
	for _, row := range rows {
		all[worth.Wait{List: row.ListID, Widened: row.WidenedServed}] = row.UntilServed
	}
	return all, err
}

// WaitsOf returns up to limit waits of a list that are not over, in live repositories.
func (r Records) WaitsOf(list, served int64, limit int) (rows []Waiting, err error) {
	return rows, r.DB.Raw(`SELECT w.*, r.name AS repository FROM retention_waits AS w JOIN live_repositories AS r ON r.id = w.repository_id
		WHERE w.list_id = ? AND w.until_served > ? ORDER BY r.name LIMIT ?`, list, served, limit).Scan(&rows).Error
}

// Wait lets a list wait in a repository, until a moment of served time in nanoseconds.
func (r Records) Wait(repository int64, of worth.TooMuchOf, until int64) error {
	return r.DB.Exec(`INSERT INTO retention_waits (repository_id, list_id, widened_served, until_served, takes, out_of) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET widened_served = excluded.widened_served, until_served = excluded.until_served, takes = excluded.takes, out_of = excluded.out_of
		WHERE widened_served <> excluded.widened_served`,
		repository, of.List, of.Widened, until, of.Takes, of.OutOf).Error
}

// EndWaits lets a list wait no more anywhere, and returns in how many repositories it did.
func (r Records) EndWaits(list, served int64) (ended int64, err error) {
	done := r.DB.Exec("UPDATE retention_waits SET until_served = ? WHERE list_id = ? AND until_served > ?", served, list, served)
	return done.RowsAffected, done.Error
}

// Going is an image that goes, and on which day.
type Going struct{ ID, Day int64 }

// Freed returns how many bytes nothing in the repositories that are seen needs any more, by
// the day on which the last image goes that needs them.
func (r Records) Freed(going []Going, seen clause.Expr) (map[int64]int64, error) {
	pairs := make([][2]int64, len(going))
	for i, g := range going {
		pairs[i] = [2]int64{g.ID, g.Day}
	}
	raw, err := json.Marshal(pairs)
	if err != nil {
		return nil, err
	}
	const of = ".repository_id IN (SELECT repositories.id FROM repositories WHERE ?)"
	var rows []struct{ Day, Bytes int64 }
	err = r.DB.Raw(`WITH g AS MATERIALIZED (SELECT value ->> 0 AS id, value ->> 1 AS day FROM json_each(?)),
		mine AS MATERIALIZED (SELECT DISTINCT m.repository_id AS id FROM g CROSS JOIN manifests AS m ON m.id = g.id),
		c AS MATERIALIZED (SELECT content_id, max(day) AS day FROM (
			SELECT e.content_id, g.day FROM g CROSS JOIN edges AS e ON e.manifest_id = g.id AND e.relation <> 4
			UNION ALL SELECT m.content_id, g.day FROM g CROSS JOIN manifests AS m ON m.id = g.id) GROUP BY content_id)
		SELECT c.day, sum(b.size) AS bytes FROM c CROSS JOIN blobs AS b ON b.content_id = c.content_id
		WHERE NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = c.content_id AND edges.relation <> 4 AND edges.manifest_id NOT IN (SELECT id FROM g) AND edges`+of+`)
			AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = c.content_id AND manifests.id NOT IN (SELECT id FROM g) AND manifests`+of+`)
			AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = c.content_id AND holdings.repository_id NOT IN (SELECT id FROM mine) AND holdings`+of+`)
		GROUP BY c.day`, string(raw), seen, seen, seen).Scan(&rows).Error
	all := make(map[int64]int64, len(rows))
	for _, row := range rows {
		all[row.Day] = row.Bytes
	}
	return all, err
}
