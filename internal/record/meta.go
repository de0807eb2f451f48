package record

import (
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

const servedKey = "served"

// servedBefore returns the served time that earlier runs reached.
func (s *Store) servedBefore() (time.Duration, error) {
	row, err := one[meta](s.read.Where("key = ?", servedKey))
	if errors.Is(err, ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	nanoseconds, err := strconv.ParseInt(row.Value, 10, 64)
	return time.Duration(nanoseconds), err
}

// KeepServed records the served time reached. A crash loses what came after it,
// which makes windows longer and never shorter.
func (tx *Tx) KeepServed() error {
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).
		Create(&meta{Key: servedKey, Value: strconv.FormatInt(tx.Served(), 10)}).Error
}

const trialKey = "trial"

// IsTrial reports whether the records were begun by a trial.
func (v View) IsTrial() (bool, error) {
	_, err := one[meta](v.db.Where("key = ?", trialKey))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// BeginTrial notes that the records are a trial's from now on.
func (tx *Tx) BeginTrial() error {
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&meta{Key: trialKey, Value: "true"}).Error
}
