package usage

import (
	"encoding/json"

	"gorm.io/gorm/clause"
)

// Sums are how much a place holds, in bytes.
type Sums struct {
	// Seen is what a reader sees there, Own what of it nothing else holds that the asker
	// sees, Waiting what only waits for restore windows, Free what of all that a sweep takes
	// now that nothing else holds.
	Seen, Own, Waiting, Free int64
	Images, Tags             int64
}

// Child is a place in a place, with its sums.
type Child struct {
	ID     int64
	Name   string
	Labels string
	Sums   `gorm:"embedded"`
}

// Terms are by what a sweep takes things, in served time in nanoseconds.
type Terms struct{ Served, Grace, Window, Floor int64 }

const seenRepository = ".repository_id IN (SELECT repositories.id FROM repositories WHERE ?)"

// waits is the condition that a holding h in a repository r only waits for a restore window:
// it ended, or what names it was removed.
const waits = `(h.ended_at <> 0 OR NOT EXISTS (SELECT 1 FROM edges AS e CROSS JOIN manifests AS m ON m.id = e.manifest_id AND m.state = 'live'
		WHERE e.content_id = h.content_id AND e.repository_id = h.repository_id AND e.relation < 4)
	AND EXISTS (SELECT 1 FROM edges AS e WHERE e.content_id = h.content_id AND e.repository_id = h.repository_id AND e.relation < 4))`

// Namespaces returns the sums of the namespaces that are seen, by what their repositories
// hold. It looks at every holding.
func (r Records) Namespaces(seen clause.Expr, limit int) (all []Child, err error) {
	return all, r.DB.Raw(`WITH mine AS MATERIALIZED (SELECT DISTINCT namespaces.id, namespaces.name, namespaces.labels FROM namespaces
			JOIN repositories ON repositories.namespace_id = namespaces.id WHERE namespaces.removed_at = 0 AND (?)),
		c AS MATERIALIZED (SELECT r.namespace_id, h.content_id, max(r.removed_at = 0 AND NOT `+waits+`) AS live FROM mine CROSS JOIN repositories AS r ON r.namespace_id = mine.id AND r.gone_at = 0
			CROSS JOIN holdings AS h ON h.repository_id = r.id GROUP BY r.namespace_id, h.content_id),
		s AS MATERIALIZED (SELECT c.namespace_id AS id, sum(b.size * c.live) AS seen, sum(b.size * NOT c.live) AS waiting,
			sum(b.size * (c.live AND NOT EXISTS (SELECT 1 FROM namespace_blobs AS o WHERE o.content_id = c.content_id AND o.namespace_id <> c.namespace_id AND o.namespace_id IN (SELECT id FROM mine)))) AS own
			FROM c CROSS JOIN blobs AS b ON b.content_id = c.content_id GROUP BY c.namespace_id)
		SELECT mine.*, coalesce(s.seen, 0) AS seen, coalesce(s.own, 0) AS own, coalesce(s.waiting, 0) AS waiting,
			(SELECT count(*) FROM repositories AS r JOIN manifests AS m ON m.repository_id = r.id AND m.state = 'live' WHERE r.namespace_id = mine.id AND r.removed_at = 0) AS images,
			(SELECT coalesce(sum(tag_count), 0) FROM repositories AS r WHERE r.namespace_id = mine.id AND r.removed_at = 0) AS tags
		FROM mine LEFT JOIN s ON s.id = mine.id ORDER BY own DESC, mine.name LIMIT ?`, seen, limit).Scan(&all).Error
}

