package rulelists

import (
	"log/slog"
	"sync/atomic"

	"gorm.io/gorm"
)

// Known are the versions of the lists of places at a moment, so that they are not asked
// for with each tag that moves.
type Known struct{ versions map[Key]version }

// Load returns what is known from now on, until a list is changed.
func (l Lists) Load() (*Known, error) {
	var rows []List
	if err := l.DB.Select("id", "kind", "namespace_id", "repository_id", "version").Where("name = ''").Find(&rows).Error; err != nil {
		return nil, err
	}
	known := &Known{make(map[Key]version, len(rows))}
	for _, row := range rows {
		known.versions[row.Key] = version{row.ID, row.Version}
	}
	return known, nil
}

// Versions follow what is known of lists through changes. Readers may use it at any time;
// all else is the writer's alone.
type Versions struct {
	known   atomic.Pointer[Known]
	touched bool
}

// Seen is what somebody who reads or changes lists knows of them.
type Seen struct {
	Known func() *Known
	Touch func()
}

// Readers returns what readers know.
func (v *Versions) Readers() Seen {
	return Seen{v.known.Load, func() { panic("a list of rules was changed outside a change") }}
}

// Changes returns what changes know: what readers do, until one of their group has changed
// a list.
func (v *Versions) Changes() Seen {
	known := func() *Known {
		if v.touched {
			return nil
		}
		return v.known.Load()
	}
	return Seen{known, func() { v.touched = true }}
}

// Begin reads what is known at first.
func (v *Versions) Begin(db *gorm.DB) error {
	known, err := Lists{DB: db}.Load()
	v.known.Store(known)
	return err
}

// Follow follows a group of changes, once it is committed or not. Where that fails, lists
// are asked for each time.
func (v *Versions) Follow(db *gorm.DB) {
	if !v.touched {
		return
	}
	err := v.Begin(db)
	if err != nil {
		slog.Error("records: the lists of rules cannot be read again, and are asked for each time", "error", err)
	}
	v.touched = err != nil
}
