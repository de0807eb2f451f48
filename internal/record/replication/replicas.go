package replication

import (
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// Replica is what both sides last agreed on about a tag.
type Replica struct {
	RuleID     int64    `gorm:"primaryKey"`
	Repository oci.Name `gorm:"primaryKey"`
	Tag        oci.Tag  `gorm:"primaryKey"`
	// Target is what the tag is called on the side that it is copied to, REPOSITORY:TAG.
	Target string
	Digest oci.Digest
	// Put tells that the rule put it there, and did not find it.
	Put      bool
	AgreedAt stamp.Stamp
	// RemovedServed is when, in served time, the rule removed it there; 0 while it stands.
	RemovedServed int64
}

// Replica returns what was agreed on about a tag, the zero value for nothing.
func (r Records) Replica(rule int64, repository oci.Name, tag oci.Tag) (found Replica, err error) {
	return found, r.DB.Where("rule_id = ? AND repository = ? AND tag = ? AND removed_served = 0", rule, repository, tag).Limit(1).Find(&found).Error
}

// Agree notes what both sides agree on.
func (r Records) Agree(is Replica) error {
	return r.DB.Clauses(clause.OnConflict{UpdateAll: true}).Create(&is).Error
}

// Removed notes that a rule removed a tag that it put there.
func (r Records) Removed(is Replica, served int64) error {
	return r.DB.Model(&Replica{}).Where("rule_id = ? AND repository = ? AND tag = ?", is.RuleID, is.Repository, is.Tag).Update("removed_served", served).Error
}

// ForgetReplica drops what was agreed on about a tag.
func (r Records) ForgetReplica(rule int64, repository oci.Name, tag oci.Tag) error {
	return r.DB.Exec("DELETE FROM replicas WHERE rule_id = ? AND repository = ? AND tag = ?", rule, repository, tag).Error
}

// Replicas returns up to limit of what stands of a rule in a repository, behind a tag, in
// order.
func (r Records) Replicas(rule int64, repository oci.Name, after oci.Tag, limit int) (all []Replica, err error) {
	return all, r.DB.Where("rule_id = ? AND repository = ? AND tag > ? AND removed_served = 0", rule, repository, after).Order("tag").Limit(limit).Find(&all).Error
}

// Repositories returns the repositories behind one of which something was agreed on.
func (r Records) Repositories(rule int64, after oci.Name, limit int) (names []oci.Name, err error) {
	return names, r.DB.Raw("SELECT DISTINCT repository FROM replicas WHERE rule_id = ? AND repository > ? AND removed_served = 0 ORDER BY repository LIMIT ?", rule, after, limit).Scan(&names).Error
}

// Share is how much of a repository goes by removals.
type Share struct {
	// Stand are the tags that a rule keeps there, Gone those that it removed since a moment,
	// Asked those whose removal is due.
	Stand, Gone, Asked int64
}

// Share returns how much of a repository goes by the removals of a rule, counted from a moment
// of served time.
func (r Records) Share(rule int64, repository oci.Name, since int64) (s Share, err error) {
	return s, r.DB.Raw(`SELECT coalesce(sum(p.removed_served = 0), 0) AS stand, coalesce(sum(p.removed_served > max(0, ?)), 0) AS gone,
		coalesce(sum(p.removed_served = 0 AND d.id IS NOT NULL AND NOT EXISTS (SELECT 1 FROM live_repositories AS r CROSS JOIN tags ON tags.repository_id = r.id AND tags.name = p.tag AND tags.removal_id = 0 WHERE r.name = p.repository)), 0) AS asked
		FROM replicas AS p LEFT JOIN due AS d ON d.rule_id = p.rule_id AND d.repository = p.repository AND d.tag = p.tag AND d.digest = ''
		WHERE p.rule_id = ? AND p.repository = ?`, since, rule, repository).Scan(&s).Error
}

// DropRemoved forgets what rules removed before a moment of served time.
func (r Records) DropRemoved(before int64) error {
	return r.DB.Exec("DELETE FROM replicas WHERE removed_served > 0 AND removed_served < ?", before).Error
}

// Had reports whether a tag of a repository pointed to a digest since it last pointed to
// another one, or with "" ever.
func (r Records) Had(repository oci.Name, tag oci.Tag, digest, since oci.Digest) (had bool, err error) {
	return had, r.DB.Raw(`SELECT EXISTS (SELECT 1 FROM live_repositories AS r CROSS JOIN tag_moves AS m ON m.repository_id = r.id AND m.tag = @tag
		WHERE r.name = @repository AND m.to_id = (SELECT id FROM contents WHERE digest = @digest) AND m.id > coalesce((SELECT max(b.id) FROM tag_moves AS b
			WHERE b.repository_id = r.id AND b.tag = @tag AND b.to_id = (SELECT id FROM contents WHERE digest = @since)), 0))`,
		map[string]any{"tag": tag, "repository": repository, "digest": digest, "since": since}).Scan(&had).Error
}

// Came reports whether what a tag of a repository points to now came from somewhere.
func (r Records) Came(repository oci.Name, tag oci.Tag, origin string) (came bool, err error) {
	return came, r.DB.Raw(`SELECT coalesce((SELECT m.origin = ? FROM live_repositories AS r CROSS JOIN tag_moves AS m ON m.repository_id = r.id AND m.tag = ?
		WHERE r.name = ? ORDER BY m.id DESC LIMIT 1), 0)`, origin, tag, repository).Scan(&came).Error
}

// Removal is that by which a tag went.
type Removal struct {
	ID            int64
	RemovedServed int64
	// Over tells that it cannot be undone any more.
	Over bool
	// Window is the restore window of the namespace, 0 for that of the registry.
	Window int64
}

// RemovalOf returns the last removal by which a tag went: its own, or that of its repository
// or namespace. It reports false where there was none.
func (r Records) RemovalOf(repository oci.Name, tag oci.Tag) (found Removal, was bool, err error) {
	rows := r.DB.Raw(`SELECT removals.id, removals.removed_served, removals.over_at <> 0 AS over, n.restore_window AS "window"
		FROM repositories AS r CROSS JOIN namespaces AS n ON n.id = r.namespace_id
		CROSS JOIN removals ON removals.undone_at = 0 AND removals.id IN (r.removal_id, n.removal_id, (SELECT max(tags.removal_id) FROM tags WHERE tags.repository_id = r.id AND tags.name = ?)) AND removals.id <> 0
		WHERE r.name = ? ORDER BY removals.id DESC LIMIT 1`, tag, repository).Scan(&found)
	return found, rows.RowsAffected > 0, rows.Error
}

// ByID returns a rule by its number, or ErrNone.
func (r Records) ByID(id int64) (found Rule, err error) {
	rows := r.DB.Where("id = ?", id).Limit(1).Find(&found)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return found, ErrNone
	}
	return found, rows.Error
}

// Sources returns the repositories of a peer from which a rule brought tags of a repository.
func (r Records) Sources(rule int64, target oci.Name) (names []oci.Name, err error) {
	return names, r.DB.Raw("SELECT DISTINCT repository FROM replicas WHERE rule_id = ? AND removed_served = 0 AND substr(target, 1, instr(target, ':') - 1) = ? LIMIT 100", rule, target).Scan(&names).Error
}
