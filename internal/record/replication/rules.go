// Package replication knows the rules by which images are copied to and from peers, what has
// to travel by them, and what both sides last agreed on.
package replication

import (
	"errors"

	"gorm.io/gorm"

	"warthesis/internal/record/stamp"
	"warthesis/internal/rule"
)

// MostRules is how many rules there are.
const MostRules = 200

var (
	// ErrNone: there is no such rule.
	ErrNone = errors.New("no such replication rule")
	// ErrTaken: there is a rule of that name.
	ErrTaken = errors.New("there is a replication rule of that name")
	// ErrMost: there are MostRules.
	ErrMost = errors.New("too many replication rules")
	// ErrChanged: the rule was changed since it was read.
	ErrChanged = errors.New("the replication rule was changed meanwhile")
)

// Rule is a rule as it is kept.
type Rule struct {
	ID     int64
	Name   string
	PeerID int64
	// Inward rules bring from the peer, others send to it.
	Inward bool
	Spec   rule.ReplicationText `gorm:"serializer:json"`
	// Globs and Repositories are what SQL can tell of the rule's patterns.
	Globs        []string `gorm:"serializer:json"`
	Repositories []string `gorm:"serializer:json"`
	Referrers    bool
	// AsPushed rules act on what becomes due at once, others on what was released.
	AsPushed bool
	Paused   bool
	// Version grows with each change of what the rule says.
	Version int64
	// RanAt is when what was due was last released, RanServed the same in served time.
	RanAt     stamp.Stamp
	RanServed int64
	MadeAt    stamp.Stamp
	MadeBy    int64
	ChangedAt stamp.Stamp
	ChangedBy int64
}

// TableName names the table.
func (Rule) TableName() string { return "replications" }

// Records are those of replication, in a change or as of the last commit.
type Records struct{ DB *gorm.DB }

// All returns all rules, by name.
func (r Records) All() (all []Rule, err error) {
	return all, r.DB.Order("name").Limit(MostRules).Find(&all).Error
}

// Get returns a rule by its name, or ErrNone.
func (r Records) Get(name string) (found Rule, err error) {
	rows := r.DB.Where("name = ?", name).Limit(1).Find(&found)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return found, ErrNone
	}
	return found, rows.Error
}

// By returns the names of the rules that copy to or from a peer.
func (r Records) By(peer int64) (names []string, err error) {
	return names, r.DB.Model(&Rule{}).Where("peer_id = ?", peer).Order("name").Pluck("name", &names).Error
}

// Make makes a rule. It fails with ErrTaken and ErrMost.
func (r Records) Make(made Rule) (Rule, error) {
	var count int64
	if err := r.DB.Model(&Rule{}).Count(&count).Error; err != nil {
		return made, err
	}
	if count >= MostRules {
		return made, ErrMost
	}
	switch _, err := r.Get(made.Name); {
	case err == nil:
		return made, ErrTaken
	case !errors.Is(err, ErrNone):
		return made, err
	}
	made.Version = 1
	return made, r.DB.Create(&made).Error
}

// Change writes what a rule says. It fails with ErrChanged where it is not of the version
// that was read any more.
func (r Records) Change(to Rule) error {
	next := to
	next.Version++
	done := r.DB.Model(&Rule{}).Where("id = ? AND version = ?", to.ID, to.Version).
		Select("PeerID", "Inward", "Spec", "Globs", "Repositories", "Referrers", "AsPushed", "Version", "ChangedAt", "ChangedBy").Updates(&next)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrChanged
	}
	return done.Error
}

// Pause stops a rule from acting, or lets it act again. What becomes due is marked meanwhile.
func (r Records) Pause(id int64, paused bool) error {
	return r.DB.Model(&Rule{}).Where("id = ?", id).Update("paused", paused).Error
}

// Remove removes a rule with all that is known of it. What it copied stays.
func (r Records) Remove(id int64) error {
	for _, table := range []string{"due", "replicas", "drifts", "flow_samples"} {
		if err := r.DB.Exec("DELETE FROM "+table+" WHERE rule_id = ?", id).Error; err != nil {
			return err
		}
	}
	return r.DB.Delete(&Rule{}, id).Error
}

// Forget drops what is due by a rule and what was agreed on: another peer, or other names,
// know nothing of it.
func (r Records) Forget(id int64) error {
	return errors.Join(r.DB.Exec("DELETE FROM due WHERE rule_id = ?", id).Error, r.DB.Exec("DELETE FROM replicas WHERE rule_id = ?", id).Error)
}

// Release lets a rule act on all that is due now, also on what was to wait.
func (r Records) Release(id int64, at stamp.Stamp, served int64) error {
	return errors.Join(
		r.DB.Exec("UPDATE due SET released = 1, not_before = 0, tries = 0, error = '' WHERE rule_id = ? AND state <> ?", id, Asks).Error,
		r.DB.Model(&Rule{}).Where("id = ?", id).Updates(map[string]any{"ran_at": at, "ran_served": served}).Error)
}