// Repositories returns the sums of the repositories of a namespace that are seen.
func (r Records) Repositories(namespace int64, seen clause.Expr, limit int) (all []Child, err error) {
	return all, r.DB.Raw(`WITH c AS MATERIALIZED (SELECT h.repository_id, h.content_id, NOT `+waits+` AS live FROM repositories AS r CROSS JOIN holdings AS h ON h.repository_id = r.id
			WHERE r.namespace_id = ? AND r.removed_at = 0),
		s AS MATERIALIZED (SELECT c.repository_id AS id, sum(b.size * c.live) AS seen, sum(b.size * NOT c.live) AS waiting,
			sum(b.size * (c.live AND NOT EXISTS (SELECT 1 FROM holdings AS o WHERE o.content_id = c.content_id AND o.repository_id <> c.repository_id AND o`+seenRepository+`))) AS own
			FROM c CROSS JOIN blobs AS b ON b.content_id = c.content_id GROUP BY c.repository_id)
		SELECT repositories.id, repositories.name, repositories.labels, repositories.tag_count AS tags,
			(SELECT count(*) FROM manifests AS m WHERE m.repository_id = repositories.id AND m.state = 'live') AS images,
			coalesce(s.seen, 0) AS seen, coalesce(s.own, 0) AS own, coalesce(s.waiting, 0) AS waiting
		FROM repositories LEFT JOIN s ON s.id = repositories.id
		WHERE repositories.namespace_id = ? AND repositories.removed_at = 0 AND (?) ORDER BY own DESC, repositories.name LIMIT ?`, namespace, seen, namespace, seen, limit).Scan(&all).Error
}

// Place returns the sums of a repository or, with 0, of a namespace, which is held by what
// holdings and manifests there need.
func (r Records) Place(namespace, repository int64, terms Terms, seen clause.Expr) (s Sums, err error) {
	values := map[string]any{
		"namespace": namespace, "repository": repository, "served": terms.Served, "before": terms.Served - terms.Grace, "window": terms.Window, "floor": terms.Floor, "seen": seen,
	}
	return s, r.DB.Raw(`WITH mine AS MATERIALIZED (SELECT r.id, r.removed_at = 0 AND n.removed_at = 0 AS there FROM repositories AS r JOIN namespaces AS n ON n.id = r.namespace_id
			WHERE r.namespace_id = @namespace AND (@repository = 0 OR r.id = @repository) AND r.gone_at = 0),
		over AS MATERIALIZED (SELECT x.id FROM removals AS x JOIN namespaces AS n ON n.id = x.namespace_id WHERE x.repository_id IN (SELECT id FROM mine) AND x.undone_at = 0
			AND (x.over_at <> 0 OR x.removed_served + max(min(coalesce(nullif(n.restore_window, 0), @window), @window), @floor) <= @served)),
		c AS MATERIALIZED (SELECT content_id, max(live) AS live, max(stays) AS stays FROM (
			SELECT h.content_id, mine.there AND NOT `+waits+` AS live,
				h.ended_at = 0 AND h.touched_served > @before OR h.ended_at <> 0 AND h.removal_id NOT IN (SELECT id FROM over)
				OR EXISTS (SELECT 1 FROM edges AS e JOIN manifests AS m ON m.id = e.manifest_id WHERE e.content_id = h.content_id AND e.repository_id = h.repository_id AND e.relation < 4
					AND (m.state = 'live' OR m.removal_id NOT IN (SELECT id FROM over))) AS stays
			FROM mine CROSS JOIN holdings AS h ON h.repository_id = mine.id
			UNION ALL SELECT m.content_id, m.state = 'live' AND mine.there, m.state = 'live' OR m.removal_id NOT IN (SELECT id FROM over) FROM mine CROSS JOIN manifests AS m ON m.repository_id = mine.id)
			GROUP BY content_id),
		d AS MATERIALIZED (SELECT c.*, b.size, NOT EXISTS (SELECT 1 FROM holdings AS o WHERE o.content_id = c.content_id AND o.repository_id NOT IN (SELECT id FROM mine) AND o.repository_id IN (SELECT repositories.id FROM repositories WHERE @seen))
			AND NOT EXISTS (SELECT 1 FROM manifests AS o WHERE o.content_id = c.content_id AND o.repository_id NOT IN (SELECT id FROM mine) AND o.repository_id IN (SELECT repositories.id FROM repositories WHERE @seen)) AS own
			FROM c CROSS JOIN blobs AS b ON b.content_id = c.content_id)
		SELECT coalesce(sum(size * live), 0) AS seen, coalesce(sum(size * (live AND own)), 0) AS own, coalesce(sum(size * (NOT live AND stays)), 0) AS waiting,
			coalesce(sum(size * (NOT stays AND own)), 0) AS free,
			(SELECT count(*) FROM manifests WHERE state = 'live' AND repository_id IN (SELECT id FROM mine WHERE there)) AS images,
			(SELECT count(*) FROM tags WHERE removal_id = 0 AND repository_id IN (SELECT id FROM mine WHERE there)) AS tags FROM d`, values).Scan(&s).Error
}

