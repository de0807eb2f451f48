package replicate

import (
	"context"
	"io"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"warthesis/internal/oci"
)

// Going is an image that travels now.
type Going struct {
	Repository oci.Name
	// Tag is "" for what refers to another manifest, which Digest names.
	Tag    oci.Tag
	Digest oci.Digest
	Target string
	// Bytes are those of what the image names, Moved those that are through: sent, or there
	// already.
	Bytes, Moved int64
	Began        time.Time
}

// meter counts what travels by a rule. It is safe for concurrent use.
type meter struct {
	mu    sync.Mutex
	going map[*Going]bool
	// bytes and images are what went, sampledBytes and sampledImages what of it is in samples;
	// slots are the bytes of the last seconds.
	bytes, images               int64
	sampledBytes, sampledImages int64
	slots                       [meterSlots]int64
	second                      int64
}

// meterSlots is over how many seconds the rate is taken.
const meterSlots = 10

// begin notes that an image travels, and returns what ends that.
func (m *meter) begin(g *Going) (end func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.going == nil {
		m.going = map[*Going]bool{}
	}
	g.Began = time.Now()
	m.going[g] = true
	return func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		delete(m.going, g)
	}
}

// begins notes of which blobs an image is made, of which none is through yet.
func (m *meter) begins(g *Going, blobs []oci.Descriptor) {
	m.mu.Lock()
	defer m.mu.Unlock()
	g.Bytes, g.Moved = 0, 0
	for _, d := range blobs {
		g.Bytes += d.Size
	}
}

// pass notes bytes of an image that need not travel.
func (m *meter) pass(g *Going, bytes int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	g.Moved += bytes
}

// moved notes bytes of an image that traveled.
func (m *meter) moved(g *Going, bytes int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	g.Moved += bytes
	m.bytes += bytes
	m.turn()
	m.slots[m.second%meterSlots] += bytes
}

// turn lets the slots of seconds that are over go. The mutex is held.
func (m *meter) turn() {
	now := time.Now().Unix()
	for steps := 0; m.second < now && steps < meterSlots; steps++ {
		m.second++
		m.slots[m.second%meterSlots] = 0
	}
	m.second = now
}

// done notes an image that traveled.
func (m *meter) done() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.images++
}

// look returns what travels, and how many bytes did so in a second.
func (m *meter) look() (all []Going, rate int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	oldest := time.Now()
	for g := range m.going {
		all = append(all, *g)
		if g.Began.Before(oldest) {
			oldest = g.Began
		}
	}
	m.turn()
	sum := int64(0)
	for _, bytes := range m.slots {
		sum += bytes
	}
	// What began a moment ago is not measured over seconds in which it was not there.
	span := min(meterSlots, max(1, int64(time.Since(oldest)/time.Second)+1))
	if len(all) == 0 {
		span = meterSlots
	}
	return all, sum / span
}

// sample returns what went since the sample before.
func (m *meter) sample() (bytes, images int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	bytes, images = m.bytes-m.sampledBytes, m.images-m.sampledImages
	m.sampledBytes, m.sampledImages = m.bytes, m.images
	return bytes, images
}

// totals returns what went since the service started.
func (m *meter) totals() (bytes, images int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.bytes, m.images
}

// piece is how much is moved between two looks at the limit, in bytes.
const piece = 32 << 10

// pieceOf is piece, but no more than an eighth of a second's.
func pieceOf(bytes int64) int { return int(min(piece, max(bytes/8, 1<<10))) }

// paced is content whose reading keeps to a limit.
type paced struct {
	ctx   context.Context
	limit *rate.Limiter
}

// wait waits until so many bytes may move, in pieces.
func (p paced) wait(n int) error {
	if p.limit == nil {
		return p.ctx.Err()
	}
	return p.limit.WaitN(p.ctx, n)
}

// least is how many bytes are moved at once.
func (p paced) least(n int) int {
	if p.limit == nil {
		return n
	}
	return min(n, p.limit.Burst())
}

// pacedAt reads content at offsets.
type pacedAt struct {
	paced
	io.ReaderAt
}

func (p pacedAt) ReadAt(b []byte, offset int64) (n int, err error) {
	for n < len(b) && err == nil {
		some := b[n : n+p.least(len(b)-n)]
		if err = p.wait(len(some)); err != nil {
			return n, err
		}
		var read int
		read, err = p.ReaderAt.ReadAt(some, offset+int64(n))
		n += read
	}
	return n, err
}

// pacedReader reads what comes.
type pacedReader struct {
	paced
	io.Reader
	told func(int)
}

func (p pacedReader) Read(b []byte) (int, error) {
	b = b[:p.least(len(b))]
	n, err := p.Reader.Read(b)
	if n > 0 {
		p.told(n)
		if wait := p.wait(n); wait != nil {
			return n, wait
		}
	}
	return n, err
}
