// Package cli holds the commands, and what people see of them in a terminal.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"warthesis/internal/oci"
)

// Exit codes.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitRefused  = 3
	exitNotFound = 4
)

// usageError is a command line that cannot be meant.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// terminal is where a command reads and writes.
type terminal struct {
	out io.Writer
	err io.Writer
	// patient is set by what takes its time to end in good order.
	patient *atomic.Bool
}

// endWithin is how long a command that was stopped may take to end by itself.
const endWithin = 900 * time.Millisecond

// endSoon ends the program soon after it was told to stop, whatever it waits for: the
// terminal at a prompt, a disk, a far end. The terminal is left as it was found.
func endSoon(ctx context.Context, t terminal) {
	before, err := term.GetState(int(os.Stdin.Fd()))
	<-ctx.Done()
	if t.patient.Load() {
		return
	}
	time.Sleep(endWithin)
	if t.patient.Load() {
		return
	}
	if err == nil {
		_ = term.Restore(int(os.Stdin.Fd()), before)
	}
	fmt.Fprintln(t.err, "Stopped.")
	os.Exit(exitFailed)
}

// Main runs the command line and returns the exit code.
func Main(args []string, version string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	t := terminal{&visible{to: os.Stdout}, &visible{to: os.Stderr}, new(atomic.Bool)}
	defer func() {
		// It ends by itself.
		t.patient.Store(true)
		stop()
	}()
	go endSoon(ctx, t)
	root := newRoot(t, version)
	root.SetArgs(asHelper(os.Args[0], args))
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(t.err, "Stopped.")
		return exitFailed
	}
	fmt.Fprintf(t.err, "warthesis: %v\n", err)
	return exitCode(err)
}

// exitCode says by number what went wrong, for scripts.
func exitCode(err error) int {
	var wrongUse usageError
	switch {
	case errors.As(err, &wrongUse):
		return exitUsage
	case errors.Is(err, oci.CodeUnauthorized), errors.Is(err, oci.CodeDenied):
		return exitRefused
	case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeBlobUnknown):
		return exitNotFound
	}
	return exitFailed
}

// Groups of commands in the help.
const (
	groupImages = "images"
	groupLook   = "look"
	groupRights = "rights"
	groupRun    = "run"
)

func newRoot(t terminal, version string) *cobra.Command {
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
				return usage("there is no command %q; warthesis --help lists them", args[0])
			}
			return nil
		},
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetOut(t.out)
	root.SetErr(t.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%w (see warthesis %s --help)", err, c.Name())
	})
	root.SetVersionTemplate("warthesis {{.Version}}\n")
	root.AddGroup(
		&cobra.Group{ID: groupImages, Title: "Move images:"},
		&cobra.Group{ID: groupLook, Title: "Look:"},
		&cobra.Group{ID: groupRights, Title: "Who may do what:"},
		&cobra.Group{ID: groupRun, Title: "Run a registry:"},
	)
	remote := &remote{t: t, version: version}
	root.PersistentFlags().BoolVar(&remote.unencrypted, "unencrypted", false,
		"speak plain HTTP to a registry that is not on this machine; everybody on the way can read and change what passes")
	root.PersistentFlags().StringVar(&remote.authority, "ca", "", "trust the certificates in this PEM file, besides those of the system")
	root.PersistentFlags().StringVar(&remote.loginFile, "login-file", "", "file with the logins, in the form that container engines share")
	addPush(root, t, remote)
	addPull(root, t, remote)
	addList(root, t, remote)
	addShow(root, t, remote)
	addIdentify(root, t, remote)
	addLogin(root, t, remote)
	addLogout(root, t, remote)
	addWhoami(root, t, remote)
	addTokens(root, t, remote)
	addPullSecret(root, t, remote)
	addHelper(root, t, remote)
	addLogins(root, t, remote)
	addTrust(root, t, remote)
	addDoctor(root, t, remote)
	addGrant(root, t, remote)
	addTeam(root, t, remote)
	addPlaces(root, t, remote, namespaceKind)
	addPlaces(root, t, remote, repositoryKind)
	addAccounts(root, t, remote)
	addGroups(root, t, remote)
	addIdentityRules(root, t, remote)
	addSettings(root, t, remote)
	addAudit(root, t, remote)
	addServe(root, t, version)
	addAdminPassword(root, t)
	addDemo(root, t, version)
	checkArguments(root)
	return root
}

// once is a flag's value that is given once; given twice, one of the two would go
// without a word. Values that are lists gather.
type once struct {
	pflag.Value
	name  string
	given bool
}

// Set takes the value.
func (o *once) Set(s string) error {
	if !o.given {
		o.given = true
		return o.Value.Set(s)
	}
	if o.Type() == "list" {
		return o.Value.Set(o.String() + "," + s)
	}
	return fmt.Errorf("--%s is given twice", o.name)
}

// onlyOnce lets each flag that is no list be given once.
func onlyOnce(flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		_, gathers := f.Value.(pflag.SliceValue)
		if _, already := f.Value.(*once); !already && !gathers && f.Value.Type() != "bool" {
			f.Value = &once{Value: f.Value, name: f.Name}
		}
	})
}

// checkArguments makes wrong numbers of arguments wrong use, on every command; one
// that only holds others says which it has.
func checkArguments(parent *cobra.Command) {
	onlyOnce(parent.PersistentFlags())
	for _, c := range parent.Commands() {
		onlyOnce(c.Flags())
		if c.HasSubCommands() {
			c.Args = func(c *cobra.Command, args []string) error {
				if len(args) > 0 {
					return usage("there is no command %q; %s --help lists them", c.Name()+" "+args[0], c.CommandPath())
				}
				return nil
			}
			c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
			checkArguments(c)
			continue
		}
		c.Args = asUsage(c.Args)
	}
}

// asUsage makes wrong numbers of arguments wrong use.
func asUsage(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if check == nil {
			check = cobra.NoArgs
		}
		if err := check(c, args); err != nil {
			return usage("%w; it is used as: %s", err, c.UseLine())
		}
		return nil
	}
}
