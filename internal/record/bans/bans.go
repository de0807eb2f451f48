// Package bans knows which digests must not be here any more.
package bans

import (
	"encoding/json"
	"errors"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// Ban keeps the bytes of a digest out of a namespace or, without one, of the registry.
type Ban struct {
	ID     int64
	Digest oci.Digest
	// Twin is the digest of the same bytes by the other algorithm, "" where they were not
	// here to be read.
	Twin oci.Digest
	// Unpacked is the SHA-256 digest of a layer without its compression, "" where it was not
	// here or is no layer; UnpackedSize is its length in bytes.
	Unpacked     oci.Digest
	UnpackedSize int64
	NamespaceID  int64
	// Size is in bytes, 0 where it is not known.
	Size     int64
	Reason   string
	BannedAt stamp.Stamp
	BannedBy int64
	// LiftedAt is 0 while the ban holds.
	LiftedAt stamp.Stamp
	LiftedBy int64
	// Namespace is what that is called now, "" for the registry.
	Namespace string `gorm:"->"`
}

// TableName names the table.
func (Ban) TableName() string { return "bans" }

// Bans are those of a registry, in a change or as of the last commit.
type Bans struct{ DB *gorm.DB }

// ErrNone: there is no such ban that holds.
var ErrNone = errors.New("no such ban")

// hold is the condition that a ban holds in a namespace.
const hold = "lifted_at = 0 AND namespace_id IN (0, ?)"

// Refusal is an error, with oci.CodeDenied, that says that something is kept out by a ban.
type Refusal struct {
	// Digest is what is kept out.
	Digest oci.Digest
	says   *oci.Error
}

func (r Refusal) Error() string { return r.says.Error() }

// Unwrap returns what it says.
func (r Refusal) Unwrap() error { return r.says }

// Check fails, with a Refusal, where one of the digests is banned in a namespace or,
// with 0, in the whole registry.
func (b Bans) Check(namespace int64, digests ...oci.Digest) error {
	var any bool
	if err := b.DB.Raw("SELECT EXISTS (SELECT 1 FROM bans WHERE lifted_at = 0)").Scan(&any).Error; err != nil || !any {
		return err
	}
	raw, err := json.Marshal(digests)
	if err != nil {
		return err
	}
	var found Ban
	err = b.DB.Raw(`SELECT bans.*, value AS digest, coalesce((SELECT name FROM namespaces WHERE id = namespace_id), '') AS namespace FROM json_each(?) CROSS JOIN bans ON bans.digest = value WHERE `+hold+
		` UNION ALL SELECT bans.*, value, coalesce((SELECT name FROM namespaces WHERE id = namespace_id), '') FROM json_each(?) CROSS JOIN bans ON bans.twin = value AND bans.twin <> '' WHERE `+hold+` LIMIT 1`,
		string(raw), namespace, string(raw), namespace).Scan(&found).Error
	if err != nil || found.ID == 0 {
		return err
	}
	return found.refusal()
}

// CheckUnpacked fails, with a Refusal, where a layer is banned, however it is compressed, by
// what it unpacks to.
func (b Bans) CheckUnpacked(namespace int64, unpacked ...oci.Digest) error {
	if len(unpacked) == 0 {
		return nil
	}
	raw, err := json.Marshal(unpacked)
	if err != nil {
		return err
	}
	var found Ban
	err = b.DB.Raw(`SELECT bans.*, value AS digest, coalesce((SELECT name FROM namespaces WHERE id = namespace_id), '') AS namespace
		FROM json_each(?) CROSS JOIN bans ON bans.unpacked = value AND bans.unpacked <> '' WHERE `+hold+` LIMIT 1`, string(raw), namespace).Scan(&found).Error
	if err != nil || found.ID == 0 {
		return err
	}
	return found.refusal()
}

// MostUnpacked returns the size in bytes of the largest layer that is banned in a namespace by
// what it unpacks to, below 0 for none.
func (b Bans) MostUnpacked(namespace int64) (size int64, err error) {
	return size, b.DB.Raw("SELECT coalesce(max(unpacked_size), -1) FROM bans WHERE unpacked <> '' AND "+hold, namespace).Scan(&size).Error
}

// Everywhere returns up to limit digests that are banned in the whole registry, behind an ID,
// with their twins.
func (b Bans) Everywhere(after int64, limit int) (rows []Ban, err error) {
	return rows, b.DB.Raw("SELECT * FROM bans WHERE lifted_at = 0 AND namespace_id = 0 AND id > ? ORDER BY id LIMIT ?", after, limit).Scan(&rows).Error
}

// CheckRepository is Check of all that a repository has, for a namespace that it is to be
// in.
func (b Bans) CheckRepository(repository, namespace int64) error {
	var found Ban
	const has = `JOIN contents ON contents.digest IN (bans.digest, bans.twin) WHERE bans.lifted_at = 0 AND bans.namespace_id = ?
		AND (EXISTS (SELECT 1 FROM holdings WHERE holdings.repository_id = ? AND holdings.content_id = contents.id)
			OR EXISTS (SELECT 1 FROM manifests WHERE manifests.repository_id = ? AND manifests.content_id = contents.id)) LIMIT 1`
	err := b.DB.Raw("SELECT bans.*, (SELECT name FROM namespaces WHERE id = bans.namespace_id) AS namespace FROM bans "+has, namespace, repository, repository).Scan(&found).Error
	if err != nil || found.ID == 0 {
		return err
	}
	return found.refusal()
}

func (b Ban) refusal() error {
	where := "this registry"
	if b.NamespaceID != 0 {
		where = "the namespace " + b.Namespace
	}
	return Refusal{b.Digest, oci.Errorf(oci.CodeDenied, "%s was erased from %s on %s, and is kept out: %s; leave out what has it, or have the ban lifted", b.Digest, where, b.BannedAt.Time().Format("2006-01-02"), b.Reason)}
}

// HasUnpaired reports whether bans hold in a namespace of which the bytes are not known:
// what comes has to be looked at by both algorithms then.
func (b Bans) HasUnpaired(namespace int64) (has bool, err error) {
	return has, b.DB.Raw("SELECT EXISTS (SELECT 1 FROM bans WHERE twin = '' AND "+hold+")", namespace).Scan(&has).Error
}

// Add makes a ban, or returns the one that holds already.
func (b Bans) Add(ban Ban) (Ban, error) {
	var there Ban
	found := b.DB.Raw("SELECT * FROM bans WHERE digest = ? AND namespace_id = ? AND lifted_at = 0", ban.Digest, ban.NamespaceID).Scan(&there)
	if found.Error != nil || found.RowsAffected > 0 {
		if found.Error == nil && there.Twin == "" && ban.Twin != "" {
			there.Twin, there.Size, there.Unpacked, there.UnpackedSize = ban.Twin, ban.Size, ban.Unpacked, ban.UnpackedSize
			return there, b.DB.Exec("UPDATE bans SET twin = ?, size = ?, unpacked = ?, unpacked_size = ? WHERE id = ?", there.Twin, there.Size, there.Unpacked, there.UnpackedSize, there.ID).Error
		}
		return there, found.Error
	}
	return ban, b.DB.Create(&ban).Error
}

// Get returns a ban, or ErrNone.
func (b Bans) Get(id int64) (ban Ban, err error) {
	found := b.rows().Where("bans.id = ?", id).Scan(&ban)
	if found.Error == nil && found.RowsAffected == 0 {
		return ban, ErrNone
	}
	return ban, found.Error
}

// Lift ends a ban. It fails with ErrNone where it does not hold.
func (b Bans) Lift(id int64, now stamp.Stamp, by int64) error {
	done := b.DB.Exec("UPDATE bans SET lifted_at = ?, lifted_by = ? WHERE id = ? AND lifted_at = 0", now, by, id)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNone
	}
	return done.Error
}

func (b Bans) rows() *gorm.DB {
	return b.DB.Table("bans").Select("bans.*, coalesce(namespaces.name, '') AS namespace").Joins("LEFT JOIN namespaces ON namespaces.id = bans.namespace_id")
}

// List returns up to limit bans before one or with 0 from the end, the last first: those
// of a namespace or, with 0, all, and with lifted also those that do not hold any more.
func (b Bans) List(namespace int64, lifted bool, before int64, limit int) (rows []Ban, err error) {
	query := b.rows()
	if namespace != 0 {
		query = query.Where("bans.namespace_id = ?", namespace)
	}
	if !lifted {
		query = query.Where("bans.lifted_at = 0")
	}
	if before != 0 {
		query = query.Where("bans.id < ?", before)
	}
	return rows, query.Order("bans.id DESC").Limit(limit).Scan(&rows).Error
}
