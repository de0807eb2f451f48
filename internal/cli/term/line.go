package term

import "fmt"

// Line is one line that is drawn over and over, for what takes a while: at a terminal
// alone.
type Line struct {
	t     Terminal
	draws bool
	drawn bool
}

// Line returns a line that shows nothing yet, and nothing ever where it is quiet.
func (t Terminal) Line(quiet bool) *Line { return &Line{t: t, draws: t.draws() && !quiet} }

// Show draws the line anew.
func (l *Line) Show(format string, args ...any) {
	if !l.draws {
		return
	}
	said := fmt.Sprintf(format, args...)
	if width := l.t.Width(); width > 0 && len(said) >= width {
		said = said[:width-1]
	}
	// Back to the beginning; what was said goes through what lets no controls through; and
	// what is behind it goes.
	fmt.Fprint(Unwrap(l.t.Err), "\r")
	fmt.Fprint(l.t.Err, said)
	fmt.Fprint(Unwrap(l.t.Err), "\x1b[K")
	l.drawn = true
}

// End takes the line away.
func (l *Line) End() {
	if l.drawn {
		fmt.Fprint(Unwrap(l.t.Err), "\r\x1b[K")
	}
}
