package term

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/dustin/go-humanize"

	"warthesis/internal/oci"
)

// The forms of output.
const (
	OutputTable = "table"
	OutputJSON  = "json"
)

// WriteJSON writes a value for scripts.
func WriteJSON(w io.Writer, v any) error {
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// Size writes bytes in binary units.
func Size(bytes int64) string { return humanize.IBytes(uint64(max(0, bytes))) }

// When writes a time as people say it.
func When(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "never"
	}
	if left := time.Until(*t); left > 0 {
		return "in " + lasting(left)
	}
	return humanize.Time(*t)
}

// Left says how long it is to a time, as in "14 days".
func Left(t time.Time) string { return lasting(time.Until(t)) }

// lasting says how long something is, exactly enough to plan by.
func lasting(d time.Duration) string {
	for _, unit := range []struct {
		of        time.Duration
		one, many string
	}{{24 * time.Hour, "day", "days"}, {time.Hour, "hour", "hours"}, {time.Minute, "minute", "minutes"}} {
		if n := int64((d + unit.of/10) / unit.of); n >= 2 || n == 1 && unit.of == time.Minute {
			return Count(n, unit.one, unit.many)
		}
	}
	return "a moment"
}

// shortLength is how many hex digits of a digest tables show.
const shortLength = 12

// Short returns the beginning of a digest, for people.
func Short(d oci.Digest) string {
	hex := d.Encoded()
	return hex[:min(shortLength, len(hex))]
}

// OrDash shows an empty value as a dash.
func OrDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// Count says how many there are of something.
func Count[N int | int64](n N, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// YesNo says a truth to people.
func YesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}
