//go:build !cgo || !amd64

package lanes

func width() int { return 0 }

func instructions() bool { return false }

func compress(int, []uint32, [][]byte, int) { panic("no kernel for this processor") }
