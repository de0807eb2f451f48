package api

import "time"

// Run is one piece of work beside requests.
type Run struct {
	ID        int64            `json:"id"`
	Kind      string           `json:"kind"`
	Place     string           `json:"place,omitempty" doc:"What it works on; absent for the whole registry"`
	Cause     string           `json:"cause" doc:"schedule, event or somebody"`
	AskedBy   string           `json:"asked_by,omitempty" doc:"The account that asked for it"`
	State     string           `json:"state" doc:"waiting, going, stopped, done or failed"`
	Step      string           `json:"step,omitempty" doc:"What it does, or did last"`
	Done      int64            `json:"done" doc:"How far the step is, counted in unit"`
	Total     int64            `json:"total,omitempty" doc:"How much the step has; absent where that is not known"`
	Unit      string           `json:"unit,omitempty"`
	Report    string           `json:"report,omitempty" doc:"What came of it"`
	Sweep     *SweepReport     `json:"sweep,omitempty" doc:"What came of a sweep or its preview, in figures"`
	Scrub     *ScrubReport     `json:"scrub,omitempty" doc:"What came of a scrub, in figures"`
	Retention *RetentionReport `json:"retention,omitempty" doc:"What came of a run of retention rules, in figures"`
	Error     string           `json:"error,omitempty" doc:"Why it failed, or failed last"`
	Tries     int              `json:"tries" doc:"How often it was begun"`
	AskedAt   time.Time        `json:"asked_at"`
	BeganAt   *time.Time       `json:"began_at,omitempty"`
	EndedAt   *time.Time       `json:"ended_at,omitempty"`
}

// RunList is a page of runs, the newest first.
type RunList struct {
	Runs []Run `json:"runs" nullable:"false"`
	Next int64 `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}

// RunKind is one kind of work beside requests.
type RunKind struct {
	Name    string     `json:"name"`
	About   string     `json:"about"`
	When    string     `json:"when,omitempty" doc:"When it runs by itself; absent for never"`
	Light   bool       `json:"light" doc:"Whether it leaves a run only where it fails"`
	RanAt   *time.Time `json:"ran_at,omitempty" doc:"When it last ran by itself"`
	NextIn  *int64     `json:"next_in,omitempty" doc:"In how many seconds it runs again by itself, about; absent for never"`
	Failing string     `json:"failing,omitempty" doc:"Why it fails now"`
}

// RunKindList is all kinds of work beside requests.
type RunKindList struct {
	Kinds []RunKind `json:"kinds" nullable:"false"`
}
