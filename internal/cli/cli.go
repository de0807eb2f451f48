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
	if err == nil {
		return term.ExitDone
	}
	if errors.Is(err, context.Canceled) {
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
			"\"warthesis serve\" is the registry; every other command talks to one.",
		Version:       version,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return term.Usage("there is no command %q; warthesis --help lists them", args[0])
			}
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetOut(t.Out)
	root.SetErr(t.Err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return term.Usage("%w (see warthesis %s --help)", err, c.Name())
	})
	root.SetVersionTemplate("warthesis {{.Version}}\n")
	root.AddGroup(
		&cobra.Group{ID: term.GroupImages, Title: "Move images:"},
		&cobra.Group{ID: term.GroupLook, Title: "Look:"},
		&cobra.Group{ID: term.GroupRights, Title: "Who may do what:"},
		&cobra.Group{ID: term.GroupRun, Title: "Run a registry:"},
	)
	remote := &site.Remote{T: t, Version: version}
	root.PersistentFlags().BoolVar(&remote.Unencrypted, "unencrypted", false,
		"speak plain HTTP to a registry that is not on this machine; everybody on the way can read and change what passes")
	root.PersistentFlags().StringVar(&remote.Authority, "ca", "", "trust the certificates in this PEM file, besides those of the system")
	root.PersistentFlags().StringVar(&remote.LoginFile, "login-file", "", "file with the logins, in the form that container engines share")
	for _, add := range []func(*cobra.Command, *site.Remote){image.Add, names.Add, rights.Add, trust.Add, upkeep.Add, service.Add} {
		add(root, remote)
	}
	term.CheckArguments(root)
	return root
}