// Sharer is a place that holds some of the same content.
type Sharer struct {
	Name  string
	Bytes int64
}

// SharedWith returns the repositories that are seen and hold some of what a repository or,
// with 0, a namespace does, the most first.
func (r Records) SharedWith(namespace, repository int64, seen clause.Expr, limit int) (all []Sharer, err error) {
	return all, r.DB.Raw(`WITH mine AS MATERIALIZED (SELECT id FROM repositories WHERE namespace_id = ? AND (? = 0 OR id = ?) AND removed_at = 0),
		c AS MATERIALIZED (SELECT DISTINCT h.content_id FROM mine CROSS JOIN holdings AS h ON h.repository_id = mine.id AND h.ended_at = 0)
		SELECT repositories.name, sum(b.size) AS bytes FROM c CROSS JOIN holdings AS h ON h.content_id = c.content_id AND h.ended_at = 0 AND h.repository_id NOT IN (SELECT id FROM mine)
			CROSS JOIN live_repositories AS repositories ON repositories.id = h.repository_id CROSS JOIN blobs AS b ON b.content_id = c.content_id
		WHERE ? GROUP BY repositories.id ORDER BY bytes DESC, repositories.name LIMIT ?`, namespace, repository, repository, seen, limit).Scan(&all).Error
}

// ContentsSharedWith is SharedWith of contents of a repository, by number.
func (r Records) ContentsSharedWith(repository int64, contents []int64, seen clause.Expr, limit int) (all []Sharer, err error) {
	raw, err := json.Marshal(append([]int64{}, contents...))
	if err != nil {
		return nil, err
	}
	return all, r.DB.Raw(`SELECT repositories.name, sum(b.size) AS bytes FROM json_each(?) AS c CROSS JOIN holdings AS h ON h.content_id = c.value AND h.ended_at = 0 AND h.repository_id <> ?
			CROSS JOIN live_repositories AS repositories ON repositories.id = h.repository_id CROSS JOIN blobs AS b ON b.content_id = c.value
		WHERE ? GROUP BY repositories.id ORDER BY bytes DESC, repositories.name LIMIT ?`, string(raw), repository, seen, limit).Scan(&all).Error
}

// Edge is one thing that an image names, by number.
type Edge struct {
	ManifestID, ContentID, Size, Relation int64
	// Elsewhere tells that another repository that is seen holds it.
	Elsewhere bool
}

// Edges returns all that live manifests of a repository name and that is here, with the
// documents themselves as named by them, of relation 0.
func (r Records) Edges(repository int64, seen clause.Expr) (all []Edge, err error) {
	return all, r.DB.Raw(`WITH named AS MATERIALIZED (
		SELECT m.id AS manifest_id, e.content_id, e.relation FROM manifests AS m CROSS JOIN edges AS e ON e.manifest_id = m.id AND e.relation < 4 WHERE m.repository_id = ? AND m.state = 'live'
		UNION ALL SELECT id, content_id, 0 FROM manifests WHERE repository_id = ? AND state = 'live'),
		c AS MATERIALIZED (SELECT content_id, EXISTS (SELECT 1 FROM holdings AS o WHERE o.content_id = n.content_id AND o.repository_id <> ? AND o`+seenRepository+`)
			OR EXISTS (SELECT 1 FROM manifests AS o WHERE o.content_id = n.content_id AND o.repository_id <> ? AND o`+seenRepository+`) AS elsewhere FROM (SELECT DISTINCT content_id FROM named) AS n)
		SELECT named.manifest_id, named.content_id, b.size, named.relation, c.elsewhere FROM named JOIN c ON c.content_id = named.content_id CROSS JOIN blobs AS b ON b.content_id = named.content_id`,
		repository, repository, repository, seen, repository, seen).Scan(&all).Error
}

