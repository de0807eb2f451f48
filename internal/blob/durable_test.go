package blob

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

// acknowledged is what the store has promised so far: as record would have it.
type acknowledged struct {
	content map[Place][]byte
	// point is where the upload named "long" can be gone on from; nil for nowhere.
	point *Checkpoint
	// aside is what is set aside.
	aside map[Place]bool
	// gone are places whose content was removed durably.
	gone map[Place]bool
	// generation is the least that may be read.
	generation int64
}

var (
	long  = bytes.Repeat([]byte("a long layer that comes in pieces. "), 300)
	other = bytes.Repeat([]byte("another layer. "), 200)
	small = []byte(`{"schemaVersion":2}`)
)

// live runs one life of a store on the disk, until it is through or the disk
// fails, and returns what was acknowledged.
func live(d *simulated) (acknowledged, error) {
	promised := acknowledged{content: map[Place][]byte{}, aside: map[Place]bool{}, gone: map[Place]bool{}}
	s, err := openOn(d, "/data", Options{FreeSpace: -1})
	if err != nil {
		return promised, err
	}
	u, err := s.NewUpload("long", oci.SHA256)
	if err != nil {
		return promised, err
	}
	for _, piece := range [][]byte{long[:4000], long[4000:7000]} {
		if _, err := u.ReadFrom(bytes.NewReader(piece)); err != nil {
			return promised, err
		}
		point, err := u.Checkpoint()
		if err != nil {
			return promised, err
		}
		promised.point = &point
	}
	var gone Place
	for i, raw := range [][]byte{other, small, other} {
		d := oci.DigestOf([]oci.Algorithm{oci.SHA256, oci.SHA512, oci.SHA256}[i], raw)
		at, err := s.PlaceBytes(fmt.Sprintf("p%d", i), d, raw)
		if err != nil {
			return promised, err
		}
		promised.content[at] = raw
		gone = at
	}
	if _, err := u.ReadFrom(bytes.NewReader(long[7000:])); err != nil {
		return promised, err
	}
	whole := oci.DigestOf(oci.SHA256, long)
	if err := u.Verify(whole); err != nil {
		return promised, err
	}
	// From here on the staged file may be gone or still there; record drops the
	// session together with holding the blob.
	promised.point = nil
	at, err := u.Place(whole)
	if err != nil {
		return promised, err
	}
	promised.content[at] = long
	// The content stays at its other place.
	delete(promised.content, gone)
	if err := s.Take(gone); err != nil {
		return promised, err
	}
	return promised, livesOn(s, &promised)
}

// livesOn sets damaged content aside, removes some of it and erases some, and notes how new
// all is, twice.
func livesOn(s *Store, promised *acknowledged) error {
	for i := range 3 {
		raw := fmt.Appendf(nil, "damaged %d", i)
		at, err := s.PlaceBytes(fmt.Sprintf("d%d", i), oci.DigestOf(oci.SHA256, raw), raw)
		if err != nil {
			return err
		}
		if i == 2 {
			if err := s.TakeDurably([]Place{at}); err != nil {
				return err
			}
			promised.gone[at] = true
			break
		}
		if err := s.SetAside(at); err != nil {
			return err
		}
		promised.aside[at] = true
		if i == 1 {
			delete(promised.aside, at)
			if err := s.TakeAside(at.Digest); err != nil {
				return err
			}
			promised.gone[at] = true
		}
		g := Generation{Registry: "one", Number: int64(i + 1)}
		if err := s.SetGeneration(g); err != nil {
			return err
		}
		promised.generation = g.Number
	}
	return nil
}

// stands checks what livesOn was promised.
func stands(s *Store, promised acknowledged) error {
	aside, err := s.Aside()
	if err != nil {
		return err
	}
	isHere := func(at Place) bool {
		f, _, err := s.Open(at)
		if err == nil {
			f.Close()
		}
		return err == nil
	}
	for at := range promised.aside {
		if !slices.Contains(aside, at.Digest) || isHere(at) {
			return fmt.Errorf("what was set aside is not, or is still at its place: %s", at.Digest)
		}
	}
	for at := range promised.gone {
		if slices.Contains(aside, at.Digest) || isHere(at) {
			return fmt.Errorf("what was removed for good is back: %s", at.Digest)
		}
	}
	g, err := s.Generation()
	if err == nil && g.Number < promised.generation {
		err = fmt.Errorf("the generation is %d again", g.Number)
	}
	return err
}

