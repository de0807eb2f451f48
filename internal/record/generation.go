package record

import (
	"errors"
	"strconv"
)

// Keys of what the records know about themselves.
const (
	registryKey   = "registry"
	generationKey = "generation"
	olderKey      = "records_older"
)

// Generation returns the random name of the registry, "" for none yet, and the number of
// the generation that the records have.
func (v View) Generation() (registry string, number int64, err error) {
	if registry, err = v.meta(registryKey); err != nil {
		return "", 0, err
	}
	text, err := v.meta(generationKey)
	if err != nil || text == "" {
		return registry, 0, err
	}
	number, err = strconv.ParseInt(text, 10, 64)
	return registry, number, err
}

// SetGeneration records the generation.
func (tx *Tx) SetGeneration(registry string, number int64) error {
	return errors.Join(tx.setMeta(registryKey, registry), tx.setMeta(generationKey, strconv.FormatInt(number, 10)))
}

// Older returns why the records count as older than the files, "" where they don't.
func (v View) Older() (string, error) { return v.meta(olderKey) }

// SetOlder records why the records count as older than the files, "" that they don't any longer.
func (tx *Tx) SetOlder(why string) error {
	if why == "" {
		return tx.db.Where("key = ?", olderKey).Delete(&meta{}).Error
	}
	return tx.setMeta(olderKey, why)
}
