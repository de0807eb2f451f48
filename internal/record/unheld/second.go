package unheld

import (
	"errors"
	"fmt"

	"gorm.io/gorm"
)

// DisputedError: an index and its table disagree about whether something is referenced.
// One of them is damaged.
type DisputedError struct {
	Table, Index string
	// What says about what they disagree.
	What string
}

func (e *DisputedError) Error() string {
	return fmt.Sprintf("index %s of table %s and the table itself disagree: %s", e.Index, e.Table, e.What)
}

// second asks the tables row by row what the plan has asked their indexes: no row that is
// kept may reference anything that is to be deleted. It fails with *DisputedError.
func (p *Plan) second() error {
	var any bool
	if err := p.db.Raw(`SELECT EXISTS (SELECT 1 FROM temp.going_manifests WHERE stays = '') OR EXISTS (SELECT 1 FROM temp.going_holdings WHERE stays = '')
		OR EXISTS (SELECT 1 FROM temp.going_blobs WHERE stays = '')`).Scan(&any).Error; err != nil || !any {
		return err
	}
	if err := p.db.Exec("CREATE INDEX IF NOT EXISTS temp.going_manifests_content ON going_manifests (content_id) WHERE stays = ''").Error; err != nil {
		return err
	}
	const kept = "NOT EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = x.manifest_id AND g.stays = '')"
	for _, check := range []struct {
		table, index, key, within, query string
	}{
		{"edges", "edges_by_content", "manifest_id", "manifests", `SELECT x.repository_id AS repository_id, c.digest FROM edges AS x JOIN contents AS c ON c.id = x.content_id
			WHERE x.manifest_id > @from AND x.manifest_id <= @upto AND x.relation < 4 AND ` + kept + `
			AND (EXISTS (SELECT 1 FROM temp.going_holdings AS h WHERE h.repository_id = x.repository_id AND h.content_id = x.content_id AND h.stays = '')
				OR x.relation = 3 AND EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.content_id = +x.content_id AND g.repository_id = x.repository_id AND g.stays = '')) LIMIT 1`},
		{"tags", "tags_by_manifest", "id", "tags", `SELECT x.repository_id AS repository_id, x.name AS digest FROM tags AS x NOT INDEXED
			WHERE x.id > @from AND x.id <= @upto AND x.removal_id NOT IN (SELECT id FROM temp.over_removals)
			AND EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = +x.manifest_id AND g.stays = '' AND g.repository_id NOT IN (SELECT id FROM temp.gone_places)) LIMIT 1`},
		{"holdings", "holdings_by_content", "repository_id", "repositories", `SELECT x.repository_id AS repository_id, c.digest FROM holdings AS x JOIN contents AS c ON c.id = x.content_id
			WHERE x.repository_id > @from AND x.repository_id <= @upto AND EXISTS (SELECT 1 FROM temp.going_blobs AS b WHERE b.content_id = +x.content_id AND b.stays = '')
			AND NOT EXISTS (SELECT 1 FROM temp.going_holdings AS h WHERE h.repository_id = x.repository_id AND h.content_id = x.content_id AND h.stays = '') LIMIT 1`},
		{"manifests", "manifests_by_content", "id", "manifests", `SELECT x.repository_id AS repository_id, x.digest FROM manifests AS x NOT INDEXED
			WHERE x.id > @from AND x.id <= @upto AND EXISTS (SELECT 1 FROM temp.going_blobs AS b WHERE b.content_id = +x.content_id AND b.stays = '')
			AND NOT EXISTS (SELECT 1 FROM temp.going_manifests AS g WHERE g.id = x.id AND g.stays = '') LIMIT 1`},
	} {
		found, err := p.scan(check.within, check.query)
		if err != nil {
			return err
		}
		if found.Digest != "" {
			return &DisputedError{check.table, check.index, fmt.Sprintf("%s in repository %d is referenced by the one and not by the other", found.Digest, found.RepositoryID)}
		}
	}
	return nil
}

type disputed struct {
	RepositoryID int64
	Digest       string
}

// scan asks a query of slices of IDs of a table, until it finds something.
func (p *Plan) scan(table, query string) (found disputed, err error) {
	var last int64
	if err := p.db.Raw("SELECT coalesce(max(id), 0) FROM " + table).Scan(&last).Error; err != nil {
		return found, err
	}
	step := int64(rowsAtOnce)
	if table == "repositories" {
		// Each may have any number of blobs.
		step = 200
	}
	for from := int64(0); from < last && found.Digest == ""; from += step {
		err := p.db.Raw(query, map[string]any{"from": from, "upto": from + step}).Scan(&found).Error
		if err := errors.Join(err, p.breathe()); err != nil {
			return found, err
		}
	}
	return found, nil
}

// Recent is what manifests came to reference after a plan was made, by their rows and not
// by an index: the second question before something is deleted. It is used by one
// goroutine.
type Recent struct {
	last      int64
	blobs     map[Key]bool
	documents map[int64]bool
}

// NewRecent returns what was referenced since a plan, whose newest manifest had an ID.
func NewRecent(last int64) *Recent {
	return &Recent{last: last, blobs: map[Key]bool{}, documents: map[int64]bool{}}
}

// mostSince bounds what is remembered of the time since a plan, in references.
const mostSince = 2_000_000

// ErrLong: so much was pushed since the plan that a new one is needed.
var ErrLong = errors.New("too many images were pushed since the sweep was planned; the next sweep deletes the rest")

// Follow reads the manifests that came since the last call. It fails with ErrLong.
func (s *Recent) Follow(r Records) error {
	for {
		var rows []struct{ ID, ContentID int64 }
		if err := r.DB.Raw("SELECT id, content_id FROM manifests WHERE id > ? ORDER BY id LIMIT 1000", s.last).Scan(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		ids := make([]int64, len(rows))
		for i, row := range rows {
			ids[i] = row.ID
			s.documents[row.ContentID] = true
		}
		if err := s.Kept(r, ids); err != nil {
			return err
		}
		s.last = ids[len(ids)-1]
	}
}

// Kept adds what manifests reference that were to be deleted, and were kept.
func (s *Recent) Kept(r Records, manifests []int64) error {
	var edges []Key
	if err := r.DB.Raw("SELECT edges.repository_id, edges.content_id FROM json_each(?) CROSS JOIN edges ON edges.manifest_id = value WHERE edges.relation < 4", numbers(manifests)).Scan(&edges).Error; err != nil {
		return err
	}
	for _, e := range edges {
		s.blobs[e] = true
	}
	if len(s.blobs)+len(s.documents) > mostSince {
		return ErrLong
	}
	return nil
}

// References reports whether a link is needed by what came since.
func (s *Recent) References(k Key) bool { return s != nil && s.blobs[k] }

// tail adds, in a change, what came since Follow was called.
func (s *Recent) tail(db *gorm.DB) error {
	if s == nil {
		return nil
	}
	return s.Follow(Records{DB: db})
}

// RecordedStrays returns those of the due strays that the table of blobs names, row by row:
// the index by which they were taken for strays is damaged then.
func (r Records) RecordedStrays() (found []File, err error) {
	return found, r.DB.Raw(`SELECT strays.* FROM blobs AS b NOT INDEXED CROSS JOIN contents AS c ON c.id = b.content_id
		CROSS JOIN strays ON strays.digest = +c.digest AND strays.place = b.place LIMIT 10`).Scan(&found).Error
}
