// Package follow brings what a namespace lacks from the peers that it follows, while
// somebody pulls it, and keeps it.
//
// It promises that nobody gets wrong bytes as a whole answer: what comes is checked against
// its digest before its last part goes out. A tag that was pushed here stays this registry's
// own. What is here is served when a peer does not answer.
package follow

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"warthesis/internal/clock"
	"warthesis/internal/flow"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/follows"
	"warthesis/internal/record/peers"
	"warthesis/internal/registry"
	"warthesis/internal/rule"
)

// The spans of following, in served time.
const (
	// DefaultFreshFor is for how long a tag is served without asking, where nothing is said.
	DefaultFreshFor = 5 * time.Minute
	// absentFor is for how long it is remembered that a peer has not what was asked for.
	absentFor = time.Minute
	// patienceHere is how long a peer may take where something is here, patienceNot where
	// nothing is.
	patienceHere = 2 * time.Second
	patienceNot  = 30 * time.Second
)

// mostAbsent is how many absences are remembered.
const mostAbsent = 10_000

// Follower follows peers. It is safe for concurrent use.
type Follower struct {
	registry *registry.Registry
	records  *record.Store
	peers    *flow.Peers
	clock    clock.Clock
	// self names this registry to others, so that circles end.
	self string

	follows atomic.Pointer[map[int64]*following]
	// reading lets one after the other read what namespaces follow: the last is the newest.
	reading sync.Mutex
	flights singleflight.Group
	fetches fetches
	health  health
	tally   tally

	mu     sync.Mutex
	absent map[string]int64
	// asking counts the questions that wait, by who asks them and in all.
	asking map[string]int
	asked  int

	ctx   context.Context
	end   context.CancelFunc
	ended sync.WaitGroup
}

// following is what one namespace follows.
type following struct {
	follows.Follow
	sources []source
}

type source struct {
	follows.Source
	patterns rule.Patterns
}

// New returns a follower.
func New(reg *registry.Registry, records *record.Store, p *flow.Peers, clk clock.Clock) (*Follower, error) {
	var id [8]byte
	rand.Read(id[:])
	f := &Follower{registry: reg, records: records, peers: p, clock: clk, self: "warthesis-" + hex.EncodeToString(id[:]), absent: map[string]int64{}, asking: map[string]int{}, health: health{clock: clk}}
	f.ctx, f.end = context.WithCancel(context.Background())
	f.fetches.open = map[key]*Stream{}
	f.fetches.of = map[string]int{}
	return f, f.Reload(f.ctx)
}

// Close ends what is being fetched, and waits for it.
func (f *Follower) Close() {
	f.fetches.mu.Lock()
	f.end()
	f.fetches.mu.Unlock()
	f.ended.Wait()
}

// together asks peers once for all who want to know the same. The question belongs to nobody:
// whoever leaves takes nothing from those who wait, and Close waits for its end.
func (f *Follower) together(what string, by Asker, question func(context.Context) (stale string, err error)) <-chan singleflight.Result {
	return f.flights.DoChan(what, func() (any, error) {
		f.fetches.mu.Lock()
		if f.ctx.Err() != nil {
			f.fetches.mu.Unlock()
			return "", errStops
		}
		f.ended.Add(1)
		f.fetches.mu.Unlock()
		defer f.ended.Done()
		asking, end := context.WithTimeout(f.ctx, patienceNot)
		defer end()
		return question(peer.WithVia(asking, f.via(by)))
	})
}

// answer waits for what is asked together.
func answer(ctx context.Context, asked <-chan singleflight.Result) error {
	select {
	case done := <-asked:
		return done.Err
	case <-ctx.Done():
		return ctx.Err()
	}
}

var errStops = oci.Errorf(oci.CodeUnavailable, "the registry stops")

// Reload reads anew what namespaces follow.
func (f *Follower) Reload(ctx context.Context) error {
	f.reading.Lock()
	defer f.reading.Unlock()
	all, err := f.records.View(ctx).Follows().All()
	if err != nil {
		return err
	}
	now := make(map[int64]*following, len(all))
	for _, one := range all {
		compiled := &following{Follow: one}
		for _, s := range one.Sources {
			of := source{Source: s}
			for _, text := range s.Patterns {
				pattern, err := rule.ParsePattern(text)
				if err != nil {
					return fmt.Errorf("a pattern of what is followed: %w", err)
				}
				of.patterns = append(of.patterns, pattern)
			}
			compiled.sources = append(compiled.sources, of)
		}
		now[one.NamespaceID] = compiled
	}
	f.follows.Store(&now)
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.absent)
	return nil
}

