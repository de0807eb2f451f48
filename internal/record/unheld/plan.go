package unheld

import (
	"errors"

	"gorm.io/gorm"
)

// Plan is what goes on one snapshot of the records. It stands in tables of one
// connection's own.
type Plan struct {
	db    *gorm.DB
	terms Terms
	// breathe is called between pieces of some milliseconds.
	breathe func() error
}

// rowsAtOnce is how many rows are looked at between two breaths.
const rowsAtOnce = 20_000

// tables are the plan's own: what goes with ” as why, what stays with a reason.
const tables = `
	DROP TABLE IF EXISTS temp.over_removals; DROP TABLE IF EXISTS temp.gone_places; DROP TABLE IF EXISTS temp.going_manifests;
	DROP TABLE IF EXISTS temp.going_holdings; DROP TABLE IF EXISTS temp.going_blobs; DROP TABLE IF EXISTS temp.going_tags;
	CREATE TABLE temp.over_removals (id INTEGER PRIMARY KEY);
	CREATE TABLE temp.gone_places (id INTEGER PRIMARY KEY, removal_id INTEGER, since INTEGER);
	CREATE TABLE temp.going_manifests (id INTEGER PRIMARY KEY, repository_id INTEGER, content_id INTEGER, removal_id INTEGER, since INTEGER, stays TEXT);
	CREATE TABLE temp.going_tags (id INTEGER PRIMARY KEY, removal_id INTEGER, since INTEGER);
	CREATE TABLE temp.going_holdings (repository_id INTEGER, content_id INTEGER, removal_id INTEGER, since INTEGER, stays TEXT, PRIMARY KEY (repository_id, content_id)) WITHOUT ROWID;
	CREATE TABLE temp.going_blobs (content_id INTEGER PRIMARY KEY, since INTEGER, stays TEXT)`

// Make makes a plan on a connection of its own, in a transaction that reads, and gives
// each thing that goes to each, in the order in which it must. What is returned stays.
func Make(db *gorm.DB, terms Terms, breathe func() error, each func(Found) error) (kept []Kept, err error) {
	p := &Plan{db, terms, breathe}
	if err := statements(db, tables, nil); err != nil {
		return nil, err
	}
	for _, step := range []func() error{p.removals, p.manifests, p.tags, p.holdings, p.blobs} {
		if err := errors.Join(step(), breathe()); err != nil {
			return nil, err
		}
	}
	if err := p.tell(each); err != nil {
		return nil, err
	}
	return p.kept()
}

func (p *Plan) run(sql string) error { return statements(p.db, sql, p.terms.values(nil)) }

// removals finds the removals that cannot be undone any more, and the places that went
// by them.
func (p *Plan) removals() error {
	return p.run(`
	INSERT INTO temp.over_removals SELECT x.id FROM removals AS x LEFT JOIN repositories AS r ON r.id = x.repository_id
		LEFT JOIN namespaces AS n ON n.id = coalesce(r.namespace_id, x.namespace_id)
		WHERE x.undone_at = 0 AND x.swept_at = 0 AND ` + over + `;
	INSERT INTO temp.gone_places SELECT r.id, x.id, x.removed_served FROM temp.over_removals AS o JOIN removals AS x ON x.id = o.id AND x.kind = 'repository'
		JOIN repositories AS r ON r.id = x.repository_id AND r.removal_id = x.id AND r.removed_at <> 0 WHERE r.gone_at = 0 AND ` + inPlace + `;
	INSERT OR IGNORE INTO temp.gone_places SELECT r.id, x.id, x.removed_served FROM temp.over_removals AS o JOIN removals AS x ON x.id = o.id AND x.kind = 'namespace'
		JOIN namespaces AS n ON n.id = x.namespace_id AND n.removal_id = x.id AND n.removed_at <> 0 JOIN repositories AS r ON r.namespace_id = n.id WHERE r.gone_at = 0 AND ` + inPlace)
}

