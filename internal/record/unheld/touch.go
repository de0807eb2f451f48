package unheld

import (
	"encoding/json"
	"strconv"
	"time"

	"warthesis/internal/oci"
)

// Touch is that content was said to be there, to somebody who may push.
type Touch struct {
	Repository int64
	Digest     oci.Digest
	// Served is served time in nanoseconds.
	Served int64
}

// Touch records touches of holdings and of manifests.
func (r Records) Touch(all []Touch) error {
	rows := make([][3]any, len(all))
	for i, t := range all {
		rows[i] = [3]any{t.Repository, t.Digest, t.Served}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	if err := r.DB.Exec(`UPDATE manifests SET asked_served = max(manifests.asked_served, t.served) FROM (SELECT value ->> 0 AS repository, value ->> 1 AS digest, value ->> 2 AS served
		FROM json_each(?)) AS t WHERE manifests.repository_id = t.repository AND manifests.digest = t.digest`, string(raw)).Error; err != nil {
		return err
	}
	return r.DB.Exec(`UPDATE holdings SET touched_served = max(holdings.touched_served, t.served) FROM (SELECT value ->> 0 AS repository, contents.id AS content, value ->> 2 AS served
		FROM json_each(?) CROSS JOIN contents ON contents.digest = value ->> 1) AS t WHERE holdings.repository_id = t.repository AND holdings.content_id = t.content`, string(raw)).Error
}

const (
	runningKey = "running"
	lostKey    = "touches_lost"
)

// Begin notes that a service runs, and returns until when, in served time, holdings stay
// because one of before did not stop in order: what it said was there is not all known.
func (r Records) Begin(served int64, grace time.Duration) (until int64, err error) {
	var row struct{ Running, Lost string }
	if err := r.DB.Raw("SELECT coalesce((SELECT value FROM meta WHERE key = ?), '') AS running, coalesce((SELECT value FROM meta WHERE key = ?), '') AS lost", runningKey, lostKey).Scan(&row).Error; err != nil {
		return 0, err
	}
	if row.Running != "" {
		row.Lost = strconv.FormatInt(served, 10)
		if err := r.put(lostKey, row.Lost); err != nil {
			return 0, err
		}
	}
	if lost, err := strconv.ParseInt(row.Lost, 10, 64); err == nil {
		until = lost + int64(grace)
	}
	return until, r.put(runningKey, "true")
}

// Stop notes that the service stops in order, with all touches written.
func (r Records) Stop() error { return r.DB.Exec("DELETE FROM meta WHERE key = ?", runningKey).Error }

func (r Records) put(key, value string) error {
	return r.DB.Exec("INSERT INTO meta (key, value) VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value", key, value).Error
}
