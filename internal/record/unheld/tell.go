package unheld

import (
	"errors"
)

// told are the findings of a plan in the order in which they go: what names before what
// is named, and a manifest has a higher number than its children.
var told = []struct {
	kind Kind
	why  Why
	sql  string
}{
	{Manifest, WindowOver, `SELECT g.id, g.repository_id, g.content_id, r.name, m.digest, '', m.size, g.removal_id, g.since FROM temp.going_manifests AS g
		JOIN manifests AS m ON m.id = g.id JOIN repositories AS r ON r.id = g.repository_id WHERE g.stays = '' ORDER BY g.id DESC`},
	{Tag, WindowOver, `SELECT g.id, t.repository_id, m.content_id, r.name, m.digest, t.name, 0, g.removal_id, g.since FROM temp.going_tags AS g
		JOIN tags AS t ON t.id = g.id JOIN manifests AS m ON m.id = t.manifest_id JOIN repositories AS r ON r.id = t.repository_id ORDER BY g.id`},
	{Holding, Unnamed, `SELECT 0, g.repository_id, g.content_id, r.name, c.digest, '', coalesce(b.size, 0), g.removal_id, g.since FROM temp.going_holdings AS g
		JOIN contents AS c ON c.id = g.content_id JOIN repositories AS r ON r.id = g.repository_id LEFT JOIN blobs AS b ON b.content_id = g.content_id
		WHERE g.stays = '' ORDER BY g.repository_id, g.content_id`},
	{Repository, WindowOver, `SELECT g.id, g.id, 0, r.name, '', '', 0, g.removal_id, g.since FROM temp.gone_places AS g JOIN repositories AS r ON r.id = g.id ORDER BY g.id`},
	{Namespace, WindowOver, `SELECT n.id, 0, 0, '', '', n.name, 0, x.id, x.removed_served FROM temp.over_removals AS o JOIN removals AS x ON x.id = o.id AND x.kind = 'namespace'
		JOIN namespaces AS n ON n.id = x.namespace_id AND n.removal_id = x.id AND n.removed_at <> 0 AND n.gone_at = 0
		WHERE @repository = 0 AND (@namespace = 0 OR n.id = @namespace) ORDER BY n.id`},
	{Blob, Unneeded, `SELECT 0, 0, g.content_id, '', c.digest, '', b.size, 0, g.since FROM temp.going_blobs AS g
		JOIN contents AS c ON c.id = g.content_id JOIN blobs AS b ON b.content_id = g.content_id WHERE g.stays = '' ORDER BY g.content_id`},
}

// tell gives all that goes to each.
func (p *Plan) tell(each func(Found) error) error {
	for _, part := range told {
		rows, err := p.db.Raw(part.sql, named(part.sql, p.terms.values(nil))...).Rows()
		if err != nil {
			return err
		}
		for n := 1; rows.Next(); n++ {
			f := Found{Kind: part.kind, Why: part.why}
			if err = rows.Scan(&f.ID, &f.RepositoryID, &f.ContentID, &f.Repository, &f.Digest, &f.Name, &f.Size, &f.RemovalID, &f.Since); err != nil {
				break
			}
			switch {
			case f.Kind == Tag && f.RemovalID == 0:
				f.Why = OfNothing
			case f.Kind == Holding && f.RemovalID != 0:
				f.Why = WindowOver
			}
			if err = each(f); err == nil && n%1000 == 0 {
				err = p.breathe()
			}
			if err != nil {
				break
			}
		}
		if err := errors.Join(err, rows.Err(), rows.Close()); err != nil {
			return err
		}
	}
	return nil
}

// kept counts what stays, and why.
func (p *Plan) kept() (kept []Kept, err error) {
	err = p.db.Raw(`SELECT 'manifest' AS kind, stays AS why, count(*) AS count, 0 AS bytes FROM temp.going_manifests WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'holding', stays, count(*), coalesce(sum(b.size), 0) FROM temp.going_holdings AS g LEFT JOIN blobs AS b ON b.content_id = g.content_id WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'blob', stays, count(*), coalesce(sum(b.size), 0) FROM temp.going_blobs AS g JOIN blobs AS b ON b.content_id = g.content_id WHERE stays <> '' GROUP BY stays
		UNION ALL SELECT 'manifest', 'restore-window', count(*), 0 FROM manifests AS m JOIN repositories AS r ON r.id = m.repository_id
			WHERE m.removal_id <> 0 AND m.state = 'deleted' AND m.id NOT IN (SELECT id FROM temp.going_manifests) AND `+inPlace+` HAVING count(*) > 0`,
		p.terms.values(nil)).Scan(&kept).Error
	return kept, errors.Join(err, statements(p.db, tables, nil))
}
