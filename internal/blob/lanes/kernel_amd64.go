//go:build cgo

package lanes

/*
#include <stdint.h>
void sha256_of_8(uint32_t *state, const uint8_t **data, long blocks);
void sha256_of_16(uint32_t *state, const uint8_t **data, long blocks);
int sha_instructions(void);
*/
import "C"

import (
	"runtime"
	"unsafe"

	"golang.org/x/sys/cpu"
)

// width is how many streams the processor hashes at once; 0 is none.
func width() int {
	switch {
	case cpu.X86.HasAVX512F:
		return 16
	case cpu.X86.HasAVX2:
		return 8
	}
	return 0
}

// instructions reports whether the processor has instructions for SHA-256.
func instructions() bool { return C.sha_instructions() != 0 }

// compress runs the blocks of each stream through its state. The state holds word
// i of stream l at i*width+l; each of the streams has at least 64*blocks bytes.
func compress(width int, state []uint32, streams [][]byte, blocks int) {
	var pin runtime.Pinner
	defer pin.Unpin()
	data := make([]*C.uint8_t, width)
	for l := range data {
		// Lanes without a stream work on the bytes of the first one, in vain.
		stream := streams[0]
		if l < len(streams) {
			stream = streams[l]
		}
		pin.Pin(&stream[0])
		data[l] = (*C.uint8_t)(unsafe.Pointer(&stream[0]))
	}
	words := (*C.uint32_t)(unsafe.Pointer(&state[0]))
	if width == 16 {
		C.sha256_of_16(words, &data[0], C.long(blocks))
		return
	}
	C.sha256_of_8(words, &data[0], C.long(blocks))
}
