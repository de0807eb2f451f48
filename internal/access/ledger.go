package access

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"warthesis/internal/access/crowd"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// ledger gathers what is written in batches: refusals, pulls where a namespace wants
// them, and when grants and tokens were last used. What somebody does again and
// again is one line with a count, so that nobody fills the disk by asking.
type ledger struct {
	clock clock.Clock

	mu    sync.Mutex
	lines map[lineKey]*line
	// of counts the lines by whom they are about, nobody's by address.
	of map[owner]int
	// others counts what found no room.
	others map[bool]int64
	// late are lines that could not be written.
	late   []record.Event
	uses   map[useKey]record.Stamp
	noted  map[useKey]time.Time
	tokens map[int64]record.TokenUse
}

// owner is whom lines are about: an account, or nobody at an address.
type owner struct {
	nobody bool
	name   string
}

// lineKey is what makes two happenings one line.
type lineKey struct {
	owner
	kind           record.EventKind
	token, address string
	repository     oci.Name
	what           string
}

// line is what happened under a key since it was last written.
type line struct {
	event record.Event
	// action is the one in the event: of several that were refused, the highest.
	action Action
	count  int64
	// names are those that were claimed.
	names []string
	// due is the served time at which it is written.
	due time.Duration
	// again tells that one like it was written already.
	again bool
}

type useKey struct {
	grant, account int64
	action         Action
}

const (
	// settles is how long a line waits for others that belong to it: one push that is
	// refused asks several times.
	settles = 2 * time.Second
	// accountEvery and nobodyEvery are how often the same is written anew.
	accountEvery = time.Minute
	nobodyEvery  = 10 * time.Minute
	// mostLines is how many lines wait or are counted of one account, mostNobodyLines
	// of one address without a login, mostOwners of how many there are any, and
	// mostInAll how many there are.
	mostLines       = 4096
	mostNobodyLines = 256
	mostOwners      = 2048
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

func newLedger(clk clock.Clock) *ledger {
	return &ledger{
		clock: clk, lines: map[lineKey]*line{}, of: map[owner]int{}, others: map[bool]int64{},
		uses: map[useKey]record.Stamp{}, noted: map[useKey]time.Time{}, tokens: map[int64]record.TokenUse{},
	}
}

// Refused notes for the audit log that an action was refused.
func (a *Access) Refused(e record.Event, action Action) {
	if e.Account == "" {
		a.refusedNobody(e)
		return
	}
	e.Kind, e.Verdict = record.EventRefused, record.VerdictRefused
	a.note(lineKey{owner: owner{name: e.Account}, kind: e.Kind, token: e.Token, address: e.Address, repository: e.Repository, what: e.Subject}, e, action)
}

// refusedNobody notes what was refused to somebody who did not say who it is, or
// did not prove it. The detail is one of a few: it is counted by that and by address.
func (a *Access) refusedNobody(e record.Event) {
	e.Kind, e.Verdict = record.EventRefused, record.VerdictRefused
	a.note(lineKey{owner: owner{true, crowd.Neighbourhood(e.Address)}, kind: e.Kind, what: e.Detail}, e, "")
}

// Pulled notes a pull for the audit log, where the namespace wants that.
func (a *Access) Pulled(c Caller, name oci.Name, tag oci.Tag, digest oci.Digest) {
	if n, _ := a.records.Rights().Namespace(name.Namespace()); !n.LogPulls {
		return
	}
	e := c.repositoryEvent(record.EventPull, name)
	e.Tag, e.Digest, e.Verdict = tag, digest, record.VerdictDone
	by := owner{name: c.Account.Name}
	if c.Nobody() {
		by = owner{true, crowd.Neighbourhood(c.Address)}
	}
	a.note(lineKey{owner: by, kind: e.Kind, token: e.Token, address: e.Address, repository: name, what: string(tag) + " " + string(digest)}, e, Pull)
}

// note counts a happening.
func (a *Access) note(key lineKey, e record.Event, action Action) {
	e.At = record.StampOf(a.clock.Now())
	if e.Repository != "" && e.NamespaceID == 0 {
		n, _ := a.records.Rights().Namespace(e.Repository.Namespace())
		e.NamespaceID = n.ID
	}
	l := a.ledger
	l.mu.Lock()
	defer l.mu.Unlock()
	found := l.lines[key]
	if found == nil {
		if !l.hasRoom(key.owner) {
			l.others[key.nobody]++
			return
		}
		l.of[key.owner]++
		found = &line{event: e, action: action, due: l.clock.Served() + settles}
		l.lines[key] = found
	}
	if found.count == 0 || roleFor(action).Rank() > roleFor(found.action).Rank() {
		found.event, found.action = e, action
	}
	found.count++
	if key.nobody && e.Account != "" && len(found.names) <= mostNames && !slices.Contains(found.names, e.Account) {
		found.names = append(found.names, e.Account)
	}
}

func (l *ledger) hasRoom(by owner) bool {
	has := l.of[by]
	switch {
	case len(l.lines) >= mostInAll:
		return false
	case has == 0:
		return len(l.of) < mostOwners
	case by.nobody:
		return has < mostNobodyLines
	}
	return has < mostLines
}

// due takes the lines whose time has come, or all of them, as they are written.
func (l *ledger) due(all bool) []record.Event {
	now := l.clock.Served()
	lines := l.late
	l.late = nil
	for key, found := range l.lines {
		if !all && found.due > now {
			continue
		}
		if found.count == 0 {
			l.of[key.owner]--
			if l.of[key.owner] == 0 {
				delete(l.of, key.owner)
			}
			delete(l.lines, key)
			continue
		}
		lines = append(lines, found.written())
		found.count, found.names, found.again = 0, nil, true
		found.due = now + accountEvery
		if key.nobody {
			found.due = now + nobodyEvery
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

// take takes what is due, or everything.
func (l *ledger) take(all bool) (lines []record.Event, uses []record.Use, tokens []record.TokenUse) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, at := range l.uses {
		uses = append(uses, record.Use{GrantID: key.grant, AccountID: key.account, Action: string(key.action), UsedAt: at})
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

// flush writes what is due in the ledger, or everything.
func (a *Access) flush(all bool) error {
	lines, uses, tokens := a.ledger.take(all)
	for len(lines)+len(uses)+len(tokens) > 0 {
		nextLines, nextUses, nextTokens := lines[:min(len(lines), usesAtOnce)], uses[:min(len(uses), usesAtOnce)], tokens[:min(len(tokens), usesAtOnce)]
		err := a.records.Update(context.Background(), "uses", func(tx *record.Tx) error {
			if err := tx.LogAll(nextLines); err != nil {
				return err
			}
			return tx.CountUses(nextUses, nextTokens)
		})
		if err != nil {
			a.ledger.keep(lines)
			return err
		}
		lines, uses, tokens = lines[len(nextLines):], uses[len(nextUses):], tokens[len(nextTokens):]
	}
	return nil
}

// keep holds lines that could not be written until the next time.
func (l *ledger) keep(lines []record.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.late = append(l.late, lines[:min(len(lines), mostLate-len(l.late))]...)
}
