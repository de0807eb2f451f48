package unheld

import (
	"database/sql"
	"errors"
	"strings"
)

// told are the findings of a plan in the order in which they go: what names before what
// is named, and a manifest has a higher number than its children. Each is made into JSON
// where it is, which takes a third of the time that its values take one by one.
var told = []string{
	`SELECT json_object('kind', 'manifest', 'id', g.id, 'repository_id', g.repository_id, 'content_id', g.content_id, 'repository', r.name, 'digest', m.digest,
			'size', m.size, 'why', 'window-over', 'removal_id', g.removal_id, 'since', g.since)
		FROM temp.going_manifests AS g JOIN manifests AS m ON m.id = g.id JOIN repositories AS r ON r.id = g.repository_id WHERE g.stays = '' ORDER BY g.id DESC`,
	`SELECT json_object('kind', 'tag', 'id', g.id, 'repository_id', t.repository_id, 'repository', r.name, 'digest', m.digest, 'name', t.name,
			'why', CASE g.removal_id WHEN 0 THEN 'of-nothing' ELSE 'window-over' END, 'removal_id', g.removal_id, 'since', g.since)
		FROM temp.going_tags AS g JOIN tags AS t ON t.id = g.id JOIN manifests AS m ON m.id = t.manifest_id JOIN repositories AS r ON r.id = t.repository_id ORDER BY g.id`,
	`SELECT json_object('kind', 'holding', 'repository_id', g.repository_id, 'content_id', g.content_id, 'repository', r.name, 'digest', c.digest,
			'size', b.size, 'why', CASE g.removal_id WHEN 0 THEN 'unnamed' ELSE 'window-over' END, 'removal_id', g.removal_id, 'since', g.since)
		FROM temp.going_holdings AS g JOIN contents AS c ON c.id = g.content_id JOIN repositories AS r ON r.id = g.repository_id LEFT JOIN blobs AS b ON b.content_id = g.content_id
		WHERE g.stays = '' ORDER BY g.repository_id, g.content_id`,
	`SELECT json_object('kind', 'repository', 'id', g.id, 'repository_id', g.id, 'repository', r.name, 'why', 'window-over', 'removal_id', g.removal_id, 'since', g.since)
		FROM temp.gone_places AS g JOIN repositories AS r ON r.id = g.id ORDER BY g.id`,
	`SELECT json_object('kind', 'namespace', 'id', n.id, 'name', n.name, 'why', 'window-over', 'removal_id', x.id, 'since', x.removed_served)
		FROM temp.over_removals AS o JOIN removals AS x ON x.id = o.id AND x.kind = 'namespace'
		JOIN namespaces AS n ON n.id = x.namespace_id AND n.removal_id = x.id AND n.removed_at <> 0 AND n.gone_at = 0
		WHERE @repository = 0 AND (@namespace = 0 OR n.id = @namespace) ORDER BY n.id`,
	`SELECT json_object('kind', 'blob', 'content_id', g.content_id, 'digest', c.digest, 'size', g.size, 'why', 'unneeded', 'since', g.since)
		FROM temp.going_blobs AS g JOIN contents AS c ON c.id = g.content_id WHERE g.stays = '' ORDER BY g.content_id`,
}

// tell gives all that goes to each, and counts it.
func (p *Plan) tell(each func([]byte) error) (goes []Sum, err error) {
	for _, part := range told {
		if !p.terms.Whole() {
			// Numbers of contents are given as they first came to the registry: an order by them
			// would show an owner which of them others had before.
			part = strings.Replace(part, "ORDER BY g.repository_id, g.content_id", "ORDER BY r.name, c.digest", 1)
		}
		if err := p.tellPart(part, each); err != nil {
			return nil, err
		}
	}
	return goes, p.db.Raw(`SELECT 'manifest' AS kind, 'window-over' AS why, count(*) AS count, coalesce(sum(m.size), 0) AS bytes FROM temp.going_manifests AS g JOIN manifests AS m ON m.id = g.id WHERE stays = '' HAVING count(*) > 0
		UNION ALL SELECT 'tag', CASE removal_id WHEN 0 THEN 'of-nothing' ELSE 'window-over' END AS why, count(*), 0 FROM temp.going_tags GROUP BY why
		UNION ALL SELECT 'holding', CASE removal_id WHEN 0 THEN 'unnamed' ELSE 'window-over' END AS why, count(*), coalesce(sum(b.size), 0) FROM temp.going_holdings AS g
			LEFT JOIN blobs AS b ON b.content_id = g.content_id WHERE stays = '' GROUP BY why
		UNION ALL SELECT 'repository', 'window-over', count(*), 0 FROM temp.gone_places HAVING count(*) > 0
		UNION ALL SELECT 'blob', 'unneeded', count(*), coalesce(sum(size), 0) FROM temp.going_blobs WHERE stays = '' HAVING count(*) > 0`).Scan(&goes).Error
}

func (p *Plan) tellPart(part string, each func([]byte) error) error {
	rows, err := p.db.Raw(part, named(part, p.terms.values(nil))...).Rows()
	if err != nil {
		return err
	}
	var found sql.RawBytes
	for n := 1; rows.Next() && err == nil; n++ {
		if err = rows.Scan(&found); err == nil {
			err = each(found)
		}
		if err == nil && n%1000 == 0 {
			err = p.breathe()
		}
	}
	return errors.Join(err, rows.Err(), rows.Close())
}

// kept counts what stays, and why.
func (p *Plan) kept() (kept []Sum, err error) {
	err = p.db.Raw(`SELECT 'manifest' AS kind, stays AS why, count(*) AS count, 0 AS bytes FROM temp.going_manifests WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'holding', stays, count(*), coalesce(sum(b.size), 0) FROM temp.going_holdings AS g LEFT JOIN blobs AS b ON b.content_id = g.content_id WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'blob', stays, count(*), coalesce(sum(size), 0) FROM temp.going_blobs WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'manifest', 'restore-window', count(*), 0 FROM manifests AS m JOIN repositories AS r ON r.id = m.repository_id
			WHERE m.removal_id <> 0 AND m.state = 'deleted' AND m.id NOT IN (SELECT id FROM temp.going_manifests) AND `+inPlace+` HAVING count(*) > 0`,
		p.terms.values(nil)).Scan(&kept).Error
	return kept, errors.Join(err, statements(p.db, tables, nil))
}
