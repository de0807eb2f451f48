// Package arrivals keeps what is carried in by list: copies, parcels and imports, how far each
// is, and which repositories it holds open until all of it is there.
package arrivals

import (
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// Kind is what is carried in.
type Kind string

// The kinds of arrivals.
const (
	Copy   Kind = "copy"
	Parcel Kind = "parcel"
	Import Kind = "import"
)

// State is how an arrival stands.
type State string

// The states: those that are going, or wait for more, are open.
const (
	Going   State = "going"
	Waiting State = "waiting"
	Done    State = "done"
	Failed  State = "failed"
	Stopped State = "stopped"
)

// The bounds: how long an arrival holds its repositories at most after it was last heard of,
// how many are open of one account and in all, how many repositories one has, and how many
// bytes its report.
const (
	Longest    = 14 * 24 * time.Hour
	MostOf     = 20
	MostOpen   = 2000
	MostPlaces = 20_000
	MostReport = 1 << 20
	keptFor    = 90 * 24 * time.Hour
	mostListed = 1000
	// mostReportsOf and mostReportBytesOf bound the reports of one account, mostReportBytes
	// those of all accounts together, in which each keeps its newest; mostEndedOf bounds the
	// ended arrivals of one account.
	mostReportsOf     = 20
	mostReportBytesOf = 4 << 20
	mostReportBytes   = 256 << 20
	mostEndedOf       = 200
)

var (
	// ErrNone: there is no such arrival, or it is over.
	ErrNone = errors.New("no such arrival")
	// ErrMost: as many are open as there may be.
	ErrMost = errors.New("too many arrivals are open")
)

// Arrival is one thing that is carried in.
type Arrival struct {
	ID   int64
	Kind Kind
	// Name is what the list, the parcel or the import is called; Source where it comes from.
	Name      string
	Source    string
	AccountID int64
	State     State
	BeganAt   stamp.Stamp
	// BeganServed is since when what comes into its repositories stays, UntilServed until when.
	BeganServed int64
	UntilServed int64
	// Days is for how many it is waited for after it was last heard of.
	Days        int64
	HeardAt     stamp.Stamp
	HeardServed int64
	EndedAt     stamp.Stamp
	Images      int64
	ImagesDone  int64
	Lacks       int64
	Bytes       int64
	BytesDone   int64
	// Rate is how many bytes a second come.
	Rate int64
	// Says is one sentence about how it stands.
	Says string
	// Report is JSON, nil for none; lists leave it out.
	Report []byte
}

// Renew waits for it anew from a moment of served time on, and reports whether it did: not
// more often than once a minute, so that whoever renews it can look whether it still may.
func (a *Arrival) Renew(served int64) bool {
	span := a.Days * int64(24*time.Hour)
	if served-(a.UntilServed-span) < int64(time.Minute) {
		return false
	}
	a.UntilServed = served + span
	return true
}

// Open reports whether more is to come.
func (a Arrival) Open() bool { return a.EndedAt == 0 }

// Records are the arrivals, in a change or as of the last commit.
type Records struct{ DB *gorm.DB }

// Make notes an arrival with the repositories that it holds open. It fails with ErrMost.
func (r Records) Make(a Arrival, places []oci.Name) (Arrival, error) {
	var open struct{ Of, All int64 }
	err := r.DB.Raw("SELECT count(*) FILTER (WHERE account_id = ?) AS of, count(*) AS \"all\" FROM arrivals WHERE ended_at = 0 AND until_served > ?", a.AccountID, a.BeganServed).Scan(&open).Error
	if err != nil {
		return a, err
	}
	if open.Of >= MostOf || open.All >= MostOpen || len(places) > MostPlaces {
		return a, ErrMost
	}
	if err := r.DB.Exec(`DELETE FROM arrivals WHERE account_id = ? AND ended_at <> 0
		AND id < (SELECT id FROM arrivals WHERE account_id = ? AND ended_at <> 0 ORDER BY id DESC LIMIT 1 OFFSET ?)`, a.AccountID, a.AccountID, mostEndedOf-1).Error; err != nil {
		return a, err
	}
	if err := r.DB.Create(&a).Error; err != nil {
		return a, err
	}
	return a, r.Hold(a.ID, places)
}

// boundReports drops the oldest reports of an account beyond its bounds, and then, where all
// accounts have too much, the oldest of whoever has more than one. The report of one
// arrival stays.
func (r Records) boundReports(account, keep int64) error {
	var rows []struct{ ID, Bytes int64 }
	if err := r.DB.Raw("SELECT id, length(report) AS bytes FROM arrivals WHERE account_id = ? AND report IS NOT NULL ORDER BY id = ? DESC, id DESC", account, keep).Scan(&rows).Error; err != nil {
		return err
	}
	bytes := int64(0)
	for i, row := range rows {
		if bytes += row.Bytes; i > 0 && (i >= mostReportsOf || bytes > mostReportBytesOf) {
			if err := r.DB.Exec("UPDATE arrivals SET report = NULL WHERE id = ?", row.ID).Error; err != nil {
				return err
			}
			bytes -= row.Bytes
		}
	}
	var all int64
	if err := r.DB.Raw("SELECT coalesce(sum(length(report)), 0) FROM arrivals WHERE report IS NOT NULL").Scan(&all).Error; err != nil || all <= mostReportBytes {
		return err
	}
	rows = nil
	if err := r.DB.Raw(`SELECT id, length(report) AS bytes FROM arrivals AS a WHERE report IS NOT NULL AND id <> ?
		AND id < (SELECT max(id) FROM arrivals AS b WHERE b.account_id = a.account_id AND b.report IS NOT NULL) ORDER BY id`, keep).Scan(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		if all <= mostReportBytes {
			break
		}
		if err := r.DB.Exec("UPDATE arrivals SET report = NULL WHERE id = ?", row.ID).Error; err != nil {
			return err
		}
		all -= row.Bytes
	}
	return nil
}

// Hold adds repositories to those that an arrival holds open.
func (r Records) Hold(id int64, places []oci.Name) error {
	raw, err := json.Marshal(places)
	if err != nil {
		return err
	}
	if err := r.DB.Exec("INSERT OR IGNORE INTO arrival_places SELECT ?, value FROM json_each(?)", id, string(raw)).Error; err != nil {
		return err
	}
	var count int64
	err = r.DB.Raw("SELECT count(*) FROM arrival_places WHERE arrival_id = ?", id).Scan(&count).Error
	if err == nil && count > MostPlaces {
		err = ErrMost
	}
	return err
}

// Get returns an arrival with its report, or ErrNone.
func (r Records) Get(id int64) (a Arrival, err error) {
	rows := r.DB.Where("id = ?", id).Limit(1).Find(&a)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return a, ErrNone
	}
	return a, rows.Error
}

