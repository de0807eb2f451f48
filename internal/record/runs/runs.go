// Package runs is the record of work beside requests.
package runs

import (
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/record/stamp"
)

// State is where in its life a run is.
type State string

// The states of runs. Waiting and going runs are open: they go on after a crash.
const (
	Waiting State = "waiting"
	Going   State = "going"
	Stopped State = "stopped"
	Done    State = "done"
	Failed  State = "failed"
)

// Cause is what a run was made by.
type Cause string

// The causes of runs.
const (
	BySchedule Cause = "schedule"
	ByEvent    Cause = "event"
	BySomebody Cause = "somebody"
)

// Run is one piece of work beside requests.
type Run struct {
	ID   int64
	Kind string
	// Place is what it works on, as it was called then, "" for the whole registry;
	// NamespaceID or RepositoryID is that place.
	Place        string
	NamespaceID  int64
	RepositoryID int64
	Cause        Cause
	AskedBy      int64
	State        State
	// Step says what it does now; Done of Total, counted in Unit, how far it is. A Total
	// of 0 is not known.
	Step  string
	Done  int64
	Total int64
	Unit  string
	// Point is where it goes on after it was cut, in words of its kind.
	Point  string
	Report string
	// Options are how it was asked for, Facts its report in figures, both in words of its
	// kind.
	Options string
	Facts   string
	Error   string
	// Tries counts how often it was begun.
	Tries   int
	AskedAt stamp.Stamp
	// What ends in Served is served time in nanoseconds.
	AskedServed int64
	BeganAt     stamp.Stamp
	EndedAt     stamp.Stamp
	EndedServed int64
}

// Open reports whether the run waits or goes.
func (r Run) Open() bool { return r.State == Waiting || r.State == Going }

// ErrNone: there is no such run.
var ErrNone = errors.New("no such run")

// Records are the runs in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// Add records a run that is asked for at a moment.
func (r Records) Add(run Run, now stamp.Stamp, served int64) (Run, error) {
	run.AskedAt, run.AskedServed = now, served
	err := r.DB.Create(&run).Error
	return run, err
}

// Save records a run as it is now.
func (r Records) Save(run Run) error { return r.DB.Save(&run).Error }

// Open returns the runs that wait or go, the oldest first.
func (r Records) Open() (rows []Run, err error) {
	return rows, r.DB.Where("state IN ('waiting', 'going')").Order("id").Find(&rows).Error
}

// Get returns a run, or ErrNone.
func (r Records) Get(id int64) (Run, error) {
	var rows []Run
	err := r.DB.Where("id = ?", id).Limit(1).Find(&rows).Error
	if err == nil && len(rows) == 0 {
		err = ErrNone
	}
	if err != nil {
		return Run{}, err
	}
	return rows[0], nil
}

// Has reports whether there is a run.
func (r Records) Has(id int64) (has bool, err error) {
	return has, r.DB.Raw("SELECT EXISTS (SELECT 1 FROM runs WHERE id = ?)", id).Scan(&has).Error
}

// Asked counts the runs that an account asked for since a served time.
func (r Records) Asked(account, since int64) (n int64, err error) {
	return n, r.DB.Raw("SELECT count(*) FROM runs WHERE asked_by = ? AND asked_served > ?", account, since).Scan(&n).Error
}

// Filter picks runs. Zero fields pick all.
type Filter struct {
	Kind  string
	State State
	// Place keeps those that worked on one.
	Place string
	// NamespaceID or RepositoryID is the place.
	NamespaceID, RepositoryID int64
	// Before is the ID of the last run of the page before.
	Before int64
	Limit  int
}

// List returns runs, the newest first.
func (r Records) List(f Filter) (rows []Run, err error) {
	query := r.DB.Order("id DESC").Limit(f.Limit)
	if f.Place != "" {
		query = query.Where("place = ?", f.Place)
	}
	if f.Kind != "" {
		query = query.Where("kind = ?", f.Kind)
	}
	if f.State != "" {
		query = query.Where("state = ?", f.State)
	}
	if f.NamespaceID != 0 {
		query = query.Where("namespace_id = ?", f.NamespaceID)
	}
	if f.RepositoryID != 0 {
		query = query.Where("repository_id = ?", f.RepositoryID)
	}
	if f.Before != 0 {
		query = query.Where("id < ?", f.Before)
	}
	return rows, query.Find(&rows).Error
}

// dropped is how many runs one change forgets.
const dropped = 500

// Drop forgets some of the runs that ended before the served time, in nanoseconds, and
// reports whether there may be more.
func (r Records) Drop(before int64) (more bool, err error) {
	done := r.DB.Exec("DELETE FROM runs WHERE id IN (SELECT id FROM runs WHERE ended_at <> 0 AND ended_served < ? LIMIT ?)", before, dropped)
	return done.RowsAffected == dropped, done.Error
}

// Ran is when a kind of runs last ran by itself.
type Ran struct {
	Kind      string `gorm:"primaryKey"`
	RanAt     stamp.Stamp
	RanServed int64
}

// TableName names the table.
func (Ran) TableName() string { return "schedules" }

// Ran returns when each kind last ran by itself.
func (r Records) Ran() (map[string]Ran, error) {
	var rows []Ran
	err := r.DB.Find(&rows).Error
	all := make(map[string]Ran, len(rows))
	for _, row := range rows {
		all[row.Kind] = row
	}
	return all, err
}

// KeepRan notes that a kind ran by itself at a moment.
func (r Records) KeepRan(kind string, now stamp.Stamp, served int64) error {
	return r.DB.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Ran{kind, now, served}).Error
}
