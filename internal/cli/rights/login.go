package rights

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/login"
)

// loginDays is how long a login lasts.
const loginDays = 90

type loginFlags struct {
	account   string
	password  string
	fromStdin bool
	asDefault bool
	company   bool
	identity  string
}

func addLogin(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var flags loginFlags
	command := &cobra.Command{
		Use:     "login REGISTRY",
		GroupID: term.GroupRights,
		Short:   "Log in to a registry",
		Long: "Logs in with a password or a token, asked for at the prompt or read from standard input, and keeps the login in the file\n" +
			"that container engines use as well. Of a Warthesis registry a token for this machine is kept, not the password.",
		Example: "  warthesis login registry.larkspur.example\n  warthesis login localhost:7070 --account ci-berths --from-stdin < token.txt",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := site.RegistryOr(args)
			if err != nil {
				return err
			}
			given, err := loginBy(c.Context(), r, t, registry, flags)
			if err != nil {
				return err
			}
			kept, err := logIn(c.Context(), r, registry, &given)
			if err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Logged in to %s as %s; the login is kept in %s\n", registry, given.Account, kept)
			return makeDefault(c.Context(), t, registry, flags.asDefault)
		},
	}
	f := command.Flags()
	f.StringVar(&flags.account, "account", "", "name of the account; asked for where it is left out")
	f.BoolVar(&flags.fromStdin, "from-stdin", false, "read the password or token from standard input")
	f.StringVar(&flags.password, "password", "", "the password or token; other programs on this machine can read it there, so better leave it out")
	f.BoolVar(&flags.asDefault, "default", false, "take this registry where a command names none")
	f.BoolVar(&flags.company, "company", false, "log in by the company's login, in a browser on any machine")
	f.StringVar(&flags.identity, "identity", "", "file with an identity of a build machine (a JWT), which is traded for a short token; - for standard input")
	command.MarkFlagsMutuallyExclusive("company", "identity", "from-stdin", "password")
	root.AddCommand(command)
}

// loginBy gets a login in the way that the flags say.
func loginBy(ctx context.Context, r *site.Remote, t term.Terminal, registry string, flags loginFlags) (login.Credentials, error) {
	switch {
	case flags.company:
		return byCompany(ctx, r, t, registry)
	case flags.identity != "":
		return byIdentity(ctx, r, registry, flags.identity)
	}
	return askLogin(t, registry, flags)
}

// nobody is a client without a login, whose refusals the registry itself words.
func nobody(r *site.Remote, registry string) (*api.Client, error) {
	client, err := r.APIAs(registry, login.Credentials{})
	if err == nil {
		client.NotLoggedIn = nil
	}
	return client, err
}

// byCompany lets somebody confirm the login in a browser (RFC 8628).
func byCompany(ctx context.Context, r *site.Remote, t term.Terminal, registry string) (login.Credentials, error) {
	client, err := nobody(r, registry)
	if err != nil {
		return login.Credentials{}, err
	}
	var begun api.Device
	if err := client.Do(ctx, "POST", "/api/v1/company/device", nil, nil, &begun); err != nil {
		return login.Credentials{}, err
	}
	fmt.Fprintf(t.Err, "Open  %s  in a browser and enter the code  %s\n", begun.Address, begun.UserCode)
	if begun.Complete != "" {
		fmt.Fprintf(t.Err, "Or open  %s\n", begun.Complete)
	}
	body := map[string]string{"name": "login on " + machineName()}
	for {
		select {
		case <-ctx.Done():
			return login.Credentials{}, ctx.Err()
		case <-time.After(time.Duration(max(1, begun.Interval)) * time.Second):
		}
		var outcome api.DeviceOutcome
		err := client.Do(ctx, "POST", "/api/v1/company/device/"+url.PathEscape(begun.Handle), nil, body, &outcome)
		if err != nil {
			return login.Credentials{}, err
		}
		if outcome.Done && outcome.Token != nil {
			return login.Credentials{Account: outcome.Token.Account, Secret: outcome.Token.Secret}, nil
		}
	}
}

// byIdentity trades an identity that somebody else vouches for.
func byIdentity(ctx context.Context, r *site.Remote, registry, file string) (login.Credentials, error) {
	var raw []byte
	var err error
	if file == "-" {
		raw, err = io.ReadAll(io.LimitReader(os.Stdin, 64<<10))
	} else {
		raw, err = given.Read(file, 64<<10)
	}
	if err != nil {
		return login.Credentials{}, fmt.Errorf("read the identity: %w", err)
	}
	client, err := nobody(r, registry)
	if err != nil {
		return login.Credentials{}, err
	}
	var short api.ShortToken
	err = client.Do(ctx, "POST", "/api/v1/identity", nil, api.Identity{Identity: strings.TrimSpace(string(raw))}, &short)
	return login.Credentials{Account: short.Account, Secret: short.Secret}, err
}

func machineName() string {
	machine, err := os.Hostname()
	if err != nil {
		return "a machine without a name"
	}
	return machine
}

