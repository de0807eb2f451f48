package record

import (
	"context"
	"errors"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// EventKind names what happened.
type EventKind string

// The kinds of events.
const (
	EventManifestPushed  EventKind = "manifest-pushed"
	EventManifestDeleted EventKind = "manifest-deleted"
	EventTagMoved        EventKind = "tag-moved"
	EventTagDeleted      EventKind = "tag-deleted"
	// EventTagAdded is a tag that was given to what is there, without a push;
	// EventTagMovedByHand one that was there already, or another one's new name.
	EventTagAdded       EventKind = "tag-added"
	EventTagMovedByHand EventKind = "tag-moved-by-hand"
	EventBlobDeleted    EventKind = "blob-deleted"
	EventPull           EventKind = "pull"
	// EventRefused is a request that a right refused; Detail says which was missing.
	EventRefused EventKind = "refused"

	EventLogin               EventKind = "login"
	EventLogout              EventKind = "logout"
	EventAccountMade         EventKind = "account-made"
	EventAccountChanged      EventKind = "account-changed"
	EventPasswordChanged     EventKind = "password-changed"
	EventGroupMade           EventKind = "group-made"
	EventGroupChanged        EventKind = "group-changed"
	EventGroupRemoved        EventKind = "group-removed"
	EventRoleGranted         EventKind = "role-granted"
	EventRoleTaken           EventKind = "role-taken"
	EventTokenMade           EventKind = "token-made"
	EventTokenRevoked        EventKind = "token-revoked"
	EventNamespaceMade       EventKind = "namespace-made"
	EventNamespaceChanged    EventKind = "namespace-changed"
	EventNamespaceRemoved    EventKind = "namespace-removed"
	EventNamespaceRestored   EventKind = "namespace-restored"
	EventRepositoryMade      EventKind = "repository-made"
	EventRepositoryChanged   EventKind = "repository-changed"
	EventRepositoryRemoved   EventKind = "repository-removed"
	EventRepositoryRestored  EventKind = "repository-restored"
	EventKeysRotated         EventKind = "keys-rotated"
	EventSettingsChanged     EventKind = "settings-changed"
	EventIdentityRuleMade    EventKind = "identity-rule-made"
	EventIdentityRuleRemoved EventKind = "identity-rule-removed"
	EventRunStopped          EventKind = "run-stopped"
	EventRemovalUndone       EventKind = "removal-undone"
	EventTagSealed           EventKind = "tag-sealed"
	EventTagUnsealed         EventKind = "tag-unsealed"
	// EventReservationReleased is a tag name that an owner took from whoever had reserved it.
	EventReservationReleased EventKind = "reservation-released"
	EventRulesSet            EventKind = "rules-set"
	EventRulesRemoved        EventKind = "rules-removed"
	// EventContentHurt is a file that was found not to be what it should be.
	EventContentHurt   EventKind = "content-hurt"
	EventContentMended EventKind = "content-mended"
	// EventRecordsDamaged is damage of the records that a check or a question found.
	EventRecordsDamaged EventKind = "records-damaged"
	EventErased         EventKind = "erased"
	EventBanLifted      EventKind = "ban-lifted"
	EventSweepAsked     EventKind = "sweep-asked"
	EventScrubAsked     EventKind = "scrub-asked"
	// EventRulesWait is a list that would take so much of a repository that it waits.
	EventRulesWait      EventKind = "rules-wait"
	EventRulesAct       EventKind = "rules-act"
	EventRetentionAsked EventKind = "retention-asked"
	EventInUseMade      EventKind = "in-use-made"
	EventInUseRefreshed EventKind = "in-use-refreshed"
	EventInUseRemoved   EventKind = "in-use-removed"
	EventQuotaSet       EventKind = "quota-set"
	// EventQuotaNearly is a quota of which more than four fifths are used.
	EventQuotaNearly EventKind = "quota-nearly-full"
	// EventWindowEnded is a removal whose restore window was ended early.
	EventWindowEnded    EventKind = "restore-window-ended"
	EventPeerMade       EventKind = "peer-made"
	EventPeerChanged    EventKind = "peer-changed"
	EventPeerRemoved    EventKind = "peer-removed"
	EventArrivalMade    EventKind = "arrival-made"
	EventArrivalStopped EventKind = "arrival-stopped"
	EventImportMade     EventKind = "import-made"
	EventImportRemoved  EventKind = "import-removed"
	// EventFollowSet is that a namespace follows peers, or none; EventFetched a manifest that
	// came from one.
	EventFollowSet EventKind = "follow-set"
	EventFetched   EventKind = "manifest-fetched"
	// EventPeerTag is a tag that somebody changed at a peer through this registry.
	EventPeerTag            EventKind = "peer-tag-changed"
	EventReplicationMade    EventKind = "replication-made"
	EventReplicationChanged EventKind = "replication-changed"
	EventReplicationRemoved EventKind = "replication-removed"
	EventReplicationRun     EventKind = "replication-run"
)

// Verdicts of the audit log.
const (
	VerdictDone    = "done"
	VerdictRefused = "refused"
)

// Event is one line of what happened. Events are only ever added.
type Event struct {
	ID         int64
	At         Stamp
	Kind       EventKind
	Repository oci.Name
	Tag        oci.Tag
	Digest     oci.Digest
	// Account is what the account was called, or what somebody called themselves;
	// AccountID is the account, 0 for none.
	Account   string
	AccountID int64
	Address   string
	Request   string
	// Token is the name of the token by which the account came, "" for none.
	Token string
	// Subject is on what it was done, where that is no repository: a namespace, an
	// account, a group, a token.
	Subject string
	// Detail says in words what was done, or which right was missing.
	Detail string
	// Verdict is VerdictDone or VerdictRefused.
	Verdict string
	// NamespaceID and RepositoryID are the places that the names meant; 0 for none.
	NamespaceID  int64
	RepositoryID int64
	// Open tells of a repository that came or went whether anybody could pull there.
	Open bool
}

// In sets the place of an event: a repository, whose name it has.
func (e Event) In(r Repository) Event {
	e.Repository, e.RepositoryID, e.NamespaceID = r.Name, r.ID, r.NamespaceID
	return e
}

// Log adds an event to the change; listeners hear of it once it is committed.
func (tx *Tx) Log(e Event) error {
	e.At = tx.Now()
	if e.Verdict == "" {
		e.Verdict = VerdictDone
	}
	if err := errors.Join(tx.place(&e), tx.name(&e)); err != nil {
		return err
	}
	// Every push writes some: as one statement it holds the writer half as long as by
	// way of the mapper.
	err := tx.db.Raw(`INSERT INTO events (at, kind, repository, tag, digest, account, account_id, address, request, token, subject, detail, verdict, namespace_id, repository_id, open)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		e.At, e.Kind, e.Repository, e.Tag, e.Digest, e.Account, e.AccountID, e.Address, e.Request, e.Token, e.Subject, e.Detail, e.Verdict, e.NamespaceID, e.RepositoryID, e.Open).
		Scan(&e.ID).Error
	if err != nil {
		return err
	}
	tx.events = append(tx.events, e)
	return nil
}

// name finds out which account an event's name is of, where nobody said.
func (tx *Tx) name(e *Event) error {
	if e.AccountID != 0 || e.Account == "" {
		return nil
	}
	if known, ok := tx.store.Rights().AccountNamed(e.Account); ok {
		e.AccountID = known.ID
		return nil
	}
	// One that this very change makes.
	made, err := tx.Account(e.Account)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	e.AccountID = made.ID
	return err
}

// place finds out what the names of an event mean now, where nobody said, and of a
// repository that comes or goes whether anybody may, or could, pull there.
func (tx *Tx) place(e *Event) error {
	if e.RepositoryID == 0 && e.Repository != "" {
		found, err := tx.Repository(e.Repository)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		e.RepositoryID, e.NamespaceID = found.ID, found.NamespaceID
	}
	switch e.Kind {
	case EventRepositoryMade, EventRepositoryRemoved, EventRepositoryRestored:
		return tx.db.Raw(`SELECT CASE visibility WHEN '' THEN (SELECT open FROM namespaces WHERE namespaces.id = namespace_id) ELSE visibility = 'open' END
			FROM repositories WHERE id = ?`, e.RepositoryID).Scan(&e.Open).Error
	}
	return nil
}

// Listen returns a channel of the events that are committed from now on, and a
// function that ends it. A listener that does not keep up loses events: the
// channel says that something happened, the records say what is.
func (s *Store) Listen() (<-chan Event, func()) { return s.feed.Listen() }

// EventFilter picks lines of the audit log. Zero fields pick all.
type EventFilter struct {
	// Account is a name: of the lines of the account that has it or, where none has,
	// of those of whoever called themselves so.
	Account string
	// Namespace is that of the lines; NamedAlike, where set, adds lines that were of
	// no place and name one that is called so.
	Namespace  int64
	NamedAlike string
	Repository oci.Name
	Kind       EventKind
	Verdict    string
	// From and Until bound the time: not before, and before.
	From, Until Stamp
	// Before is the ID of the last line of the page before.
	Before int64
	Limit  int
}

// Events returns lines of the audit log, the newest first.
func (s *Store) Events(ctx context.Context, f EventFilter) ([]Event, error) {
	query := s.read.WithContext(ctx).Order("id DESC").Limit(f.Limit)
	for condition, value := range map[string]any{
		"repository = ?": string(f.Repository), "kind = ?": string(f.Kind), "verdict = ?": f.Verdict,
	} {
		if value != "" {
			query = query.Where(condition, value)
		}
	}
	if f.Account != "" {
		query = s.by(query, f.Account)
	}
	switch {
	case f.NamedAlike != "":
		// '0' follows '/'.
		query = query.Where("(namespace_id = ? AND namespace_id <> 0 OR namespace_id = 0 AND (repository = ? OR repository >= ? AND repository < ? OR subject = ?))",
			f.Namespace, f.NamedAlike, f.NamedAlike+"/", f.NamedAlike+"0", "namespace "+f.NamedAlike)
	case f.Namespace != 0:
		query = query.Where("namespace_id = ?", f.Namespace)
	}
	if f.From != 0 {
		query = query.Where("at >= ?", f.From)
	}
	if f.Until != 0 {
		query = query.Where("at < ?", f.Until)
	}
	if f.Before != 0 {
		query = query.Where("id < ?", f.Before)
	}
	var rows []Event
	return rows, query.Find(&rows).Error
}

func (s *Store) by(query *gorm.DB, name string) *gorm.DB {
	if account, known := s.Rights().AccountNamed(name); known {
		return query.Where("account_id = ? AND account_id <> 0", account.ID)
	}
	return query.Where("account = ? AND account_id = 0 AND account <> ''", name)
}

// LogAll adds events that carry their own time; listeners do not hear of them.
func (tx *Tx) LogAll(events []Event) error {
	if len(events) == 0 {
		return nil
	}
	for i := range events {
		if err := tx.name(&events[i]); err != nil {
			return err
		}
	}
	return tx.db.CreateInBatches(&events, 100).Error
}

// Done is how often an account did something in a repository.
type Done struct {
	Repository oci.Name
	Kind       EventKind
	Times      int64
	LastAt     Stamp
}

// DoneBy returns what an account did in repositories since a moment, by repository as
// it is called now and by kind; in one namespace, or with 0 in all.
func (s *Store) DoneBy(ctx context.Context, account, namespace int64, since Stamp) ([]Done, error) {
	query := s.read.WithContext(ctx).Table("events").Select("repositories.name AS repository, events.kind, count(*) AS times, max(events.at) AS last_at").
		Joins("JOIN repositories ON repositories.id = events.repository_id").
		Where("events.account_id = ? AND events.account_id <> 0 AND events.at >= ? AND events.verdict = ?", account, since, VerdictDone).
		Group("events.repository_id, events.kind").Order("repositories.name, events.kind")
	if namespace != 0 {
		query = query.Where("events.namespace_id = ?", namespace)
	}
	var rows []Done
	return rows, query.Find(&rows).Error
}
