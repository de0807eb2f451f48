package term

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"
)

// secretLimit is the longest secret in bytes that is read.
const secretLimit = 64 << 10

// AsksSomebody reports whether standard input is a terminal, at which somebody can be
// asked.
func AsksSomebody() bool { return term.IsTerminal(int(os.Stdin.Fd())) }

// errNothing is the end of a question that was not answered.
var errNothing = errors.New("nothing was entered, and nothing was done")

// Question is what is asked for.
type Question struct {
	// Says is what stands before the answer.
	Says string
	// Hidden answers do not show while they are typed.
	Hidden bool
	// Flag names the flag that gives the answer where there is no terminal.
	Flag string
}

// Ask asks at the terminal. Ctrl-C and Ctrl-D end it at once, with the terminal as it
// was. Without a terminal it is wrong use, and says which flag gives the answer.
func Ask(ctx context.Context, t Terminal, q Question) (string, error) {
	if !AsksSomebody() {
		return "", Usage("there is no terminal to ask at (%s): give it by %s", strings.TrimRight(q.Says, ": ?"), q.Flag)
	}
	in := int(os.Stdin.Fd())
	// The terminal is switched before anything is asked: a key that comes early means
	// the same.
	before, err := term.GetState(in)
	if err == nil && q.Hidden {
		before, err = term.MakeRaw(in)
	}
	if err != nil {
		return "", fmt.Errorf("look at the terminal: %w", err)
	}
	fmt.Fprint(t.Err, q.Says)
	type answer struct {
		text string
		err  error
	}
	// The reading outlives a question that is broken off; the program ends then.
	answered := make(chan answer, 1)
	go func() {
		var a answer
		if q.Hidden {
			a.text, a.err = readHidden(os.Stdin)
		} else {
			a.text, a.err = readLine(os.Stdin)
		}
		answered <- a
	}()
	var a answer
	select {
	case <-ctx.Done():
		a.err = ctx.Err()
	case a = <-answered:
	}
	err = term.Restore(in, before)
	if q.Hidden || a.err != nil {
		fmt.Fprintln(t.Err)
	}
	switch {
	case errors.Is(a.err, io.EOF):
		return "", errNothing
	case a.err != nil:
		return "", a.err
	}
	return a.text, err
}

// Keys that mean something while what is typed does not show.
const (
	keyInterrupt = 0x03
	keyEnd       = 0x04
	keyBackspace = 0x08
	keyClear     = 0x15
	keyDelete    = 0x7f
)

// readHidden reads a line from a terminal that hands each key over as it is, and shows
// none: the usual ways of reading without an echo do not see Ctrl-D.
func readHidden(in io.Reader) (string, error) {
	var line []byte
	key := make([]byte, 1)
	for len(line) < secretLimit {
		if n, err := in.Read(key); err != nil || n == 0 {
			return "", orEOF(err)
		}
		switch key[0] {
		case '\r', '\n':
			return string(line), nil
		case keyInterrupt:
			return "", context.Canceled
		case keyEnd:
			if len(line) == 0 {
				return "", io.EOF
			}
		case keyBackspace, keyDelete:
			_, size := utf8.DecodeLastRune(line)
			line = line[:len(line)-size]
		case keyClear:
			line = line[:0]
		default:
			line = append(line, key[0])
		}
	}
	return "", Usage("the line is longer than %d bytes", secretLimit)
}

func orEOF(err error) error {
	if err == nil {
		return io.EOF
	}
	return err
}

// readLine reads a line and not a byte more: the next question reads on.
func readLine(in io.Reader) (string, error) {
	var line []byte
	one := make([]byte, 1)
	for len(line) < secretLimit {
		n, err := in.Read(one)
		switch {
		case n == 1 && one[0] == '\n':
			return strings.TrimRight(string(line), "\r"), nil
		case n == 1:
			line = append(line, one[0])
		case err != nil:
			return "", err
		}
	}
	return "", Usage("the line is longer than %d bytes", secretLimit)
}

// FromStdin names the flag by which a secret comes on standard input.
const FromStdin = "from-stdin"

// Secret gets a secret: from standard input where fromStdin says so, else at the
// terminal, where it is not shown.
func Secret(ctx context.Context, t Terminal, says string, fromStdin bool) (string, error) {
	if fromStdin && !AsksSomebody() {
		return ReadSecret()
	}
	return Ask(ctx, t, Question{Says: says, Hidden: true, Flag: "--" + FromStdin})
}

// NewSecret is Secret for one that is not known anywhere yet: at the terminal it is
// asked for twice.
func NewSecret(ctx context.Context, t Terminal, says string, fromStdin bool) (string, error) {
	first, err := Secret(ctx, t, says, fromStdin)
	if err != nil || !AsksSomebody() {
		return first, err
	}
	again, err := Ask(ctx, t, Question{Says: "The same again: ", Hidden: true, Flag: "--" + FromStdin})
	if err == nil && again != first {
		err = errors.New("the two are not the same; nothing was done")
	}
	return first, err
}

// ReadSecret reads a secret from standard input.
func ReadSecret() (string, error) {
	raw, err := io.ReadAll(io.LimitReader(os.Stdin, secretLimit+1))
	if err != nil {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	if len(raw) > secretLimit {
		return "", Usage("what comes on standard input is longer than the %d bytes that a secret may have", secretLimit)
	}
	secret := strings.TrimRight(string(raw), "\r\n")
	if secret == "" {
		return "", Usage("there is no secret on standard input")
	}
	return secret, nil
}

// Confirmed asks before something goes. Without a terminal and without --yes it is
// wrong use.
func Confirmed(ctx context.Context, t Terminal, yes bool, question string) error {
	if yes {
		return nil
	}
	if !AsksSomebody() {
		return Usage("%s There is no terminal to ask at; say --yes if it is meant", question)
	}
	answer, err := Ask(ctx, t, Question{Says: question + " Type yes: "})
	if err != nil {
		return err
	}
	if strings.TrimSpace(answer) != "yes" {
		return errors.New("nothing was changed")
	}
	return nil
}
