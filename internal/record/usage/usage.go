// Package usage tells who holds what, how that grew, and what went in and out.
package usage

import (
	"time"

	"gorm.io/gorm"
)

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// DayOf is the day of a moment, counted from the first of January 1970, UTC.
func DayOf(t time.Time) int64 { return t.Unix() / (24 * 60 * 60) }

// TimeOf is the beginning of a day.
func TimeOf(day int64) time.Time { return time.Unix(day*24*60*60, 0).UTC() }

// Key is whose traffic it is: of a namespace, by an account, 0 for nobody, on a day.
type Key struct{ Day, NamespaceID, AccountID int64 }

// Traffic is what went in and out: manifests that were pulled and pushed, and bytes.
type Traffic struct{ Pulls, Pushes, BytesOut, BytesIn int64 }

// Plus adds two.
func (t Traffic) Plus(o Traffic) Traffic {
	return Traffic{t.Pulls + o.Pulls, t.Pushes + o.Pushes, t.BytesOut + o.BytesOut, t.BytesIn + o.BytesIn}
}

// Count adds what was counted.
func (r Records) Count(all map[Key]Traffic) error {
	for of, t := range all {
		if err := r.DB.Exec(`INSERT INTO traffic (day, namespace_id, account_id, pulls, pushes, bytes_out, bytes_in) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET pulls = pulls + excluded.pulls, pushes = pushes + excluded.pushes, bytes_out = bytes_out + excluded.bytes_out, bytes_in = bytes_in + excluded.bytes_in`,
			of.Day, of.NamespaceID, of.AccountID, t.Pulls, t.Pushes, t.BytesOut, t.BytesIn).Error; err != nil {
			return err
		}
	}
	return nil
}
