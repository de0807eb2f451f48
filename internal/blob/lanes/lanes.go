// Package lanes hashes several streams at once. Where the processor has wide
// vectors and no instructions for SHA-256, one pass over 8 or 16 streams takes
// hardly longer than one over a single stream; uploads that come in side by side
// then share it. Elsewhere, and for a stream alone, it is crypto/sha256.
//
// A Hash has the state of crypto/sha256, so that what was marshaled by the one is
// read by the other.
package lanes

import (
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"hash"
	"runtime"
	"slices"
	"sync"
)

const (
	// least is the fewest streams for which a pass over all lanes wins.
	least = 3
	// shortest is the fewest bytes for which it is worth to wait for others.
	shortest = 64 << 10
)

// Gang joins the bytes that its hashes are given at the same moment. It is safe
// for concurrent use; its hashes are not.
type Gang struct {
	width int

	mu sync.Mutex
	// members counts the streams that come in now, whether or not they wait here.
	members int
	waiting []*part
	leading bool
}

// part is what one stream gave: whole blocks, to go through its state.
type part struct {
	state [8]uint32
	bytes []byte
	turn  chan turn
}

// turn tells who waits what comes next: the part is done, or is to lead.
type turn int

const (
	done turn = iota
	lead
)

// NewGang returns a gang for this machine's processor.
func NewGang() *Gang {
	if instructions() {
		// One stream alone is then as fast as many together.
		return &Gang{}
	}
	return &Gang{width: width()}
}

// Hash returns a SHA-256 whose long writes are shared. It marshals as crypto/sha256 does.
func (g *Gang) Hash() hash.Hash { return &sum{Hash: sha256.New(), gang: g} }

// Join tells the gang that one more stream comes in, until leave is called.
func (g *Gang) Join() (leave func()) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.members++
	return func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.members--
	}
}

type sum struct {
	hash.Hash
	gang *Gang
}

// MarshalBinary returns the state as crypto/sha256 writes it.
func (s *sum) MarshalBinary() ([]byte, error) {
	return s.Hash.(encoding.BinaryMarshaler).MarshalBinary()
}

// UnmarshalBinary reads a state that crypto/sha256 wrote.
func (s *sum) UnmarshalBinary(state []byte) error {
	return s.Hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(state)
}

// The layout of a marshaled state: a mark, eight words, the bytes of an unfinished
// block, the length.
const (
	stateWords  = 4
	stateLength = 4 + 8*4 + sha256.BlockSize
)

// Write hashes p, whole blocks of it together with what other streams have.
func (s *sum) Write(p []byte) (int, error) {
	whole := len(p) / sha256.BlockSize * sha256.BlockSize
	if whole < shortest || !s.gang.company() {
		return s.Hash.Write(p)
	}
	state, err := s.MarshalBinary()
	if err != nil {
		return 0, err
	}
	length := binary.BigEndian.Uint64(state[stateLength:])
	if length%sha256.BlockSize != 0 {
		return s.Hash.Write(p)
	}
	work := part{bytes: p[:whole], turn: make(chan turn, 1)}
	for i := range work.state {
		work.state[i] = binary.BigEndian.Uint32(state[stateWords+4*i:])
	}
	s.gang.do(&work)
	for i, word := range work.state {
		binary.BigEndian.PutUint32(state[stateWords+4*i:], word)
	}
	binary.BigEndian.PutUint64(state[stateLength:], length+uint64(whole))
	if err := s.UnmarshalBinary(state); err != nil {
		return 0, err
	}
	rest, err := s.Hash.Write(p[whole:])
	return whole + rest, err
}

// company reports whether enough streams come in for a shared pass.
func (g *Gang) company() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.width > 0 && g.members >= least
}

// do returns when the part is done. One of those that wait does the work of all,
// until its own part is done; then the next one does.
func (g *Gang) do(work *part) {
	g.mu.Lock()
	g.waiting = append(g.waiting, work)
	first := !g.leading
	g.leading = true
	g.mu.Unlock()
	if !first && <-work.turn == done {
		return
	}
	g.hash(g.gather())
	g.handOver()
}

// handOver lets the first of those that wait lead the next pass.
func (g *Gang) handOver() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.waiting) == 0 {
		g.leading = false
		return
	}
	g.waiting[0].turn <- lead
}

// gather takes the parts for the next pass, the leader's among them: it is always
// the first that waits. It gives streams that are about to hand in theirs the
// chance to, and does not wait for the others.
func (g *Gang) gather() []*part {
	for range 4 {
		g.mu.Lock()
		all := len(g.waiting) >= min(g.members, g.width)
		g.mu.Unlock()
		if all {
			break
		}
		runtime.Gosched()
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	n := min(len(g.waiting), g.width)
	batch := slices.Clone(g.waiting[:n])
	g.waiting = slices.Delete(g.waiting, 0, n)
	return batch
}

// hash takes the parts through their states, the shortest ones leaving first.
func (g *Gang) hash(batch []*part) {
	for len(batch) >= least {
		g.pass(batch)
		var left []*part
		for _, p := range batch {
			if len(p.bytes) > 0 {
				left = append(left, p)
				continue
			}
			p.turn <- done
		}
		batch = left
	}
	for _, p := range batch {
		p.alone()
		p.turn <- done
	}
}

// pass takes as many blocks of each part as the shortest has.
func (g *Gang) pass(batch []*part) {
	blocks := len(batch[0].bytes)
	for _, p := range batch {
		blocks = min(blocks, len(p.bytes))
	}
	blocks /= sha256.BlockSize
	state := make([]uint32, 8*g.width)
	streams := make([][]byte, len(batch))
	for l, p := range batch {
		streams[l] = p.bytes
		for i, word := range p.state {
			state[i*g.width+l] = word
		}
	}
	compress(g.width, state, streams, blocks)
	for l, p := range batch {
		p.bytes = p.bytes[blocks*sha256.BlockSize:]
		for i := range p.state {
			p.state[i] = state[i*g.width+l]
		}
	}
}

// alone finishes a part with crypto/sha256.
func (p *part) alone() {
	state := make([]byte, stateLength+8)
	copy(state, emptyState)
	for i, word := range p.state {
		binary.BigEndian.PutUint32(state[stateWords+4*i:], word)
	}
	h := sha256.New()
	// The states are of this very package's making, and so cannot be refused.
	_ = h.(encoding.BinaryUnmarshaler).UnmarshalBinary(state)
	h.Write(p.bytes)
	state, _ = h.(encoding.BinaryMarshaler).MarshalBinary()
	for i := range p.state {
		p.state[i] = binary.BigEndian.Uint32(state[stateWords+4*i:])
	}
}

// emptyState is the mark that a marshaled state of crypto/sha256 begins with.
const emptyState = "sha\x03"