// makeDefault notes which registry is meant where none is named: the one that was
// asked for, or the first of all.
func makeDefault(ctx context.Context, t term.Terminal, registry string, asked bool) error {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil || !asked && hosts.Default != "" || hosts.Default == registry {
		return err
	}
	if err := hosts.Change(ctx, func(now *login.Hosts) { now.Default = registry }); err != nil {
		return err
	}
	fmt.Fprintf(t.Out, "Commands that name no registry mean %s from now on\n", registry)
	return nil
}

// askLogin gets account and secret from flags, standard input or the prompt.
func askLogin(t term.Terminal, registry string, flags loginFlags) (login.Credentials, error) {
	given := login.Credentials{Account: flags.account, Secret: flags.password}
	input := bufio.NewReader(os.Stdin)
	interactive := term.AsksSomebody()
	if flags.password != "" {
		fmt.Fprintln(t.Err, "WARNING: a secret on the command line can be read by other programs and stays in the shell's history; use --from-stdin or the prompt.")
	}
	if given.Account == "" && interactive && !flags.fromStdin {
		fmt.Fprintf(t.Err, "Account at %s: ", registry)
		line, err := input.ReadString('\n')
		if err != nil {
			return given, fmt.Errorf("read the account: %w", err)
		}
		given.Account = strings.TrimSpace(line)
	}
	switch {
	case given.Secret != "":
	case flags.fromStdin:
		raw, err := io.ReadAll(io.LimitReader(input, 64<<10))
		if err != nil {
			return given, fmt.Errorf("read the secret: %w", err)
		}
		given.Secret = strings.TrimRight(string(raw), "\r\n")
	case interactive:
		secret, err := term.ReadHidden(t, "Password or token: ")
		if err != nil {
			return given, err
		}
		given.Secret = secret
	default:
		return given, term.Usage("there is no terminal to ask for the password; pass it on standard input with --from-stdin")
	}
	if given.Account == "" && !isToken(given.Secret) {
		return given, term.Usage("say whose password it is: --account NAME")
	}
	if given.Secret == "" {
		return given, term.Usage("the password is empty")
	}
	return given, nil
}

// isToken reports whether a secret is one of a Warthesis registry's tokens.
func isToken(secret string) bool {
	// The second kind is signed, and stands for a login for a short time.
	return strings.HasPrefix(secret, "warthesis_") || strings.HasPrefix(secret, "eyJ") && strings.Count(secret, ".") == 2
}

// logIn tries a login and keeps it. In place of a password a Warthesis registry
// gives a token for this machine.
func logIn(ctx context.Context, r *site.Remote, registry string, given *login.Credentials) (kept string, err error) {
	client, err := r.APIAs(registry, *given)
	if err != nil {
		return "", err
	}
	var service api.Service
	err = client.Do(ctx, "GET", "/api/v1/service", nil, nil, &service)
	switch {
	case errors.Is(err, api.ErrOtherMake):
		// Another make of registry: the protocol's own check says whether the login is right.
		err = checkElsewhere(ctx, r, registry, *given)
	case err == nil && isToken(given.Secret):
		var me api.Me
		err = client.Do(ctx, "GET", "/api/v1/me", nil, nil, &me)
		if err == nil && me.Account == "" {
			err = fmt.Errorf("%s answers, and does not say whose token that is; nothing is kept", client.Base)
		}
		given.Account = me.Account
	case err == nil:
		*given, err = exchange(ctx, client, *given)
	}
	if err != nil {
		return "", err
	}
	file, err := login.Open(r.Place())
	if err != nil {
		return "", err
	}
	return file.Keep(ctx, registry, *given)
}

// exchange gets a token in place of a password.
func exchange(ctx context.Context, client *api.Client, given login.Credentials) (login.Credentials, error) {
	var made api.MadeToken
	err := client.Do(ctx, "POST", "/api/v1/tokens", nil, api.NewToken{Name: "login on " + machineName(), Login: true, Days: loginDays}, &made)
	if err == nil && made.Secret == "" {
		err = fmt.Errorf("%s answers, and gives no token; nothing is kept", client.Base)
	}
	return login.Credentials{Account: given.Account, Secret: made.Secret}, err
}

func checkElsewhere(ctx context.Context, r *site.Remote, registry string, given login.Credentials) error {
	client, err := r.PeerAs(registry, func(context.Context) (login.Credentials, error) { return given, nil })
	if err != nil {
		return err
	}
	checked, err := client.CheckLogin(ctx)
	switch {
	case err != nil:
		return err
	case !checked:
		fmt.Fprintf(r.T.Err, "WARNING: %s answers anybody, so whether the login is right could not be checked. It is kept as it was given.\n", registry)
	case !isToken(given.Secret):
		fmt.Fprintf(r.T.Err, "%s gives no token in place of a password: what you gave is kept itself. If the registry has tokens, log in with one.\n", registry)
	}
	return nil
}