// namedByOthers is the condition that a manifest g that is to go is the child of one that
// stays, or that a tag points to it which can come back.
const namedByOthers = `(EXISTS (SELECT 1 FROM edges JOIN manifests AS parent ON parent.id = edges.manifest_id
		WHERE edges.content_id = g.content_id AND edges.repository_id = g.repository_id AND edges.relation = 3
			AND NOT EXISTS (SELECT 1 FROM temp.going_manifests AS other WHERE other.id = parent.id AND other.stays = ''))
	OR EXISTS (SELECT 1 FROM tags WHERE tags.manifest_id = g.id AND tags.removal_id <> 0 AND tags.removal_id NOT IN (SELECT id FROM temp.over_removals)))`

// manifests finds those that were deleted and those of places that are gone, and lets
// stay what something that stays still names.
func (p *Plan) manifests() error {
	err := p.run(`
	INSERT INTO temp.going_manifests SELECT m.id, m.repository_id, m.content_id, m.removal_id, m.deleted_served, '' FROM temp.over_removals AS o
		JOIN manifests AS m ON m.removal_id = o.id AND m.state = 'deleted' JOIN repositories AS r ON r.id = m.repository_id WHERE ` + inPlace + `;
	INSERT OR REPLACE INTO temp.going_manifests SELECT m.id, m.repository_id, m.content_id, g.removal_id, g.since, '' FROM temp.gone_places AS g
		JOIN manifests AS m ON m.repository_id = g.id`)
	for changed := int64(1); err == nil && changed > 0; {
		done := p.db.Exec("UPDATE temp.going_manifests AS g SET stays = 'still-named' WHERE stays = '' AND repository_id NOT IN (SELECT id FROM temp.gone_places) AND " + namedByOthers)
		changed, err = done.RowsAffected, errors.Join(done.Error, p.breathe())
	}
	return err
}

// tags finds those that went by a removal whose image stays, and those of nothing.
func (p *Plan) tags() error {
	return p.run(`
	INSERT INTO temp.going_tags SELECT t.id, t.removal_id, x.removed_served FROM temp.over_removals AS o JOIN removals AS x ON x.id = o.id JOIN tags AS t ON t.removal_id = o.id
		JOIN repositories AS r ON r.id = t.repository_id
		WHERE NOT EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = t.manifest_id AND g.stays = '') AND ` + inPlace + `;
	INSERT OR IGNORE INTO temp.going_tags SELECT t.id, 0, m.deleted_served FROM manifests AS m JOIN tags AS t ON t.manifest_id = m.id AND t.removal_id = 0
		JOIN repositories AS r ON r.id = t.repository_id AND r.removed_at = 0
		WHERE m.removal_id <> 0 AND m.state <> 'live' AND NOT EXISTS (SELECT 1 FROM temp.gone_places AS g WHERE g.id = t.repository_id) AND ` + inPlace)
}

// unnamed is the condition that no manifest that stays names the blob of a holding h.
const unnamed = `NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = h.content_id AND edges.repository_id = h.repository_id AND edges.relation < 4
	AND NOT EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = edges.manifest_id AND g.stays = ''))`

// staysWhy says why a holding h that nothing names stays all the same, ” where it goes.
const staysWhy = `CASE WHEN @crashed THEN 'after-crash' WHEN h.touched_served > @before THEN 'grace' WHEN h.touched_served >= ` + uploading + ` THEN 'upload'
	WHEN NOT EXISTS (SELECT 1 FROM live_repositories WHERE live_repositories.id = h.repository_id) THEN 'place-removed' ELSE '' END`

// holdings finds those of blobs that nothing names, those that ended, and those of places
// that are gone.
func (p *Plan) holdings() error {
	values := p.terms.values(map[string]any{"crashed": p.terms.Crashed})
	err := statements(p.db, `
	INSERT INTO temp.going_holdings SELECT h.repository_id, h.content_id, g.removal_id, g.since, '' FROM temp.gone_places AS g JOIN holdings AS h ON h.repository_id = g.id;
	INSERT OR IGNORE INTO temp.going_holdings SELECT h.repository_id, h.content_id, h.removal_id, h.ended_served, '' FROM temp.over_removals AS o
		CROSS JOIN holdings AS h INDEXED BY holdings_removed ON h.removal_id = o.id JOIN repositories AS r ON r.id = h.repository_id WHERE h.ended_at <> 0 AND `+inPlace+` AND `+unnamed+`;
	INSERT OR IGNORE INTO temp.going_holdings SELECT h.repository_id, h.content_id, 0, h.touched_served, `+staysWhy+` FROM temp.going_manifests AS g
		JOIN edges AS e ON e.manifest_id = g.id AND e.relation < 4 JOIN holdings AS h ON h.repository_id = e.repository_id AND h.content_id = e.content_id AND h.ended_at = 0
		WHERE g.stays = '' AND `+unnamed, values)
	if err != nil || p.terms.Whole() {
		return errors.Join(err, p.scanHoldings(values, 0, 1<<62))
	}
	var repositories []int64
	if err := p.db.Raw("SELECT r.id FROM repositories AS r WHERE r.gone_at = 0 AND "+inPlace+" ORDER BY r.id", values).Scan(&repositories).Error; err != nil {
		return err
	}
	for _, id := range repositories {
		if err := p.scanHoldings(values, id-1, id); err != nil {
			return err
		}
	}
	return nil
}