// of returns what the namespace of a repository follows, nil for nobody.
func (f *Follower) of(name oci.Name) *following {
	all := *f.follows.Load()
	if len(all) == 0 || !strings.Contains(string(name), "/") {
		return nil
	}
	n, there := f.records.Rights().Namespace(name.Namespace())
	if !there {
		return nil
	}
	return all[n.ID]
}

// Follows reports whether what a repository lacks may come from a peer.
func (f *Follower) Follows(name oci.Name) bool { return f.of(name) != nil }

// Asker is who asks for something.
type Asker struct {
	// Who bounds what one fetches: an account, or an address.
	Who string
	// Anonymous tells that nobody is logged in, Via through which registries it came.
	Anonymous bool
	Via       []string
	// Seen is what the asker may read here.
	Seen record.Seen
}

// mostVia is through how many registries a question may come.
const mostVia = 12

// Loop fails, with oci.CodeLoop, where a request came through this registry already.
func (f *Follower) Loop(via []string) error {
	if len(via) > mostVia {
		return oci.Errorf(oci.CodeLoop, "the question came through more than %d registries", mostVia)
	}
	for _, v := range via {
		if strings.Contains(v, f.self) {
			return oci.Errorf(oci.CodeLoop, "this registry follows another one that follows it: the question came round in a circle")
		}
	}
	return nil
}

// candidate is a peer that may have something, with what it is called there.
type candidate struct {
	peers.Peer
	there oci.Name
}

// candidates are the peers that may have a tag, or with "" something by its digest, of a
// repository, in order, as the asker may ask them.
func (f *Follower) candidates(ctx context.Context, of *following, name oci.Name, tag oci.Tag, by Asker) (all []candidate, err error) {
	below := oci.Name(strings.TrimPrefix(string(name), name.Namespace()+"/"))
	view := f.records.View(ctx)
	for _, s := range of.sources {
		means := len(s.patterns) == 0 || tag != "" && s.patterns.Match(rule.Name{Repository: name, Tag: tag}) ||
			tag == "" && slices.ContainsFunc(s.patterns, func(p rule.Pattern) bool { return rule.MatchText(p.Repository(), string(name)) })
		if !means {
			continue
		}
		p, err := view.Peers().ByID(s.PeerID)
		if errors.Is(err, peers.ErrNone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if by.Anonymous && (p.Account != "" || p.ClientCertificate != "") && !of.Anonymous {
			continue
		}
		there := below
		if s.Prefix != "" {
			there = s.Prefix + "/" + below
		}
		all = append(all, candidate{p, p.Repository(there)})
	}
	return all, nil
}

// Places are where peers have a repository that follows them, in order.
func (f *Follower) Places(ctx context.Context, name oci.Name) (all []flow.Place, err error) {
	of := f.of(name)
	if of == nil {
		return nil, nil
	}
	among, err := f.candidates(ctx, of, name, "", Asker{})
	for _, c := range among {
		all = append(all, flow.Place{Peer: c.Peer, Name: c.there})
	}
	return all, err
}

func (f *Follower) served() int64 { return int64(f.clock.Served()) }

// The bounds of questions that wait for peers at the same time, by one asker and in all.
const (
	mostQuestions    = 512
	mostQuestionsOfA = 48
)

// wait lets somebody wait for a peer, and returns how that ends.
func (f *Follower) wait(who string) (end func(), err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.asked >= mostQuestions || f.asking[who] >= mostQuestionsOfA {
		return nil, oci.Errorf(oci.CodeTooManyRequests, "too much waits for other registries just now, %d questions of yours; wait for some", f.asking[who])
	}
	f.asked++
	f.asking[who]++
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.asked--
		if f.asking[who]--; f.asking[who] == 0 {
			delete(f.asking, who)
		}
	}, nil
}

// isAbsent reports whether it is remembered that no peer has something.
func (f *Follower) isAbsent(what string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	until, there := f.absent[what]
	return there && until > f.served()
}

func (f *Follower) noteAbsent(what string) { f.remember(what, int64(absentFor)) }

// remember notes that something need not be asked for a span of served time.
func (f *Follower) remember(what string, span int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.absent) >= mostAbsent {
		clear(f.absent)
	}
	f.absent[what] = f.served() + span
}
