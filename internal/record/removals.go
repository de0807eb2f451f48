package record

import (
	"warthesis/internal/record/arrivals"
	"warthesis/internal/record/diffids"
	"warthesis/internal/record/replication"
	"warthesis/internal/record/runs"
	"warthesis/internal/record/taglog"
)

// Actor is who does something, for the logs.
type Actor struct {
	// Account is 0 where nobody is logged in, and for the service itself.
	Account int64
	// Token is the name of the token by which the account came, "" for none.
	Token string
	// Origin is from where a change of a tag comes; the tag log has it.
	Origin Origin
	// Reason is why something is removed, "" where nobody said.
	Reason string
	// Run is the run that does it, 0 for none.
	Run int64
}

// Origin is from where a tag was moved.
type Origin = taglog.Origin

// RemovalKind is what a removal began with.
type RemovalKind string

// The kinds of removals.
const (
	RemovalOfTag        RemovalKind = "tag"
	RemovalOfManifest   RemovalKind = "manifest"
	RemovalOfBlob       RemovalKind = "blob"
	RemovalOfRepository RemovalKind = "repository"
	RemovalOfNamespace  RemovalKind = "namespace"
)

// Removal is one act of somebody with all that went by it: what went points to it.
type Removal struct {
	ID           int64
	Kind         RemovalKind
	NamespaceID  int64
	RepositoryID int64
	// Name is what the thing was called then: a tag, a digest, a repository, a namespace.
	Name      string
	RemovedAt Stamp
	// RemovedServed is served time in nanoseconds.
	RemovedServed int64
	RemovedBy     int64
	Token         string
	Reason        string
	// UndoneAt is 0 while the removal stands.
	UndoneAt Stamp
	UndoneBy int64
}

// BeginRemoval records a removal in a repository or, of a namespace, in a repository that has
// only the namespace's ID, and returns its ID; name says what goes.
func (tx *Tx) BeginRemoval(kind RemovalKind, in Repository, name string, by Actor) (id int64, err error) {
	return id, tx.db.Raw(`INSERT INTO removals (kind, namespace_id, repository_id, name, removed_at, removed_served, removed_by, token, reason, run_id)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`, kind, in.NamespaceID, in.ID, name, tx.Now(), tx.Served(), by.Account, by.Token, by.Reason, by.Run).Scan(&id).Error
}

// undo notes that a removal does not stand any more.
func (tx *Tx) undo(removal int64, by Actor) error {
	return tx.db.Model(&Removal{}).Where("id = ?", removal).Updates(map[string]any{"undone_at": tx.Now(), "undone_by": by.Account}).Error
}

// TagLog is the log of the tags of a repository.
func (v View) TagLog(repository int64) taglog.Log {
	return taglog.Log{DB: v.db, RepositoryID: repository}
}

// DiffIDs are the digests that layers have when they are unpacked.
func (v View) DiffIDs() diffids.IDs { return diffids.IDs{DB: v.db} }

// Runs are the runs.
func (v View) Runs() runs.Records { return runs.Records{DB: v.db} }

// Arrivals are what is carried in by list.
func (v View) Arrivals() arrivals.Records { return arrivals.Records{DB: v.db} }

// Replication are the rules by which images travel, and what is due by them.
func (v View) Replication() replication.Records { return replication.Records{DB: v.db} }
