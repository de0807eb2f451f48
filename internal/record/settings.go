package record

import (
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Settings are those of the registry that are changed while it runs.
type Settings struct {
	// AccountsMakeNamespaces lets every person make namespaces, not admins alone.
	AccountsMakeNamespaces bool
	// PushMakesNamespaces lets a push by somebody who may make a namespace make it.
	PushMakesNamespaces bool
}

const (
	accountsMakeKey = "accounts_make_namespaces"
	pushMakesKey    = "push_makes_namespaces"
)

func loadSettings(db *gorm.DB) (Settings, error) {
	var rows []meta
	err := db.Where("key IN ?", []string{accountsMakeKey, pushMakesKey}).Find(&rows).Error
	s := Settings{PushMakesNamespaces: true}
	for _, row := range rows {
		switch row.Key {
		case accountsMakeKey:
			s.AccountsMakeNamespaces = row.Value == "true"
		case pushMakesKey:
			s.PushMakesNamespaces = row.Value == "true"
		}
	}
	return s, err
}

// SaveSettings records the registry's settings.
func (tx *Tx) SaveSettings(s Settings) error {
	tx.touched.settings = true
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create([]meta{
		{accountsMakeKey, fmt.Sprint(s.AccountsMakeNamespaces)}, {pushMakesKey, fmt.Sprint(s.PushMakesNamespaces)},
	}).Error
}
