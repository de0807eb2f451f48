// Package cli holds the commands, and what people see of them in a terminal.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/carried"
	"warthesis/internal/cli/flow"
	"warthesis/internal/cli/image"
	"warthesis/internal/cli/names"
	"warthesis/internal/cli/rights"
	"warthesis/internal/cli/service"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/cli/trust"
	"warthesis/internal/cli/upkeep"
)

// Main runs the command line and returns the exit code.
func Main(args []string, version string) int {
	// A pipe that breaks is a write that fails, and says so.
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	t := term.Terminal{Out: &term.Visible{To: os.Stdout}, Err: &term.Visible{To: os.Stderr}, Patient: new(atomic.Bool)}
	defer func() {
		// It ends by itself.
		t.Patient.Store(true)
		stop()
	}()
	go term.EndSoon(ctx, t)
	root := newRoot(t, version)
	root.SetArgs(rights.AsHelper(os.Args[0], args))
	err := root.ExecuteContext(ctx)
	if fault := t.Fault(); fault != nil && (err == nil || err.Error() == fault.Error()) {
		if errors.Is(fault, syscall.EPIPE) {
			// Whoever read it has left, and knows why.
			return term.ExitFailed
		}
		err = fmt.Errorf("what there was to say could not be written: %w", fault)
	}
	switch {
	case err == nil:
		return term.ExitDone
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(t.Err, "Stopped.")
		return term.ExitFailed
	}
	fmt.Fprintf(t.Err, "warthesis: %v\n", err)
	return term.ExitCode(err)
}

func newRoot(t term.Terminal, version string) *cobra.Command {
	root := &cobra.Command{
		Use:   "warthesis",
		Short: "A private registry for container images and other OCI artifacts",
		Long: "Warthesis keeps container images and other OCI artifacts.\n\n" +
			"\"warthesis serve\" is the registry; every other command talks to one. Where a command names a registry, a place in it is\n" +
			"REGISTRY/NAMESPACE or REGISTRY/NAMESPACE/REPOSITORY; the default registry may be left out.\n\n" +
			"Commands that tell something take --output json. They end with 0 (done), 1 (failed), 2 (wrong use),\n" +
			"3 (refused by a right or a rule), 4 (not there) or 5 (checked, and not as it should be).",
		Version:       version,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return term.NoCommand(c, args[0])
			}
			return c.Help()
		},
	}
	root.SetOut(t.Out)
	root.SetErr(t.Err)
	root.SetFlagErrorFunc(term.FlagError)
	root.SetVersionTemplate("warthesis {{.Version}}\n")
	root.AddGroup(
		&cobra.Group{ID: term.GroupImages, Title: "Move images:"},
		&cobra.Group{ID: term.GroupLook, Title: "Look:"},
		&cobra.Group{ID: term.GroupNames, Title: "Places:"},
		&cobra.Group{ID: term.GroupRights, Title: "Who may do what:"},
		&cobra.Group{ID: term.GroupFlow, Title: "Between registries:"},
		&cobra.Group{ID: term.GroupRun, Title: "Run a registry:"},
	)
	root.SetHelpCommandGroupID(term.GroupRun)
	root.SetCompletionCommandGroupID(term.GroupRun)
	remote := &site.Remote{T: t, Version: version}
	for _, add := range []func(*cobra.Command, *site.Remote){image.Add, names.Add, rights.Add, trust.Add, upkeep.Add, flow.Add, carried.Add, service.Add} {
		add(root, remote)
	}
	return root
}
