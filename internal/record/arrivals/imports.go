package arrivals

import (
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// What is brought in: a repository of the peer under a name here, or all that a pattern
// matches.
type What struct {
	From oci.Name `json:"from,omitempty"`
	To   oci.Name `json:"to,omitempty"`
	// Pattern stands in place of From and To.
	Pattern string `json:"pattern,omitempty"`
}

// Import is what is brought in from a peer, once or to be repeated.
type Importing struct {
	ID     int64
	Name   string
	PeerID int64
	What   []What `gorm:"serializer:json"`
	// Prefix stands before the names here of what a pattern matches, "" for none.
	Prefix      oci.Name
	NoReferrers bool
	// Overwrites tells that tags are moved too that somebody moved here.
	Overwrites bool
	// RunWhen is when it runs by itself, "" for by hand.
	RunWhen   string
	MadeAt    stamp.Stamp
	MadeBy    int64
	RanAt     stamp.Stamp
	RanServed int64
	// Report is what came of the last run, as JSON; lists leave it out.
	Report []byte
}

// TableName is the table of imports.
func (Importing) TableName() string { return "imports" }

// MostImports is how many imports are kept, MostWhat how much one of them names.
const (
	MostImports = 500
	MostWhat    = 10_000
)

var (
	// ErrNoImport: there is no such import.
	ErrNoImport = errors.New("no such import")
	// ErrImportTaken: there is an import of that name.
	ErrImportTaken = errors.New("there is an import of that name")
)

// MakeImport keeps an import. It fails with ErrImportTaken and ErrMost.
func (r Records) MakeImport(i Importing) (Importing, error) {
	var row struct{ All, Taken int64 }
	if err := r.DB.Raw("SELECT count(*) AS \"all\", count(*) FILTER (WHERE name = ?) AS taken FROM imports", i.Name).Scan(&row).Error; err != nil {
		return i, err
	}
	switch {
	case row.Taken > 0:
		return i, ErrImportTaken
	case row.All >= MostImports:
		return i, ErrMost
	}
	return i, r.DB.Create(&i).Error
}

// GetImport returns an import with its report, or ErrNoImport.
func (r Records) GetImport(name string) (i Importing, err error) {
	rows := r.DB.Where("name = ?", name).Limit(1).Find(&i)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return i, ErrNoImport
	}
	return i, rows.Error
}

// Imports returns all imports, by name, without their reports.
func (r Records) Imports() (all []Importing, err error) {
	return all, r.DB.Omit("report").Order("name").Limit(MostImports).Find(&all).Error
}

// ImportsOf returns the names of the imports from a peer.
func (r Records) ImportsOf(peer int64) (names []string, err error) {
	return names, r.DB.Raw("SELECT name FROM imports WHERE peer_id = ? ORDER BY name", peer).Scan(&names).Error
}

// Ran notes that an import began to run; Reported what came of it.
func (r Records) Ran(id int64, now stamp.Stamp, served int64) error {
	return r.DB.Exec("UPDATE imports SET ran_at = ?, ran_served = ? WHERE id = ?", now, served, id).Error
}

// Reported notes what came of an import.
func (r Records) Reported(id int64, report []byte) error {
	return r.DB.Exec("UPDATE imports SET report = ? WHERE id = ?", report, id).Error
}

// RemoveImport removes an import; what it brought stays. It fails with ErrNoImport.
func (r Records) RemoveImport(name string) error {
	done := r.DB.Exec("DELETE FROM imports WHERE name = ?", name)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNoImport
	}
	return done.Error
}
