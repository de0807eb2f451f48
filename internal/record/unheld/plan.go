package unheld

import (
	"errors"
	"time"

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
	DROP TABLE IF EXISTS temp.uploading; DROP TABLE IF EXISTS temp.away;
	CREATE TABLE temp.over_removals (id INTEGER PRIMARY KEY);
	CREATE TABLE temp.gone_places (id INTEGER PRIMARY KEY, removal_id INTEGER, since INTEGER);
	CREATE TABLE temp.uploading (id INTEGER PRIMARY KEY, since INTEGER);
	CREATE TABLE temp.away (id INTEGER PRIMARY KEY);
	CREATE TABLE temp.going_manifests (id INTEGER PRIMARY KEY, repository_id INTEGER, content_id INTEGER, removal_id INTEGER, since INTEGER, stays TEXT);
	CREATE TABLE temp.going_tags (id INTEGER PRIMARY KEY, removal_id INTEGER, since INTEGER);
	CREATE TABLE temp.going_holdings (repository_id INTEGER, content_id INTEGER, removal_id INTEGER, since INTEGER, stays TEXT, PRIMARY KEY (repository_id, content_id)) WITHOUT ROWID;
	CREATE TABLE temp.going_blobs (content_id INTEGER PRIMARY KEY, size INTEGER, since INTEGER, stays TEXT)`

// Make makes a plan on a connection of its own, in a transaction that reads, and gives
// each thing that goes to each, as the JSON of a Found, in the order in which it must go. It
// returns how much goes, and what stays.
func Make(db *gorm.DB, terms Terms, breathe func() error, each func(found []byte) error) (sums Sums, err error) {
	p := &Plan{db, terms, breathe}
	if err := statements(db, tables, nil); err != nil {
		return sums, err
	}
	for _, step := range []func() error{p.removals, p.manifests, p.tags, p.holdings, p.blobs, p.second} {
		if err := errors.Join(step(), breathe()); err != nil {
			return sums, err
		}
	}
	if err := db.Raw("SELECT coalesce(max(id), 0) FROM manifests").Scan(&sums.LastManifest).Error; err != nil {
		return sums, err
	}
	if sums.Goes, err = p.tell(each); err != nil {
		return sums, err
	}
	sums.Stays, err = p.kept()
	return sums, err
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
		JOIN namespaces AS n ON n.id = x.namespace_id AND n.removal_id = x.id AND n.removed_at <> 0 JOIN repositories AS r ON r.namespace_id = n.id WHERE r.gone_at = 0 AND ` + inPlace + `;
	INSERT INTO temp.uploading SELECT id, min(since) FROM (SELECT repository_id AS id, started_served AS since FROM uploads
		UNION ALL SELECT r.id, a.began_served FROM arrivals AS a JOIN arrival_places AS p ON p.arrival_id = a.id JOIN repositories AS r ON r.name = p.repository
		WHERE a.ended_at = 0 AND a.until_served > @served) GROUP BY id;
	INSERT INTO temp.away SELECT id FROM repositories WHERE removed_at <> 0;
	INSERT OR IGNORE INTO temp.away SELECT r.id FROM namespaces AS n JOIN repositories AS r ON r.namespace_id = n.id WHERE n.removed_at <> 0`)
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
const staysWhy = `CASE WHEN @crashed THEN 'after-crash' WHEN h.touched_served > @before THEN 'grace' WHEN h.touched_served >= (SELECT since FROM temp.uploading WHERE id = h.repository_id) THEN 'upload'
	WHEN h.repository_id IN (SELECT id FROM temp.away) THEN 'place-removed' ELSE '' END`

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

// The bounds of how many repositories are looked at between two breaths: it follows how
// long that takes.
const (
	mostRepositories = 1 << 20
	pieceShort       = 8 * time.Millisecond
	pieceLong        = 30 * time.Millisecond
)

// scanHoldings looks at all holdings of the repositories behind one and up to another.
func (p *Plan) scanHoldings(values map[string]any, behind, upTo int64) error {
	var last int64
	if err := p.db.Raw("SELECT coalesce(max(repository_id), 0) FROM holdings").Scan(&last).Error; err != nil {
		return err
	}
	step := int64(16)
	for upTo = min(upTo, last); behind < upTo; {
		to := min(behind+step, upTo)
		values["behind"], values["upto"] = behind, to
		began := time.Now()
		// What goes is rare: the plain question is asked of all, and what leaving manifests
		// free was found already.
		err := exec(p.db, `INSERT OR IGNORE INTO temp.going_holdings SELECT h.repository_id, h.content_id, 0, h.touched_served, `+staysWhy+` FROM holdings AS h
			WHERE h.repository_id > @behind AND h.repository_id <= @upto AND h.ended_at = 0
			AND NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = h.content_id AND edges.repository_id = h.repository_id AND edges.relation < 4)`, values)
		switch took := time.Since(began); {
		case took < pieceShort:
			step = min(2*step, mostRepositories)
		case took > pieceLong:
			step = max(step/2, 1)
		}
		if err := errors.Join(err, p.breathe()); err != nil {
			return err
		}
		behind = to
	}
	return nil
}

// blobs finds those that nothing holds, and those that nothing will.
func (p *Plan) blobs() error {
	if !p.terms.Whole() {
		return nil
	}
	err := p.run(`INSERT OR IGNORE INTO temp.going_blobs SELECT b.content_id, b.size, b.touched_served, CASE WHEN b.touched_served > @before THEN 'grace' ELSE '' END
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
		err := exec(p.db, `INSERT OR IGNORE INTO temp.going_blobs SELECT b.content_id, b.size, b.touched_served, CASE WHEN b.touched_served > @before THEN 'grace' ELSE '' END FROM blobs AS b
			WHERE b.content_id > @from AND b.content_id <= @upto AND b.content_id NOT IN (SELECT content_id FROM holdings) AND b.content_id NOT IN (SELECT content_id FROM manifests)`, values)
		if err := errors.Join(err, p.breathe()); err != nil {
			return err
		}
	}
	return nil
}
