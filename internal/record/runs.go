package record

import (
	"context"

	"gorm.io/gorm/clause"
)

// RunState is where in its life a run is.
type RunState string

// The states of runs. Waiting and going runs are open: they go on after a crash.
const (
	RunWaiting RunState = "waiting"
	RunGoing   RunState = "going"
	RunStopped RunState = "stopped"
	RunDone    RunState = "done"
	RunFailed  RunState = "failed"
)

// RunCause is what a run was made by.
type RunCause string

// The causes of runs.
const (
	BySchedule RunCause = "schedule"
	ByEvent    RunCause = "event"
	BySomebody RunCause = "somebody"
)

// Run is one piece of work beside requests.
type Run struct {
	ID   int64
	Kind string
	// Place is what it works on, "" for the whole registry.
	Place   string
	Cause   RunCause
	AskedBy int64
	State   RunState
	// Step says what it does now; Done of Total, counted in Unit, how far it is. A Total
	// of 0 is not known.
	Step  string
	Done  int64
	Total int64
	Unit  string
	// Point is where it goes on after it was cut, in words of its kind.
	Point  string
	Report string
	Error  string
	// Tries counts how often it was begun.
	Tries   int
	AskedAt Stamp
	// What ends in Served is served time in nanoseconds.
	AskedServed int64
	BeganAt     Stamp
	EndedAt     Stamp
	EndedServed int64
}

// Open reports whether the run waits or goes.
func (r Run) Open() bool { return r.State == RunWaiting || r.State == RunGoing }

// AddRun records a run that is asked for.
func (tx *Tx) AddRun(r Run) (Run, error) {
	r.AskedAt, r.AskedServed = tx.Now(), tx.Served()
	err := tx.db.Create(&r).Error
	return r, err
}

// SaveRun records a run as it is now.
func (tx *Tx) SaveRun(r Run) error { return tx.db.Save(&r).Error }

// OpenRuns returns the runs that wait or go, the oldest first.
func (v View) OpenRuns() ([]Run, error) {
	var rows []Run
	return rows, v.db.Where("state IN ('waiting', 'going')").Order("id").Find(&rows).Error
}

// Run returns a run, or ErrNotFound.
func (v View) Run(id int64) (Run, error) { return one[Run](v.db.Where("id = ?", id)) }

// RunFilter picks runs. Zero fields pick all.
type RunFilter struct {
	Kind  string
	State RunState
	// Before is the ID of the last run of the page before.
	Before int64
	Limit  int
}

// Runs returns runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	query := s.read.WithContext(ctx).Order("id DESC").Limit(f.Limit)
	if f.Kind != "" {
		query = query.Where("kind = ?", f.Kind)
	}
	if f.State != "" {
		query = query.Where("state = ?", f.State)
	}
	if f.Before != 0 {
		query = query.Where("id < ?", f.Before)
	}
	var rows []Run
	return rows, query.Find(&rows).Error
}

// DropRuns forgets up to a slice of the runs that ended before the served time, in
// nanoseconds, and reports whether there may be more.
func (tx *Tx) DropRuns(before int64) (more bool, err error) {
	done := tx.db.Exec("DELETE FROM runs WHERE id IN (SELECT id FROM runs WHERE ended_at <> 0 AND ended_served < ? LIMIT ?)", before, sliceLength)
	return done.RowsAffected == sliceLength, done.Error
}

// Ran is when a kind of runs last ran by itself.
type Ran struct {
	Kind      string `gorm:"primaryKey"`
	RanAt     Stamp
	RanServed int64
}

// TableName names the table.
func (Ran) TableName() string { return "schedules" }

// Ran returns when each kind last ran by itself.
func (v View) Ran() (map[string]Ran, error) {
	var rows []Ran
	err := v.db.Find(&rows).Error
	all := make(map[string]Ran, len(rows))
	for _, r := range rows {
		all[r.Kind] = r
	}
	return all, err
}

// KeepRan notes that a kind ran by itself just now.
func (tx *Tx) KeepRan(kind string) error {
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Ran{kind, tx.Now(), tx.Served()}).Error
}