// kept checks the promises on a disk after a power cut: all content is there, the
// upload goes on, and new content is taken.
func kept(d *simulated, promised acknowledged) error {
	s, err := openOn(d, "/data", Options{FreeSpace: -1})
	if err != nil {
		return err
	}
	for at, want := range promised.content {
		f, _, err := s.Open(at)
		if err != nil {
			return err
		}
		if got, _ := io.ReadAll(f); !bytes.Equal(got, want) {
			return fmt.Errorf("content %s came back as %d other bytes", at.Digest, len(got))
		}
	}
	if err := stands(s, promised); err != nil {
		return err
	}
	if promised.point != nil {
		u, err := s.ReopenUpload("long", *promised.point)
		if err != nil {
			return err
		}
		if _, err := u.ReadFrom(bytes.NewReader(long[u.Offset():])); err != nil {
			return err
		}
		whole := oci.DigestOf(oci.SHA256, long)
		if err := u.Verify(whole); err != nil {
			return err
		}
		at, err := u.Place(whole)
		if err != nil {
			return err
		}
		// What the hash certified must be what lies on the disk.
		f, _, err := s.Open(at)
		if err != nil {
			return err
		}
		if got, _ := io.ReadAll(f); !bytes.Equal(got, long) {
			return fmt.Errorf("an upload that was gone on with certified other bytes")
		}
	}
	if err := s.ClearLeftovers(func(string) bool { return false }); err != nil {
		return err
	}
	raw := []byte("new after the cut")
	_, err = s.PlaceBytes("new", oci.DigestOf(oci.SHA512, raw), raw)
	return err
}

// chances is how many outcomes of one cut are tried.
const chances = 6

// cutEverywhere cuts the power at every step of a life and returns the first
// promise that was broken.
func cutEverywhere(lame string) (steps int, sites map[string]bool, broken error) {
	whole := newSimulated()
	whole.lame = lame
	if _, err := live(whole); err != nil {
		return 0, nil, err
	}
	for cut := 1; cut <= whole.steps+1; cut++ {
		// The steps that make the many folders are all alike.
		if cut < 512 && cut%64 != 0 {
			continue
		}
		d := newSimulated()
		d.lame, d.cutAt = lame, cut
		promised, _ := live(d)
		for chance := range chances {
			if err := kept(d.afterCut(rand.New(rand.NewPCG(uint64(cut), uint64(chance)))), promised); err != nil {
				return whole.steps, whole.sites, fmt.Errorf("power cut at step %d, outcome %d: %w", cut, chance, err)
			}
		}
	}
	return whole.steps, whole.sites, nil
}

func TestAPowerCutAtAnyStepBreaksNoPromise(t *testing.T) {
	steps, _, broken := cutEverywhere("")
	require.NoError(t, broken)
	assert.Greater(t, steps, 500)
}

// The test above would be worth little if it passed without the syncs: each of
// them is taken out in turn, and it must notice.
func TestEverySyncIsNeeded(t *testing.T) {
	_, sites, _ := cutEverywhere("")
	assert.GreaterOrEqual(t, len(sites), 11)
	for site := range sites {
		_, _, broken := cutEverywhere(site)
		assert.Error(t, broken, "nothing was lost without the sync at %s", site)
		if broken != nil {
			t.Logf("without the sync at %s: %v", site, broken)
		}
	}
}

func TestAnErrorOfTheDiskAtAnyStepCorruptsNothing(t *testing.T) {
	whole := newSimulated()
	_, err := live(whole)
	require.NoError(t, err)
	for _, fault := range []error{syscall.EIO, syscall.ENOSPC} {
		for step := 1; step <= whole.steps; step++ {
			d := newSimulated()
			d.failAt, d.failWith = step, fault
			promised, err := live(d)
			// The disk works again: what was promised is there, and new content is
			// taken, without a power cut and with one.
			cut := d.afterCut(rand.New(rand.NewPCG(uint64(step), 3)))
			require.NoError(t, kept(d, promised), "%v at step %d", fault, step)
			require.NoError(t, kept(cut, promised), "%v at step %d, then a power cut", fault, step)
			if fault == syscall.ENOSPC && err != nil && step > 600 {
				require.ErrorIs(t, err, oci.CodeStorageFull, "step %d", step)
			}
		}
	}
}
