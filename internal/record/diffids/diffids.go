// Package diffids knows the digests that layers have when they are unpacked, as the configs
// of images tell them (image-spec, "Image Configuration", rootfs).
package diffids

import (
	"encoding/json"
	"strconv"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// Most is how many of one config are kept.
const Most = 1000

// IDs are those of all configs, in a change or as of the last commit.
type IDs struct{ DB *gorm.DB }

// Keep keeps those of a config that a repository has, where none are yet.
func (d IDs) Keep(repository int64, config oci.Digest, ids []oci.Digest) error {
	if len(ids) == 0 {
		return nil
	}
	var there int64
	if err := d.DB.Raw("SELECT count(*) FROM diff_ids WHERE repository_id = ? AND config_id = (SELECT id FROM contents WHERE digest = ?) AND position = 0", repository, config).Scan(&there).Error; err != nil || there > 0 {
		return err
	}
	raw, err := json.Marshal(ids[:min(len(ids), Most)])
	if err != nil {
		return err
	}
	all := string(raw)
	if err := d.DB.Exec("INSERT OR IGNORE INTO contents (digest) SELECT value FROM json_each(?)", all).Error; err != nil {
		return err
	}
	return d.DB.Exec(`INSERT OR IGNORE INTO diff_ids (repository_id, config_id, position, content_id)
		SELECT ?, config.id, key, contents.id FROM json_each(?) CROSS JOIN contents ON contents.digest = value CROSS JOIN contents AS config ON config.digest = ?`, repository, all, config).Error
}

// Config is the config of a manifest of before these digests were kept.
type Config struct {
	ManifestID   int64
	RepositoryID int64
	Digest       oci.Digest
	MediaType    string
	Size         int64
}

const (
	readKey   = "configs_read"
	toReadKey = "configs_to_read"
)

// ToRead returns up to limit configs that are to be read still, in the order of their
// manifests, and up to which manifest they are.
func (d IDs) ToRead(limit int) (configs []Config, upTo int64, err error) {
	var at struct{ Done, Until int64 }
	if err := d.DB.Raw(`SELECT (SELECT CAST(value AS INTEGER) FROM meta WHERE key = ?) AS done, (SELECT CAST(value AS INTEGER) FROM meta WHERE key = ?) AS until`,
		readKey, toReadKey).Scan(&at).Error; err != nil || at.Done >= at.Until {
		return nil, 0, err
	}
	err = d.DB.Raw(`SELECT edges.manifest_id, edges.repository_id, contents.digest, media_types.name AS media_type, edges.size FROM edges
		JOIN contents ON contents.id = edges.content_id JOIN media_types ON media_types.id = edges.media_type_id
		WHERE edges.manifest_id > ? AND edges.manifest_id <= ? AND edges.relation = 1 ORDER BY edges.manifest_id LIMIT ?`, at.Done, at.Until, limit).Scan(&configs).Error
	if upTo = at.Until; len(configs) == limit {
		upTo = configs[limit-1].ManifestID
	}
	return configs, upTo, err
}

// Done notes up to which manifest the configs are read.
func (d IDs) Done(upTo int64) error {
	return d.DB.Exec("UPDATE meta SET value = ? WHERE key = ?", strconv.FormatInt(upTo, 10), readKey).Error
}
