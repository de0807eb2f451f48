package replication

import (
	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// DriftKind is how two registries differ about a tag.
type DriftKind string

// The kinds of drift.
const (
	Missing   DriftKind = "missing"
	Different DriftKind = "different"
	Extra     DriftKind = "extra"
)

// Drift is a tag about which two registries differ.
type Drift struct {
	ID         int64
	RuleID     int64
	Repository oci.Name
	Tag        oci.Tag
	// Target is what the tag is called on the side that it is copied to.
	Target string
	Kind   DriftKind
	// Here and There are what both sides have, "" for nothing.
	Here, There oci.Digest
}

// MostDrift is how many differences of a rule are kept; all are counted.
const MostDrift = 100_000

// AddDrift keeps what a comparison found.
func (r Records) AddDrift(all []Drift) error {
	if len(all) == 0 {
		return nil
	}
	return r.DB.CreateInBatches(all, 100).Error
}

// DropDrift forgets what the comparison before found.
func (r Records) DropDrift(rule int64) error {
	return r.DB.Exec("DELETE FROM drifts WHERE rule_id = ?", rule).Error
}

// Drifts returns a page of what the last comparison of a rule found.
func (r Records) Drifts(rule, after int64, limit int) (all []Drift, err error) {
	return all, r.DB.Where("rule_id = ? AND id > ?", rule, after).Order("id").Limit(limit).Find(&all).Error
}

// Sample is how a rule fared at a moment.
type Sample struct {
	RuleID int64
	At     stamp.Stamp
	// Lag is served time; Bytes and Images moved since the sample before.
	Lag                int64
	Due, Bytes, Images int64
}

// TableName names the table.
func (Sample) TableName() string { return "flow_samples" }

// AddSamples keeps how rules fared, and forgets what is older than a moment.
func (r Records) AddSamples(all []Sample, before stamp.Stamp) error {
	if len(all) > 0 {
		if err := r.DB.Create(&all).Error; err != nil {
			return err
		}
	}
	return r.DB.Exec("DELETE FROM flow_samples WHERE at < ?", before).Error
}

// Samples returns how a rule fared since a moment.
func (r Records) Samples(rule int64, since stamp.Stamp, limit int) (all []Sample, err error) {
	return all, r.DB.Where("rule_id = ? AND at > ?", rule, since).Order("at").Limit(limit).Find(&all).Error
}