// scanHoldings looks at all holdings of the repositories behind one and up to another.
func (p *Plan) scanHoldings(values map[string]any, behind, upTo int64) error {
	type key struct{ RepositoryID, ContentID int64 }
	at := key{behind, 1<<63 - 1}
	for {
		next := key{upTo, 1<<63 - 1}
		if err := p.db.Raw("SELECT repository_id, content_id FROM holdings WHERE (repository_id, content_id) > (?, ?) AND repository_id <= ? ORDER BY repository_id, content_id LIMIT 1 OFFSET ?",
			at.RepositoryID, at.ContentID, upTo, rowsAtOnce).Scan(&next).Error; err != nil {
			return err
		}
		values["r1"], values["c1"], values["r2"], values["c2"] = at.RepositoryID, at.ContentID, next.RepositoryID, next.ContentID
		// What goes is rare: the plain question is asked of all, and what leaving manifests
		// free was found already.
		if err := exec(p.db, `INSERT OR IGNORE INTO temp.going_holdings SELECT h.repository_id, h.content_id, 0, h.touched_served, `+staysWhy+` FROM holdings AS h
			WHERE (h.repository_id, h.content_id) > (@r1, @c1) AND (h.repository_id, h.content_id) <= (@r2, @c2) AND h.ended_at = 0
			AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = h.content_id AND edges.repository_id = h.repository_id AND edges.relation < 4)`, values); err != nil {
			return err
		}
		if err := p.breathe(); err != nil || next.RepositoryID == upTo && next.ContentID == 1<<63-1 {
			return err
		}
		at = next
	}
}

// blobs finds those that nothing holds, and those that nothing will.
func (p *Plan) blobs() error {
	if !p.terms.Whole() {
		return nil
	}
	err := p.run(`INSERT OR IGNORE INTO temp.going_blobs SELECT b.content_id, b.touched_served, CASE WHEN b.touched_served > @before THEN 'grace' ELSE '' END
		FROM (SELECT content_id FROM temp.going_holdings WHERE stays = '' UNION SELECT content_id FROM temp.going_manifests WHERE stays = '') AS c
		JOIN blobs AS b ON b.content_id = c.content_id
		WHERE NOT EXISTS (SELECT 1 FROM holdings AS h WHERE h.content_id = b.content_id
				AND NOT EXISTS (SELECT 1 FROM temp.going_holdings AS g WHERE g.repository_id = h.repository_id AND g.content_id = h.content_id AND g.stays = ''))
			AND NOT EXISTS (SELECT 1 FROM manifests AS m WHERE m.content_id = b.content_id AND NOT EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = m.id AND g.stays = ''))`)
	var last int64
	if err = errors.Join(err, p.db.Raw("SELECT coalesce(max(content_id), 0) FROM blobs").Scan(&last).Error); err != nil {
		return err
	}
	for from := int64(0); from < last; from += rowsAtOnce {
		values := p.terms.values(map[string]any{"from": from, "upto": from + rowsAtOnce})
		err := exec(p.db, `INSERT OR IGNORE INTO temp.going_blobs SELECT b.content_id, b.touched_served, CASE WHEN b.touched_served > @before THEN 'grace' ELSE '' END FROM blobs AS b
			WHERE b.content_id > @from AND b.content_id <= @upto AND NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = b.content_id)
			AND NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = b.content_id)`, values)
		if err := errors.Join(err, p.breathe()); err != nil {
			return err
		}
	}
	return nil
}
