package term

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode/utf8"
)

// Visible writes for people, and lets nothing through that a terminal would obey:
// what somebody else wrote (a refusal, a name, a certificate's subject) is shown and
// not done. It is safe for concurrent use.
type Visible struct {
	To io.Writer

	mu sync.Mutex
	// failed is why a write did not get there. All later ones fail with it.
	failed error
	// begun is the beginning of a character whose end has not come.
	begun []byte
}

// Write writes p with controls, and what turns the direction of writing, spelled out.
// What is spelled out in JSON reads as the same character.
func (v *Visible) Write(p []byte) (int, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.failed != nil {
		return 0, v.failed
	}
	rest := append(v.begun, p...)
	v.begun = nil
	shown := make([]byte, 0, len(rest))
	for len(rest) > 0 {
		if !utf8.FullRune(rest) {
			v.begun = append([]byte(nil), rest...)
			break
		}
		r, size := utf8.DecodeRune(rest)
		switch {
		case r == utf8.RuneError && size == 1:
			shown = fmt.Appendf(shown, `\x%02x`, rest[0])
		case isObeyed(r):
			shown = fmt.Appendf(shown, `\u%04x`, r)
		default:
			shown = append(shown, rest[:size]...)
		}
		rest = rest[size:]
	}
	if _, err := v.To.Write(shown); err != nil {
		v.failed = err
		return 0, err
	}
	return len(p), nil
}

func (v *Visible) fault() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.failed
}

// isObeyed reports whether terminals or readers do something at a character instead
// of showing it: C0 but for new lines and tabs, DEL, C1, and the marks of Unicode that
// turn or hide what stands beside them.
func isObeyed(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < ' ', r >= 0x7f && r <= 0x9f:
		return true
	case r == 0x061c, r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x2069, r == 0xfeff:
		return true
	}
	return false
}

// OneLine spells out new lines and tabs too, for what must not pass for lines of ours:
// a name, a refusal, a certificate's subject.
func OneLine(s string) string {
	return strings.NewReplacer("\n", `\u000a`, "\t", `\u0009`).Replace(s)
}
