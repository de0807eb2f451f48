package rule

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// unit is a word behind a number, with how much one of it is.
type unit struct {
	word string
	of   int64
}

// spanUnits and sizeUnits are the units, the largest first.
var (
	spanUnits = []unit{{"w", int64(7 * 24 * time.Hour)}, {"d", int64(24 * time.Hour)}, {"h", int64(time.Hour)}, {"m", int64(time.Minute)}, {"s", int64(time.Second)}}
	sizeUnits = []unit{{"PiB", 1 << 50}, {"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"B", 1}}
)

var errAmount = errors.New("no amount")

// parseAmount reads a whole number above zero with a unit behind it.
func parseAmount(s string, units []unit) (int64, error) {
	digits := strings.TrimLeft(s, "0123456789")
	number, err := strconv.ParseInt(s[:len(s)-len(digits)], 10, 64)
	if err != nil || number <= 0 {
		return 0, errAmount
	}
	for _, u := range units {
		if digits == u.word {
			if number > math.MaxInt64/u.of {
				return 0, errAmount
			}
			return number * u.of, nil
		}
	}
	return 0, errAmount
}

// writeAmount writes an amount in the largest unit that it is a whole number of.
func writeAmount(n int64, units []unit) string {
	for _, u := range units {
		if n%u.of == 0 {
			return strconv.FormatInt(n/u.of, 10) + u.word
		}
	}
	return strconv.FormatInt(n, 10)
}

// Span is a span of time, a whole number of seconds, minutes, hours, days or weeks: 90s,
// 15m, 12h, 30d, 2w.
type Span time.Duration

// MostSpan is the longest span.
const MostSpan = Span(100 * 365 * 24 * time.Hour)

// ParseSpan reads a span.
func ParseSpan(s string) (Span, error) {
	n, err := parseAmount(s, spanUnits)
	if err != nil || Span(n) > MostSpan {
		return 0, fmt.Errorf("%q is no span of time; write a number with s, m, h, d or w behind it, as in 90s, 12h, 30d or 2w, up to 100 years", s)
	}
	return Span(n), nil
}

// Duration returns the span as the language has it.
func (s Span) Duration() time.Duration { return time.Duration(s) }

// String writes the span as ParseSpan reads it, in the largest unit that fits.
func (s Span) String() string { return writeAmount(int64(s), spanUnits) }

// Size is a number of bytes: 500MiB, 2GiB.
type Size int64

// ParseSize reads a size.
func ParseSize(s string) (Size, error) {
	n, err := parseAmount(s, sizeUnits)
	if err != nil {
		return 0, fmt.Errorf("%q is no size; write a number with B, KiB, MiB, GiB, TiB or PiB behind it, as in 500MiB or 2GiB", s)
	}
	return Size(n), nil
}

// String writes the size as ParseSize reads it, in the largest unit that fits.
func (s Size) String() string { return writeAmount(int64(s), sizeUnits) }
