package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

// everyCommand calls each for all commands that do something.
func everyCommand(parent *cobra.Command, each func(*cobra.Command)) {
	for _, c := range parent.Commands() {
		if c.Name() == "help" || c.Name() == "completion" {
			continue
		}
		if c.Annotations[site.AboutExit] != "" {
			each(c)
		}
		everyCommand(c, each)
	}
}

func allCommands() *cobra.Command {
	return newRoot(term.Terminal{Out: io.Discard, Err: io.Discard, Patient: new(atomic.Bool)}, "")
}

// flagsOf names a command's own flags with what they take; those by which registries
// are reached, which all commands that reach one share, are left out.
func flagsOf(c *cobra.Command) []string {
	var flags []string
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		kind := term.ValueOf(f).Type()
		switch {
		case slices.Contains([]string{"help", "unencrypted", "ca", "client-certificate", "client-key", "login-file"}, f.Name):
		case kind == "bool":
			flags = append(flags, "`--"+f.Name+"`")
		default:
			flags = append(flags, "`--"+f.Name+" "+strings.ReplaceAll(kind, "|", "\\|")+"`")
		}
	})
	return flags
}

// The table of the commands in the documents is made from the commands. With
// WRITE_DOCUMENTS set it is written anew.
func TestTheDocumentsShowTheCommands(t *testing.T) {
	var b strings.Builder
	b.WriteString("| command | flags | exit codes | JSON |\n|---|---|---|---|\n")
	everyCommand(allCommands(), func(c *cobra.Command) {
		facts := c.Annotations[site.AboutJSON]
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", strings.ReplaceAll(strings.TrimPrefix(c.UseLine(), "warthesis "), "|", "\\|"), strings.Join(flagsOf(c), " "), c.Annotations[site.AboutExit], facts)
	})
	file := filepath.Join("..", "..", "docs", "commands.md")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	const mark = "<!-- the commands -->\n"
	before, table, found := strings.Cut(string(raw), mark)
	require.True(t, found)
	if os.Getenv("WRITE_DOCUMENTS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+mark+b.String()), 0o644))
		return
	}
	assert.Equal(t, b.String(), table, "docs/commands.md is behind; WRITE_DOCUMENTS=1 writes it")
}

// One thing has one word, and what is alike is called alike.
func TestCommandsAreAlike(t *testing.T) {
	verbs := strings.Fields("make change show list move log rename remove restore undo stop set preview run lift explain seal unseal revoke replace add drop rotate check merge password get store erase test look pause drift join subtract sort lock pack unload release")
	everyCommand(allCommands(), func(c *cobra.Command) {
		path := strings.TrimPrefix(c.CommandPath(), "warthesis ")
		if c.HasParent() && c.Parent().Name() != "warthesis" {
			assert.Contains(t, verbs, c.Name(), path)
		}
		assert.NotEmpty(t, c.Short, path)
		assert.False(t, strings.HasSuffix(c.Short, "."), path)
		if c.Name() == "remove" || c.Name() == "revoke" {
			assert.NotNil(t, c.Flags().Lookup("yes"), "%s asks", path)
		}
		for _, verb := range []string{"make", "change", "show", "list"} {
			if c.Name() == verb && c.Parent().Name() != "credentials" && path != "show" {
				assert.NotNil(t, c.Flags().Lookup("output"), "%s has facts", path)
			}
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			assert.Equal(t, strings.ToLower(f.Name), f.Name)
			assert.NotEmpty(t, f.Usage, "%s --%s", path, f.Name)
		})
	})
}