// Sample is how much there was on a day.
type Sample struct {
	NamespaceID, RepositoryID int64
	Day                       int64
	Seen, Own, Waiting        int64
	Images, Tags              int64
}

// KeptDays is how long samples and traffic are kept.
const KeptDays = 2 * 366

// Keep keeps samples, each once a day: later ones of the day take the place of earlier ones.
func (r Records) Keep(samples []Sample) error {
	raw, err := json.Marshal(append([]Sample{}, samples...))
	if err != nil {
		return err
	}
	return r.DB.Exec(`INSERT OR REPLACE INTO usage_samples (namespace_id, repository_id, day, seen, own, waiting, images, tags)
		SELECT value ->> 'NamespaceID', value ->> 'RepositoryID', value ->> 'Day', value ->> 'Seen', value ->> 'Own', value ->> 'Waiting', value ->> 'Images', value ->> 'Tags' FROM json_each(?)`, string(raw)).Error
}

// Forget forgets samples and traffic of days before one, up to so many rows, and tells
// whether there are more.
func (r Records) Forget(before int64, rows int) (more bool, err error) {
	samples := r.DB.Exec("DELETE FROM usage_samples WHERE (namespace_id, repository_id, day) IN (SELECT namespace_id, repository_id, day FROM usage_samples WHERE day < ? LIMIT ?)", before, rows)
	if samples.Error != nil {
		return false, samples.Error
	}
	traffic := r.DB.Exec("DELETE FROM traffic WHERE (day, namespace_id, account_id) IN (SELECT day, namespace_id, account_id FROM traffic WHERE day < ? LIMIT ?)", before, rows)
	return samples.RowsAffected+traffic.RowsAffected >= int64(rows), traffic.Error
}

// Growth returns the samples of a place since a day.
func (r Records) Growth(namespace, repository, since int64) (all []Sample, err error) {
	return all, r.DB.Table("usage_samples").Where("namespace_id = ? AND repository_id = ? AND day >= ?", namespace, repository, since).Order("day").Scan(&all).Error
}

// Line is the traffic of a day, of a namespace or by an account, as it is grouped.
type Line struct {
	Day                    int64
	NamespaceID, AccountID int64
	Name                   string
	Traffic                `gorm:"embedded"`
}

// The groups of traffic.
const (
	ByDay       = "day"
	ByNamespace = "namespace"
	ByAccount   = "account"
)

// Traffic returns what went in and out since a day, of a namespace or, with 0, of those that
// are seen, in groups, the most first or by day.
func (r Records) Traffic(by string, namespace, since int64, seen clause.Expr, limit int) (all []Line, err error) {
	const sums = "sum(pulls) AS pulls, sum(pushes) AS pushes, sum(bytes_out) AS bytes_out, sum(bytes_in) AS bytes_in"
	query := r.DB.Table("traffic").Where("traffic.day >= ?", since).Limit(limit)
	if namespace != 0 {
		query = query.Where("traffic.namespace_id = ?", namespace)
	} else {
		query = query.Where("traffic.namespace_id IN (SELECT repositories.namespace_id FROM repositories WHERE ?)", seen)
	}
	switch by {
	case ByNamespace:
		query = query.Select("namespace_id, namespaces.name, " + sums).Joins("JOIN namespaces ON namespaces.id = traffic.namespace_id").Group("namespace_id").Order("sum(bytes_out) + sum(bytes_in) DESC")
	case ByAccount:
		query = query.Select("account_id, coalesce(accounts.name, '') AS name, " + sums).Joins("LEFT JOIN accounts ON accounts.id = traffic.account_id").Group("account_id").Order("sum(bytes_out) + sum(bytes_in) DESC")
	default:
		query = query.Select("day, " + sums).Group("day").Order("day")
	}
	return all, query.Scan(&all).Error
}
