package term

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync/atomic"
	"time"

	"golang.org/x/term"
)

// Terminal is where a command reads and writes.
type Terminal struct {
	Out io.Writer
	Err io.Writer
	// Patient is set by what takes its time to end in good order.
	Patient *atomic.Bool
}

// endWithin is how long a command that was stopped may take to end by itself.
const endWithin = 900 * time.Millisecond

// EndSoon ends the program soon after it was told to stop, whatever it waits for: the
// terminal at a prompt, a disk, a far end. The terminal is left as it was found.
func EndSoon(ctx context.Context, t Terminal) {
	before, err := term.GetState(int(os.Stdin.Fd()))
	<-ctx.Done()
	if t.Patient.Load() {
		return
	}
	time.Sleep(endWithin)
	if t.Patient.Load() {
		return
	}
	if err == nil {
		_ = term.Restore(int(os.Stdin.Fd()), before)
	}
	fmt.Fprintln(t.Err, "Stopped.")
	os.Exit(ExitFailed)
}

// ProgramName is how this program is called where it was started.
func ProgramName() string {
	if found, err := exec.LookPath("warthesis"); err == nil {
		if self, err := os.Executable(); err == nil && found == self {
			return "warthesis"
		}
	}
	return os.Args[0]
}

// Unwrap returns what is behind a writer for people.
func Unwrap(w io.Writer) io.Writer {
	if v, ok := w.(*Visible); ok {
		return v.To
	}
	return w
}

// Exactly returns where bytes are written as they are: not to a terminal, which would
// obey them.
func (t Terminal) Exactly() io.Writer {
	if isTerminal(t.Out) {
		return t.Out
	}
	return Unwrap(t.Out)
}

// isTerminal reports whether a person watches.
func isTerminal(w io.Writer) bool {
	f, ok := Unwrap(w).(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// IsWatched reports whether standard output is a terminal.
func (t Terminal) IsWatched() bool { return isTerminal(t.Out) }

// draws reports whether lines that are drawn over each other can be: at a terminal that
// is more than a typewriter.
func (t Terminal) draws() bool { return isTerminal(t.Err) && os.Getenv("TERM") != "dumb" }

// Width is how many characters fit into a line of standard output, 0 for any number.
func (t Terminal) Width() int {
	f, ok := Unwrap(t.Out).(*os.File)
	if !ok {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// Say writes a sentence about what was done to standard output.
func (t Terminal) Say(format string, args ...any) { fmt.Fprintf(t.Out, format+"\n", args...) }

// Hint says to whoever sits at the terminal what may come next.
func (t Terminal) Hint(format string, args ...any) {
	if isTerminal(t.Err) {
		fmt.Fprintf(t.Err, format+"\n", args...)
	}
}

// Warn says on standard error what must be known whoever reads it.
func (t Terminal) Warn(format string, args ...any) { fmt.Fprintf(t.Err, format+"\n", args...) }

// Fault returns why what was written to standard output did not get there, nil where
// it did.
func (t Terminal) Fault() error {
	if v, ok := t.Out.(*Visible); ok {
		return v.fault()
	}
	return nil
}
