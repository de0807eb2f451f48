package access

import (
	"warthesis/internal/access/crowd"
	"warthesis/internal/access/ledger"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Refused notes for the audit log that an action was refused.
func (a *Access) Refused(e record.Event, action Action) {
	if e.Account == "" {
		a.refusedNobody(e)
		return
	}
	e.Kind, e.Verdict = record.EventRefused, record.VerdictRefused
	a.note(ledger.Key{Owner: ledger.Owner{Name: e.Account}, Kind: e.Kind, Token: e.Token, Address: e.Address, Repository: e.Repository, What: e.Subject}, e, action)
}

// refusedNobody notes what was refused to somebody who did not say who it is, or
// did not prove it. The detail is one of a few: it is counted by that and by address.
func (a *Access) refusedNobody(e record.Event) {
	e.Kind, e.Verdict = record.EventRefused, record.VerdictRefused
	a.note(ledger.Key{Owner: ledger.Owner{Nobody: true, Name: crowd.Neighbourhood(e.Address)}, Kind: e.Kind, What: e.Detail}, e, "")
}

// Pulled notes a pull for the audit log, where the namespace wants that.
func (a *Access) Pulled(c Caller, name oci.Name, tag oci.Tag, digest oci.Digest) {
	if n, _ := a.records.Rights().Namespace(name.Namespace()); !n.LogPulls {
		return
	}
	e := c.RepositoryEvent(record.EventPull, name)
	e.Tag, e.Digest, e.Verdict = tag, digest, record.VerdictDone
	by := ledger.Owner{Name: c.Account.Name}
	if c.Nobody() {
		by = ledger.Owner{Nobody: true, Name: crowd.Neighbourhood(c.Address)}
	}
	a.note(ledger.Key{Owner: by, Kind: e.Kind, Token: e.Token, Address: e.Address, Repository: name, What: string(tag) + " " + string(digest)}, e, Pull)
}

// note counts a happening.
func (a *Access) note(key ledger.Key, e record.Event, action Action) {
	e.At = record.StampOf(a.clock.Now())
	if e.Repository != "" && e.NamespaceID == 0 {
		n, _ := a.records.Rights().Namespace(e.Repository.Namespace())
		e.NamespaceID = n.ID
	}
	rank := 0
	if action != "" {
		rank = roleFor(action).Rank()
	}
	a.ledger.Note(key, e, rank)
}

// used notes that a grant gave a right.
func (a *Access) used(grant, account int64, action Action) {
	if grant != 0 {
		a.ledger.Used(grant, account, string(action))
	}
}

// tokenUsed notes that a token was used.
func (a *Access) tokenUsed(id int64, address string) { a.ledger.TokenUsed(id, address) }

// flush writes what is due in the ledger, or everything.
func (a *Access) flush(all bool) error { return a.ledger.Flush(a.records, all) }
