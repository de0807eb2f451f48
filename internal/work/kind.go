package work

import (
	"context"
	"fmt"
	"time"

	"github.com/robfig/cron/v3"

	"warthesis/internal/rule"
)

// Kind is one kind of work. Rooms register theirs before the work starts.
type Kind struct {
	// Name is a short word for people and for the records, as in "idle-uploads".
	Name string
	// About says in one sentence what it does.
	About string
	// When it runs by itself; the zero value is never.
	When Schedule
	// Late work that runs at intervals waits for the first as well.
	Late bool
	// Light work is done in well under a second and every few: it leaves a run only
	// where it fails.
	Light bool
	// Tries is how often it is begun before it counts as failed; 0 and 1 are once.
	Tries int
	// Do does the work. It calls Breathe between pieces of at most some milliseconds, and
	// returns the error of ctx soon after that is done. It may be begun anew where it
	// was cut: Point is what it kept last.
	Do func(ctx context.Context, g *Going) error
}

// Schedule says when something runs by itself.
type Schedule struct {
	every rule.Span
	cron  cron.Schedule
	text  string
}

// Every runs each time that a span of served time has passed since it last ran.
func Every(span time.Duration) Schedule {
	return Schedule{every: rule.Span(span), text: "every " + rule.Span(span).String()}
}

// ParseSchedule reads an interval (30m, 12h, 1w) or a cron expression of five fields,
// in UTC. By a cron expression it runs once for each time that the wall clock passes
// such a moment, and once where the clock jumps over many.
func ParseSchedule(s string) (Schedule, error) {
	if span, err := rule.ParseSpan(s); err == nil {
		return Every(span.Duration()), nil
	}
	parsed, err := cron.ParseStandard(s)
	if err != nil {
		return Schedule{}, fmt.Errorf("%q is no schedule; write an interval such as 12h or 1w, or a cron expression of five fields such as 30 3 * * 0", s)
	}
	return Schedule{cron: parsed, text: "at " + s}, nil
}

// String says when it runs, "" for never.
func (s Schedule) String() string { return s.text }

// Never reports whether it never runs by itself.
func (s Schedule) Never() bool { return s.every == 0 && s.cron == nil }

// moment is a moment by both clocks.
type moment struct {
	at     time.Time
	served time.Duration
}

// due reports whether it is time now, given when it last ran. What never ran is due at
// once by an interval, and at the next of its moments by a cron expression.
func (s Schedule) due(last, now moment, ran bool) bool {
	switch {
	case s.every != 0:
		return !ran || now.served-last.served >= s.every.Duration()
	case s.cron != nil:
		return !s.cron.Next(last.at).After(now.at)
	}
	return false
}

// next returns how long it is until it is due, by the clock as it goes now.
func (s Schedule) next(last, now moment) time.Duration {
	if s.every != 0 {
		return max(0, s.every.Duration()-(now.served-last.served))
	}
	return max(0, s.cron.Next(last.at).Sub(now.at))
}

// Due reports whether it is time now, given when it last ran by both clocks; ran is false for
// what never did.
func (s Schedule) Due(lastAt, nowAt time.Time, lastServed, nowServed time.Duration, ran bool) bool {
	return s.due(moment{lastAt, lastServed}, moment{nowAt, nowServed}, ran)
}

// In returns in how long it is due, given when it last ran by both clocks.
func (s Schedule) In(lastAt, nowAt time.Time, lastServed, nowServed time.Duration) time.Duration {
	return s.next(moment{lastAt, lastServed}, moment{nowAt, nowServed})
}
