package access

import (
	"context"
	"fmt"
	"sync"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// ledger gathers what is written in batches: refusals, and when grants and tokens
// were last used. A flood of refusals then costs no commit each, and a pull none.
type ledger struct {
	full chan struct{}

	mu    sync.Mutex
	lines []record.Event
	// unwritten counts the lines that found the ledger full.
	unwritten int64
	uses      map[useKey]record.Stamp
	noted     map[useKey]time.Time
	tokens    map[int64]record.TokenUse
}

type useKey struct {
	grant, account int64
	action         Action
}

const (
	// mostLines is how many lines wait to be written.
	mostLines = 4096
	// noteEvery is how often the use of a grant is noted anew.
	noteEvery = 10 * time.Minute
	// mostNoted bounds the memory of what was noted.
	mostNoted = 1 << 16
)

func newLedger() *ledger {
	return &ledger{full: make(chan struct{}, 1), uses: map[useKey]record.Stamp{}, noted: map[useKey]time.Time{}, tokens: map[int64]record.TokenUse{}}
}

// Refused notes a refusal for the audit log.
func (a *Access) Refused(e record.Event) {
	e.Kind, e.Verdict = record.EventRefused, record.VerdictRefused
	a.note(e)
}

// Pulled notes a pull for the audit log, where the namespace wants that.
func (a *Access) Pulled(ctx context.Context, c Caller, name oci.Name, tag oci.Tag, digest oci.Digest) {
	rights, err := a.records.Rights(ctx)
	if err != nil || !rights.Namespaces[name.Namespace()].LogPulls {
		return
	}
	e := c.repositoryEvent(record.EventPull, name)
	e.Tag, e.Digest, e.Verdict = tag, digest, record.VerdictDone
	a.note(e)
}

// note keeps a line of the audit log until it is written.
func (a *Access) note(e record.Event) {
	e.At = record.StampOf(a.clock.Now())
	l := a.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.lines) >= mostLines {
		l.unwritten++
		return
	}
	if l.lines = append(l.lines, e); len(l.lines) == mostLines/2 {
		select {
		case l.full <- struct{}{}:
		default:
		}
	}
}

// used notes that a grant gave a right.
func (a *Access) used(grant, account int64, action Action) {
	if grant == 0 {
		return
	}
	key := useKey{grant, account, action}
	now := a.clock.Now()
	l := a.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.noted[key]) < noteEvery && now.After(l.noted[key]) {
		return
	}
	if len(l.noted) >= mostNoted {
		clear(l.noted)
	}
	l.noted[key], l.uses[key] = now, record.StampOf(now)
}

// tokenUsed notes that a token was used.
func (a *Access) tokenUsed(id int64, address string) {
	l := a.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tokens[id] = record.TokenUse{TokenID: id, UsedAt: record.StampOf(a.clock.Now()), UsedFrom: address}
}

// take empties the ledger.
func (l *ledger) take() (lines []record.Event, unwritten int64, uses []record.Use, tokens []record.TokenUse) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, at := range l.uses {
		uses = append(uses, record.Use{GrantID: key.grant, AccountID: key.account, Action: string(key.action), UsedAt: at})
	}
	for _, use := range l.tokens {
		tokens = append(tokens, use)
	}
	lines, unwritten = l.lines, l.unwritten
	l.lines, l.unwritten = nil, 0
	clear(l.uses)
	clear(l.tokens)
	return lines, unwritten, uses, tokens
}

// flush writes what the ledger has.
func (a *Access) flush() error {
	lines, unwritten, uses, tokens := a.ledger.take()
	if len(lines)+len(uses)+len(tokens) == 0 {
		return nil
	}
	if unwritten > 0 {
		lines = append(lines, record.Event{Kind: record.EventRefused, Verdict: record.VerdictRefused,
			At: record.StampOf(a.clock.Now()), Detail: fmt.Sprintf("%d more lines came too fast to be written one by one", unwritten)})
	}
	return a.records.Update(context.Background(), func(tx *record.Tx) error {
		if err := tx.LogAll(lines); err != nil {
			return err
		}
		return tx.CountUses(uses, tokens)
	})
}
