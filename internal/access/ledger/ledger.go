// Package ledger gathers what is written in batches: refusals, pulls where a namespace
// wants them, and when grants and tokens were last used. What somebody does again and
// again is one line with a count, so that nobody fills the disk by asking.
package ledger

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Ledger gathers what is to be written. It is safe for concurrent use.
type Ledger struct {
	clock clock.Clock

	mu    sync.Mutex
	lines map[Key]*line
	// of counts the lines by whom they are about, nobody's by address.
	of map[Owner]int
	// others counts what found no room.
	others map[bool]int64
	// late are lines that could not be written.
	late   []record.Event
	uses   map[useKey]record.Stamp
	noted  map[useKey]time.Time
	tokens map[int64]record.TokenUse
}

// Owner is whom lines are about: an account, or nobody at an address.
type Owner struct {
	Nobody bool
	Name   string
}

// Key is what makes two happenings one line.
type Key struct {
	Owner
	Kind           record.EventKind
	Token, Address string
	Repository     oci.Name
	What           string
}

// line is what happened under a key since it was last written.
type line struct {
	event record.Event
	// rank is how high what the event is about stands: of several that were refused,
	// the highest is told.
	rank  int
	count int64
	// names are those that were claimed.
	names []string
	// due is the served time at which it is written.
	due time.Duration
	// again tells that one like it was written already.
	again bool
}

type useKey struct {
	grant, account int64
	action         string
}

const (
	// Settles is how long a line waits for others that belong to it: one push that is
	// refused asks several times.
	Settles = 2 * time.Second
	// accountEvery and NobodyEvery are how often the same is written anew.
	accountEvery = time.Minute
	NobodyEvery  = 10 * time.Minute
	// mostLines is how many lines wait or are counted of one account, MostNobodyLines
	// of one address without a login, MostOwners of how many there are any, and
	// mostInAll how many there are.
	mostLines       = 4096
	MostNobodyLines = 256
	MostOwners      = 2048
	mostInAll       = 1 << 16
	// mostLate bounds what is kept of what could not be written.
	mostLate = 8192
	// mostNames is how many of the names that somebody tried are told.
	mostNames = 5
	// noteEvery is how often the use of a grant is noted anew.
	noteEvery = 10 * time.Minute
	// mostNoted bounds the memory of what was noted.
	mostNoted = 1 << 16
)

// New returns an empty ledger.
func New(clk clock.Clock) *Ledger {
	return &Ledger{
		clock: clk, lines: map[Key]*line{}, of: map[Owner]int{}, others: map[bool]int64{},
		uses: map[useKey]record.Stamp{}, noted: map[useKey]time.Time{}, tokens: map[int64]record.TokenUse{},
	}
}

// Note counts a happening; of several that make one line the one of the highest rank
// is told.
func (l *Ledger) Note(key Key, e record.Event, rank int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	found := l.lines[key]
	if found == nil {
		if !l.hasRoom(key.Owner) {
			l.others[key.Nobody]++
			return
		}
		l.of[key.Owner]++
		found = &line{event: e, rank: rank, due: l.clock.Served() + Settles}
		l.lines[key] = found
	}
	if found.count == 0 || rank > found.rank {
		found.event, found.rank = e, rank
	}
	found.count++
	if key.Nobody && e.Account != "" && len(found.names) <= mostNames && !slices.Contains(found.names, e.Account) {
		found.names = append(found.names, e.Account)
	}
}

func (l *Ledger) hasRoom(by Owner) bool {
	has := l.of[by]
	switch {
	case len(l.lines) >= mostInAll:
		return false
	case has == 0:
		return len(l.of) < MostOwners
	case by.Nobody:
		return has < MostNobodyLines
	}
	return has < mostLines
}

// due takes the lines whose time has come, or all of them, as they are written.
func (l *Ledger) due(all bool) []record.Event {
	now := l.clock.Served()
	lines := l.late
	l.late = nil
	for key, found := range l.lines {
		if !all && found.due > now {
			continue
		}
		if found.count == 0 {
			l.of[key.Owner]--
			if l.of[key.Owner] == 0 {
				delete(l.of, key.Owner)
			}
			delete(l.lines, key)
			continue
		}
		lines = append(lines, found.written())
		found.count, found.names, found.again = 0, nil, true
		found.due = now + accountEvery
		if key.Nobody {
			found.due = now + NobodyEvery
		}
	}
	for nobody, count := range l.others {
		who := "accounts"
		if nobody {
			who = "addresses without a login"
		}
		lines = append(lines, record.Event{Kind: record.EventRefused, Verdict: record.VerdictRefused, At: record.StampOf(l.clock.Now()),
			Detail: fmt.Sprintf("%d more lines of %s came too fast to be told one by one", count, who)})
	}
	clear(l.others)
	slices.SortStableFunc(lines, func(a, b record.Event) int { return cmp.Compare(a.At, b.At) })
	return lines
}

// written is the line as it stands in the audit log.
func (n *line) written() record.Event {
	e := n.event
	switch {
	case len(n.names) > mostNames:
		e.Account, e.Detail = "", fmt.Sprintf("%s; for %s and others", e.Detail, strings.Join(n.names[:mostNames], ", "))
	case len(n.names) > 1:
		e.Account, e.Detail = "", fmt.Sprintf("%s; for %s", e.Detail, strings.Join(n.names, ", "))
	}
	switch {
	case n.again:
		e.Detail = strings.TrimSpace(fmt.Sprintf("%s (%d more of the same)", e.Detail, n.count))
	case n.count > 1:
		e.Detail = strings.TrimSpace(fmt.Sprintf("%s (%d requests)", e.Detail, n.count))
	}
	return e
}

// Used notes that a grant gave a right.
func (l *Ledger) Used(grant, account int64, action string) {
	key := useKey{grant, account, action}
	now := l.clock.Now()
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

// TokenUsed notes that a token was used.
func (l *Ledger) TokenUsed(id int64, address string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tokens[id] = record.TokenUse{TokenID: id, UsedAt: record.StampOf(l.clock.Now()), UsedFrom: address}
}

// take takes what is due, or everything.
func (l *Ledger) take(all bool) (lines []record.Event, uses []record.Use, tokens []record.TokenUse) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, at := range l.uses {
		uses = append(uses, record.Use{GrantID: key.grant, AccountID: key.account, Action: key.action, UsedAt: at})
	}
	for _, use := range l.tokens {
		tokens = append(tokens, use)
	}
	clear(l.uses)
	clear(l.tokens)
	return l.due(all), uses, tokens
}

// usesAtOnce is how many uses one change records, so that others get through.
const usesAtOnce = 200

// Flush writes what is due, or everything.
func (l *Ledger) Flush(records *record.Store, all bool) error {
	lines, uses, tokens := l.take(all)
	for len(lines)+len(uses)+len(tokens) > 0 {
		nextLines, nextUses, nextTokens := lines[:min(len(lines), usesAtOnce)], uses[:min(len(uses), usesAtOnce)], tokens[:min(len(tokens), usesAtOnce)]
		err := records.Update(context.Background(), "uses", func(tx *record.Tx) error {
			if err := tx.LogAll(nextLines); err != nil {
				return err
			}
			return tx.CountUses(nextUses, nextTokens)
		})
		if err != nil {
			l.keep(lines)
			return err
		}
		lines, uses, tokens = lines[len(nextLines):], uses[len(nextUses):], tokens[len(nextTokens):]
	}
	return nil
}

// keep holds lines that could not be written until the next time.
func (l *Ledger) keep(lines []record.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.late = append(l.late, lines[:min(len(lines), mostLate-len(l.late))]...)
}
