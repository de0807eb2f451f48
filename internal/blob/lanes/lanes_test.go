package lanes

import (
	"crypto/sha256"
	"encoding"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Streams of any lengths, written in any pieces, side by side, with states that
// go through crypto/sha256 and back on the way.
func TestSharedHashesAreThoseOfTheStandardLibrary(t *testing.T) {
	for _, w := range []int{0, 8, 16} {
		if w > width() {
			continue
		}
		t.Run(fmt.Sprint(w), func(t *testing.T) {
			g := &Gang{width: w}
			var wait sync.WaitGroup
			for stream := range 21 {
				wait.Go(func() {
					defer g.Join()()
					random := rand.New(rand.NewPCG(7, uint64(stream)))
					h, reference := g.Hash(), sha256.New()
					for range 20 {
						p := make([]byte, pieceLength(random))
						for i := range p {
							p[i] = byte(random.Uint32())
						}
						h.Write(p)
						reference.Write(p)
						state, err := h.(encoding.BinaryMarshaler).MarshalBinary()
						require.NoError(t, err)
						expected, err := reference.(encoding.BinaryMarshaler).MarshalBinary()
						require.NoError(t, err)
						require.Equal(t, expected, state)
						h = g.Hash()
						require.NoError(t, h.(encoding.BinaryUnmarshaler).UnmarshalBinary(state))
					}
					require.Equal(t, reference.Sum(nil), h.Sum(nil))
				})
			}
			wait.Wait()
		})
	}
}

// pieceLength prefers lengths that end on a block, as uploads write them.
func pieceLength(random *rand.Rand) int {
	if random.IntN(4) == 0 {
		return random.IntN(2 * shortest)
	}
	return shortest + sha256.BlockSize*random.IntN(1000)
}

func BenchmarkStreams(b *testing.B) {
	for _, streams := range []int{1, 2, 3, 4, 8, 16} {
		b.Run(fmt.Sprint(streams), func(b *testing.B) {
			g := NewGang()
			const length = 512 << 10
			b.SetBytes(int64(streams) * length)
			for b.Loop() {
				var wait sync.WaitGroup
				for range streams {
					wait.Go(func() {
						defer g.Join()()
						h := g.Hash()
						p := make([]byte, length)
						for range 8 {
							h.Write(p)
						}
					})
				}
				wait.Wait()
			}
			b.ReportMetric(float64(b.N)*float64(streams)*8*length/(1<<20)/b.Elapsed().Seconds(), "MiB/s")
		})
	}
}
