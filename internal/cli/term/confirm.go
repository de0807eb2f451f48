package term

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// AsksSomebody reports whether standard input is a terminal, at which somebody can be
// asked.
func AsksSomebody() bool { return term.IsTerminal(int(os.Stdin.Fd())) }

// ReadHidden asks for a secret, which is not shown while it is typed.
func ReadHidden(t Terminal, question string) (string, error) {
	fmt.Fprint(t.Err, question)
	raw, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(t.Err)
	if err != nil {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	return string(raw), nil
}

// Confirmed asks before something goes. Without a terminal and without --yes it refuses.
func Confirmed(t Terminal, yes bool, format string, args ...any) error {
	if yes {
		return nil
	}
	question := fmt.Sprintf(format, args...)
	if !AsksSomebody() {
		return Usage("%s There is no terminal to ask at; say --yes if it is meant", question)
	}
	fmt.Fprintf(t.Err, "%s Type yes: ", question)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil || strings.TrimSpace(line) != "yes" {
		return Usage("nothing was changed")
	}
	return nil
}

// AddYes adds the flag that answers what is asked.
func AddYes(c *cobra.Command, yes *bool) {
	c.Flags().BoolVar(yes, "yes", false, "do it without asking")
}

// ReadSecret reads a secret from standard input.
func ReadSecret() (string, error) {
	raw, err := io.ReadAll(io.LimitReader(os.Stdin, 64<<10))
	if err != nil {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	return strings.TrimRight(string(raw), "\r\n"), nil
}
