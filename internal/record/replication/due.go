package replication

import (
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// State is how it stands with something that is due.
type State int

// The states of what is due.
const (
	// Open: it travels as soon as it can.
	Open State = iota
	// Waits: it travels when something else is over, as a restore window.
	Waits
	// Conflicts: both sides moved the same tag.
	Conflicts
	// Asks: a removal would take so much that it waits for a word.
	Asks
)

// Due is something that has to travel: a tag, a digest (what refers to another manifest), a
// whole repository, or with no repository all that the rule means.
type Due struct {
	ID         int64
	RuleID     int64
	Repository oci.Name
	Tag        oci.Tag
	Digest     oci.Digest
	// Number grows with each mark of the same.
	Number int64
	State  State
	// Released tells that the rule acts on it.
	Released bool
	Forced   Force
	// MarkedAt and MarkedServed are of the oldest mark that was not followed, 0 where that
	// is not known.
	MarkedAt     stamp.Stamp
	MarkedServed int64
	// NotBefore is served time.
	NotBefore int64
	Tries     int
	// Error says in words why it did not travel, and what to do.
	Error string
	// Here and There are what both sides have, of a conflict.
	Here, There oci.Digest
}

// Force is what is done though it waited for a word.
type Force int

// What may be forced: Overwrites lets the other side get what is here, whatever it has;
// Removes lets a removal travel that would take much.
const (
	Overwrites Force = 1
	Removes    Force = 2
)

// TableName names the table.
func (Due) TableName() string { return "due" }

// Mark marks something as due.
func (r Records) Mark(d Due) error {
	d.ID, d.Number = 0, 1
	return r.DB.Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "rule_id"}, {Name: "repository"}, {Name: "tag"}, {Name: "digest"}},
		DoUpdates: clause.Assignments(map[string]any{
			"number": gorm.Expr("number + 1"), "not_before": 0, "tries": 0, "error": "", "state": Open,
			"released": gorm.Expr("max(released, excluded.released)"), "forced": gorm.Expr("iif(excluded.forced > 0, excluded.forced, forced)"),
		}),
	}).Create(&d).Error
}

// Next returns up to limit of what a rule acts on, behind a mark, the oldest first.
func (r Records) Next(rule, after, served int64, limit int) (all []Due, err error) {
	return all, r.DB.Where("rule_id = ? AND state IN ? AND released = 1 AND not_before <= ? AND id > ?", rule, []State{Open, Waits, Conflicts}, served, after).Order("id").Limit(limit).Find(&all).Error
}

// Done takes away a mark, unless it was made again since.
func (r Records) Done(d Due) error {
	return r.DB.Exec("DELETE FROM due WHERE id = ? AND number = ?", d.ID, d.Number).Error
}

// Put writes how it stands with what is due, unless it was marked again since.
func (r Records) Put(d Due) error {
	return r.DB.Model(&Due{}).Where("id = ? AND number = ?", d.ID, d.Number).
		Select("State", "NotBefore", "Tries", "Error", "Here", "There", "Forced").Updates(&d).Error
}

// Approve lets removals of a rule go that waited for a word.
func (r Records) Approve(rule int64) (count int64, err error) {
	done := r.DB.Exec("UPDATE due SET state = ?, forced = ?, released = 1, not_before = 0, error = '' WHERE rule_id = ? AND state = ?", Open, Removes, rule, Asks)
	return done.RowsAffected, done.Error
}

// Settle decides a conflict: the mark is followed, whatever the other side has.
func (r Records) Settle(rule int64, repository oci.Name, tag oci.Tag) (found bool, err error) {
	done := r.DB.Exec("UPDATE due SET state = ?, forced = ?, released = 1, not_before = 0, number = number + 1 WHERE rule_id = ? AND repository = ? AND tag = ? AND state = ?", Open, Overwrites, rule, repository, tag, Conflicts)
	return done.RowsAffected > 0, done.Error
}

// Filter says which marks are meant.
type Filter struct {
	RuleID int64
	// States keeps those in one of them, none those in all; Failed those that did not travel
	// when they were to.
	States []State
	Failed bool
	After  int64
	Limit  int
}

// List returns marks, the oldest first.
func (r Records) List(f Filter) (all []Due, err error) {
	query := r.DB.Where("rule_id = ? AND id > ?", f.RuleID, f.After)
	if len(f.States) > 0 {
		query = query.Where("state IN ?", f.States)
	}
	if f.Failed {
		query = query.Where("error <> ''")
	}
	return all, query.Order("id").Limit(f.Limit).Find(&all).Error
}

// Sums are how it stands with a rule.
type Sums struct {
	// Due are tags and digests that are to travel, Places the marks of whole places that are
	// not taken apart yet.
	Due, Places, Waits, Conflicts, Asks, Failing int64
	// Oldest is since when, in served time, the oldest of it has been due; 0 for nothing.
	Oldest int64
	// Bytes is how much the images have that are due, at most: what is there already is not
	// taken off.
	Bytes int64
	// Error is why the last try failed that did, "" for none.
	Error string
	// Copies are the tags that both sides agree on.
	Copies int64
}

// Of returns how it stands with a rule.
func (r Records) Of(rule int64) (s Sums, err error) {
	err = r.DB.Raw(`SELECT coalesce(sum(state = 0 AND (tag <> '' OR digest <> '')), 0) AS due, coalesce(sum(state = 0 AND tag = '' AND digest = ''), 0) AS places,
		coalesce(sum(state = 1), 0) AS waits, coalesce(sum(state = 2), 0) AS conflicts, coalesce(sum(state = 3), 0) AS asks, coalesce(sum(state = 0 AND error <> ''), 0) AS failing,
		coalesce(min(CASE WHEN state = 0 AND marked_served > 0 THEN marked_served END), 0) AS oldest FROM due WHERE rule_id = ?`, rule).Scan(&s).Error
	if err != nil {
		return s, err
	}
	if s.Due > 0 {
		if err := r.DB.Raw(`SELECT coalesce(sum(m.content_size), 0) FROM (SELECT repository, tag FROM due WHERE rule_id = ? AND state = 0 AND tag <> '' LIMIT 20000) AS d
			CROSS JOIN live_repositories AS repositories ON repositories.name = d.repository
			CROSS JOIN tags ON tags.repository_id = repositories.id AND tags.name = d.tag AND tags.removal_id = 0
			CROSS JOIN manifests AS m ON m.id = tags.manifest_id`, rule).Scan(&s.Bytes).Error; err != nil {
			return s, err
		}
	}
	if s.Failing > 0 {
		if err := r.DB.Raw("SELECT error FROM due WHERE rule_id = ? AND state = 0 AND error <> '' ORDER BY id LIMIT 1", rule).Scan(&s.Error).Error; err != nil {
			return s, err
		}
	}
	return s, r.DB.Raw("SELECT count(*) FROM replicas WHERE rule_id = ? AND removed_served = 0", rule).Scan(&s.Copies).Error
}
