package record

import (
	"context"
	"errors"
	"strconv"
	"time"

	"gorm.io/gorm/clause"
)

// meta is what the records know about themselves.
type meta struct {
	Key   string
	Value string
}

func (meta) TableName() string { return "meta" }

// meta returns one of them, "" for none.
func (v View) meta(key string) (string, error) {
	row, err := one[meta](v.db.Where("key = ?", key))
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return row.Value, err
}

func (tx *Tx) setMeta(key, value string) error {
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&meta{Key: key, Value: value}).Error
}

const servedKey = "served"

// servedBefore returns the served time that earlier runs reached.
func (s *Store) servedBefore() (time.Duration, error) {
	text, err := s.View(context.Background()).meta(servedKey)
	if err != nil || text == "" {
		return 0, err
	}
	nanoseconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, err
	}
	return s.afterCrash(time.Duration(nanoseconds))
}

// mostBehind is how far the recorded served time can be behind the stamps of rows: it is
// written once a minute.
const mostBehind = 10 * time.Minute

// pastStamps are the columns with moments that have passed, in served time.
var pastStamps = map[string][]string{
	"blobs": {"touched_served"}, "holdings": {"touched_served", "ended_served"}, "manifests": {"pushed_served", "touched_served", "deleted_served", "pulled_served", "asked_served"},
	"tags": {"moved_served", "pushed_served"}, "removals": {"removed_served"}, "uploads": {"started_served", "touched_served"}, "arrivals": {"began_served", "heard_served"},
	"strays": {"found_served"},
}

// afterCrash returns the highest served time that any row has where the last run did not
// stop in order: the recorded one may be a minute old, and what was pushed since would
// seem to come from the future. A stamp that is further ahead than can be is damage, and
// does not count.
func (s *Store) afterCrash(recorded time.Duration) (time.Duration, error) {
	running, err := s.View(context.Background()).meta("running")
	if err != nil || running == "" {
		return recorded, err
	}
	reached := recorded
	for table, columns := range pastStamps {
		for _, column := range columns {
			var most int64
			query := "SELECT coalesce(max(" + column + "), 0) FROM " + table + " WHERE " + column + " <= ?"
			if err := s.read.Raw(query, int64(recorded+mostBehind)).Scan(&most).Error; err != nil {
				return recorded, err
			}
			reached = max(reached, time.Duration(most))
		}
	}
	return reached, nil
}

// KeepServed records the served time reached. A crash loses what came after it,
// which makes windows longer and never shorter.
func (tx *Tx) KeepServed() error {
	return tx.setMeta(servedKey, strconv.FormatInt(tx.Served(), 10))
}

const trialKey = "trial"

// IsTrial reports whether the records were begun by a trial.
func (v View) IsTrial() (bool, error) {
	value, err := v.meta(trialKey)
	return value != "", err
}

// BeginTrial notes that the records are a trial's from now on.
func (tx *Tx) BeginTrial() error {
	return tx.setMeta(trialKey, "true")
}
