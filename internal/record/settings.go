package record

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Settings are those of the registry that are changed while it runs.
type Settings struct {
	// AccountsMakeNamespaces lets every person make namespaces, not admins alone.
	AccountsMakeNamespaces bool
	// PushMakesNamespaces lets a push by somebody who may make a namespace make it.
	PushMakesNamespaces bool
	// RestoreWindow is for how long, in served time, removals can be undone.
	RestoreWindow time.Duration
	// ShortWindows lets windows below LeastWindow count: the configuration alone says so.
	ShortWindows bool
}

// LeastWindow is the shortest window, where short ones do not count.
const LeastWindow = time.Hour

// floor is what any window counts as at least.
func (s Settings) floor() time.Duration {
	if s.ShortWindows {
		return 0
	}
	return LeastWindow
}

// DefaultRestoreWindow is the restore window where nobody set one.
const DefaultRestoreWindow = 14 * 24 * time.Hour

const (
	accountsMakeKey = "accounts_make_namespaces"
	pushMakesKey    = "push_makes_namespaces"
	windowKey       = "restore_window"
	shortKey        = "short_windows"
)

func loadSettings(db *gorm.DB) (Settings, error) {
	var rows []meta
	err := db.Where("key IN ?", []string{accountsMakeKey, pushMakesKey, windowKey, shortKey}).Find(&rows).Error
	s := Settings{PushMakesNamespaces: true, RestoreWindow: DefaultRestoreWindow}
	for _, row := range rows {
		switch row.Key {
		case accountsMakeKey:
			s.AccountsMakeNamespaces = row.Value == "true"
		case pushMakesKey:
			s.PushMakesNamespaces = row.Value == "true"
		case shortKey:
			s.ShortWindows = row.Value == "true"
		case windowKey:
			span, wrong := time.ParseDuration(row.Value)
			if wrong != nil {
				return s, wrong
			}
			s.RestoreWindow = span
		}
	}
	return s, err
}

// SaveSettings records the registry's settings.
func (tx *Tx) SaveSettings(s Settings) error {
	tx.touched.settings = true
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create([]meta{
		{accountsMakeKey, fmt.Sprint(s.AccountsMakeNamespaces)}, {pushMakesKey, fmt.Sprint(s.PushMakesNamespaces)},
		{windowKey, s.RestoreWindow.String()}, {shortKey, fmt.Sprint(s.ShortWindows)},
	}).Error
}
