// Package stamp is wall time as the records have it.
package stamp

import "time"

// Stamp is a point of wall time as it is stored: nanoseconds since 1970, 0 for never.
type Stamp int64

// Of returns the stamp of a time.
func Of(t time.Time) Stamp {
	if t.IsZero() {
		return 0
	}
	return Stamp(t.UnixNano())
}

// Time returns the time in UTC, the zero time for never.
func (s Stamp) Time() time.Time {
	if s == 0 {
		return time.Time{}
	}
	return time.Unix(0, int64(s)).UTC()
}
