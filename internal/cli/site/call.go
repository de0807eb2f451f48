package site

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// Site is a registry, reached with its login.
type Site struct {
	*api.Client
	Registry string
}

// Call is one call of a command.
type Call struct {
	Site
	// Place is what the first argument names: Registry with a Name where it is a
	// namespace or a repository.
	Place Place
	// Image is that where the command is about an image.
	Image oci.Reference
	// Args are the arguments behind it.
	Args []string
	T    term.Terminal
	R    *Remote

	cobra     *cobra.Command
	json, yes bool
}

// JSON reports whether the output is for scripts.
func (c *Call) JSON() bool { return c.json }

// Given reports whether a flag was given.
func (c *Call) Given(flag string) bool { return c.cobra.Flags().Changed(flag) }

// Value returns what a flag was given, as text.
func (c *Call) Value(flag string) string {
	if f := c.cobra.Flags().Lookup(flag); f != nil {
		return f.Value.String()
	}
	return ""
}

// Idle is the wrong use of flags that have no effect in this call, nil where none of
// them was given.
func (c *Call) Idle(why string, flags ...string) error {
	for _, flag := range flags {
		if c.Given(flag) {
			return term.Usage("--%s has no effect here: %s", flag, why)
		}
	}
	return nil
}

// Tell prints what the command found out or did: as JSON for scripts, or as people is
// shown it.
func (c *Call) Tell(facts any, people func()) error {
	if c.json {
		return term.WriteJSON(c.T.Out, facts)
	}
	people()
	return nil
}

// Confirm asks before something goes, or takes --yes for the answer.
func (c *Call) Confirm(ctx context.Context, question string) error {
	return term.Confirmed(ctx, c.T, c.yes, question)
}

// Self is this program with the words behind it, to be typed at the terminal.
func (c *Call) Self(words ...string) string {
	return strings.Join(append([]string{term.ProgramName()}, words...), " ")
}