// OpenOf returns the open arrival of a kind and a name, or ErrNone.
func (r Records) OpenOf(kind Kind, name string) (a Arrival, err error) {
	rows := r.DB.Omit("report").Where("ended_at = 0 AND kind = ? AND name = ?", kind, name).Order("id").Limit(1).Find(&a)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return a, ErrNone
	}
	return a, rows.Error
}

// Change writes how an open arrival stands. It fails with ErrNone where it is over.
func (r Records) Change(a Arrival) error {
	columns := []any{"heard_at", "heard_served", "until_served", "images", "images_done", "lacks", "bytes", "bytes_done", "rate", "says", "ended_at"}
	if a.Report != nil {
		columns = append(columns, "report")
	}
	done := r.DB.Model(&Arrival{}).Where("id = ? AND ended_at = 0", a.ID).Select("state", columns...).Updates(&a)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNone
	}
	if done.Error == nil && a.Report != nil {
		if err := r.boundReports(a.AccountID, a.ID); err != nil {
			return err
		}
	}
	if done.Error == nil && a.EndedAt != 0 {
		return r.DB.Exec("DELETE FROM arrival_places WHERE arrival_id = ?", a.ID).Error
	}
	return done.Error
}

// Places lists the repositories that an arrival holds open.
func (r Records) Places(id int64) (names []oci.Name, err error) {
	return names, r.DB.Raw("SELECT repository FROM arrival_places WHERE arrival_id = ? ORDER BY repository", id).Scan(&names).Error
}

// List returns the newest arrivals, those of one account or, with 0, of all, without their
// reports: those that are open first.
func (r Records) List(account int64) (all []Arrival, err error) {
	rows := r.DB.Omit("report").Order("ended_at = 0 DESC, id DESC").Limit(mostListed)
	if account != 0 {
		rows = rows.Where("account_id = ?", account)
	}
	return all, rows.Find(&all).Error
}

// Drop ends arrivals that were not heard of for so long that they hold nothing any more, and
// removes those that ended long ago.
func (r Records) Drop(now stamp.Stamp, served int64) error {
	ended := r.DB.Exec("UPDATE arrivals SET ended_at = ?, state = ?, says = 'it was not heard of until its time was over' WHERE ended_at = 0 AND until_served <= ?", now, Stopped, served)
	if ended.Error != nil {
		return ended.Error
	}
	return errors.Join(
		r.DB.Exec("DELETE FROM arrival_places WHERE arrival_id IN (SELECT id FROM arrivals WHERE ended_at <> 0)").Error,
		r.DB.Exec("DELETE FROM arrivals WHERE ended_at <> 0 AND ended_at < ?", stamp.Of(now.Time().Add(-keptFor))).Error)
}
