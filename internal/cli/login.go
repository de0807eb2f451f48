package cli

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

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"warthesis/internal/api"
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

func addLogin(root *cobra.Command, t terminal, r *remote) {
	var flags loginFlags
	command := &cobra.Command{
		Use:     "login REGISTRY",
		GroupID: groupRights,
		Short:   "Log in to a registry",
		Long: "Logs in with a password or a token, asked for at the prompt or read from standard input, and keeps the login in the file\n" +
			"that container engines use as well. Of a Warthesis registry a token for this machine is kept, not the password.",
		Example: "  warthesis login registry.larkspur.example\n  warthesis login localhost:7070 --account ci-berths --from-stdin < token.txt",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := registryOr(args)
			if err != nil {
				return err
			}
			given, err := r.loginBy(c.Context(), t, registry, flags)
			if err != nil {
				return err
			}
			kept, err := r.logIn(c.Context(), registry, &given)
			if err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Logged in to %s as %s; the login is kept in %s\n", registry, given.Account, kept)
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
func (r *remote) loginBy(ctx context.Context, t terminal, registry string, flags loginFlags) (login.Credentials, error) {
	switch {
	case flags.company:
		return r.byCompany(ctx, t, registry)
	case flags.identity != "":
		return r.byIdentity(ctx, registry, flags.identity)
	}
	return askLogin(t, registry, flags)
}

// nobody is a client without a login, whose refusals the registry itself words.
func (r *remote) nobody(registry string) (*api.Client, error) {
	client, err := r.apiAs(registry, login.Credentials{})
	if err == nil {
		client.NotLoggedIn = nil
	}
	return client, err
}

// byCompany lets somebody confirm the login in a browser (RFC 8628).
func (r *remote) byCompany(ctx context.Context, t terminal, registry string) (login.Credentials, error) {
	client, err := r.nobody(registry)
	if err != nil {
		return login.Credentials{}, err
	}
	var begun api.Device
	if err := client.Do(ctx, "POST", "/api/v1/company/device", nil, nil, &begun); err != nil {
		return login.Credentials{}, err
	}
	fmt.Fprintf(t.err, "Open  %s  in a browser and enter the code  %s\n", begun.Address, begun.UserCode)
	if begun.Complete != "" {
		fmt.Fprintf(t.err, "Or open  %s\n", begun.Complete)
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
func (r *remote) byIdentity(ctx context.Context, registry, file string) (login.Credentials, error) {
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
	client, err := r.nobody(registry)
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
func makeDefault(ctx context.Context, t terminal, registry string, asked bool) error {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil || !asked && hosts.Default != "" || hosts.Default == registry {
		return err
	}
	if err := hosts.Change(ctx, func(now *login.Hosts) { now.Default = registry }); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "Commands that name no registry mean %s from now on\n", registry)
	return nil
}

// askLogin gets account and secret from flags, standard input or the prompt.
func askLogin(t terminal, registry string, flags loginFlags) (login.Credentials, error) {
	given := login.Credentials{Account: flags.account, Secret: flags.password}
	input := bufio.NewReader(os.Stdin)
	interactive := term.IsTerminal(int(os.Stdin.Fd()))
	if flags.password != "" {
		fmt.Fprintln(t.err, "WARNING: a secret on the command line can be read by other programs and stays in the shell's history; use --from-stdin or the prompt.")
	}
	if given.Account == "" && interactive && !flags.fromStdin {
		fmt.Fprintf(t.err, "Account at %s: ", registry)
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
		fmt.Fprint(t.err, "Password or token: ")
		raw, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(t.err)
		if err != nil {
			return given, fmt.Errorf("read the secret: %w", err)
		}
		given.Secret = string(raw)
	default:
		return given, usage("there is no terminal to ask for the password; pass it on standard input with --from-stdin")
	}
	if given.Account == "" && !isToken(given.Secret) {
		return given, usage("say whose password it is: --account NAME")
	}
	if given.Secret == "" {
		return given, usage("the password is empty")
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
func (r *remote) logIn(ctx context.Context, registry string, given *login.Credentials) (kept string, err error) {
	client, err := r.apiAs(registry, *given)
	if err != nil {
		return "", err
	}
	var service api.Service
	err = client.Do(ctx, "GET", "/api/v1/service", nil, nil, &service)
	switch {
	case errors.Is(err, api.ErrOtherMake):
		// Another make of registry: the protocol's own check says whether the login is right.
		err = r.checkElsewhere(ctx, registry, *given)
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
	file, err := login.Open(r.place())
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

func (r *remote) checkElsewhere(ctx context.Context, registry string, given login.Credentials) error {
	client, err := r.peerAs(registry, func(context.Context) (login.Credentials, error) { return given, nil })
	if err != nil {
		return err
	}
	checked, err := client.CheckLogin(ctx)
	switch {
	case err != nil:
		return err
	case !checked:
		fmt.Fprintf(r.t.err, "WARNING: %s answers anybody, so whether the login is right could not be checked. It is kept as it was given.\n", registry)
	case !isToken(given.Secret):
		fmt.Fprintf(r.t.err, "%s gives no token in place of a password: what you gave is kept itself. If the registry has tokens, log in with one.\n", registry)
	}
	return nil
}

func addLogout(root *cobra.Command, t terminal, r *remote) {
	command := &cobra.Command{
		Use:     "logout [REGISTRY]",
		GroupID: groupRights,
		Short:   "Log out of a registry",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := registryOr(args)
			if err != nil {
				return err
			}
			return r.logOut(c.Context(), t, registry)
		},
	}
	root.AddCommand(command)
}

func (r *remote) logOut(ctx context.Context, t terminal, registry string) error {
	file, err := login.Open(r.place())
	if err != nil {
		return err
	}
	client, err := r.api(ctx, registry)
	if err != nil {
		return err
	}
	if client.Secret != "" && isToken(client.Secret) {
		if err := client.Do(ctx, "DELETE", "/api/v1/session", nil, nil, nil); err != nil {
			fmt.Fprintf(t.err, "warthesis: the login could not be ended at the registry, and is only forgotten here: %v\n", err)
		}
	}
	found, err := file.Forget(ctx, registry)
	if err != nil {
		return err
	}
	if !found {
		fmt.Fprintf(t.out, "There was no login for %s in %s\n", registry, file.Path)
		return nil
	}
	fmt.Fprintf(t.out, "Logged out of %s\n", registry)
	return nil
}

func addWhoami(root *cobra.Command, t terminal, r *remote) {
	var output string
	command := &cobra.Command{
		Use:     "whoami [REGISTRY]",
		GroupID: groupRights,
		Short:   "Show who you are at a registry, and what you may do there",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := registryOr(args)
			if err != nil {
				return err
			}
			return r.whoami(c.Context(), t, registry, output)
		},
	}
	addOutput(command, &output)
	root.AddCommand(command)
}

func (r *remote) whoami(ctx context.Context, t terminal, registry, output string) error {
	if err := checkOutput(output); err != nil {
		return err
	}
	found, err := r.credentials(ctx, registry)
	if err != nil {
		return err
	}
	if found.Empty() {
		return notLoggedIn(registry)
	}
	client, err := r.api(ctx, registry)
	if err != nil {
		return err
	}
	var me api.Me
	if err := client.Do(ctx, "GET", "/api/v1/me", nil, nil, &me); err != nil {
		return err
	}
	if output == outputJSON {
		return writeJSON(t.out, me)
	}
	fmt.Fprintf(t.out, "%s at %s, by %s\n", me.Account, registry, found.From)
	if me.Token != "" {
		until := "without end"
		if me.EndsAt != nil {
			until = "good until " + me.EndsAt.Format(time.DateOnly)
		}
		fmt.Fprintf(t.out, "The login is the token %q, %s\n", me.Token, until)
	}
	if len(me.Groups) > 0 {
		fmt.Fprintf(t.out, "In the groups %s\n", strings.Join(me.Groups, ", "))
	}
	if len(me.Scopes) > 0 {
		for _, s := range me.May {
			fmt.Fprintf(t.out, "By this token: %s in %s\n", strings.Join(s.Actions, ", "), s.Pattern)
		}
		if len(me.May) == 0 {
			fmt.Fprintln(t.out, "By this token nothing but what anybody may: its scopes and the roles of the account have nothing in common")
		}
	}
	if me.Admin {
		fmt.Fprintln(t.out, "Registry admin: may do everything, everywhere")
	}
	if len(me.Roles) == 0 && !me.Admin && len(me.Scopes) == 0 {
		fmt.Fprintln(t.out, "No roles: what anybody may pull can be pulled, and nothing else")
	}
	if len(me.Roles) > 0 {
		fmt.Fprintln(t.out)
		renderRoles(t, me.Roles, false)
	}
	return nil
}

// sayPlace names a place in a table.
func sayPlace(place string) string {
	if place == "" {
		return "the registry"
	}
	return place
}

// renderRoles draws a table of roles; with who, whose they are.
func renderRoles(t terminal, roles []api.Role, who bool) {
	titles := []string{"Place", "Role", "Used", "Given"}
	if who {
		titles = append([]string{"Who"}, titles...)
	} else {
		titles = append(titles, "By the group")
	}
	w := newTable(t, titles...)
	for _, role := range roles {
		used := when(role.UsedAt)
		if role.Unused {
			used += "  (not in 90 days: can it be narrower?)"
		}
		row := table.Row{sayPlace(role.Place), role.Role, used, when(&role.GrantedAt)}
		if who {
			name := role.Account
			if role.Group != "" {
				name = "group " + role.Group
			}
			row = append(table.Row{name}, row...)
		} else {
			row = append(row, role.Group)
		}
		w.AppendRow(row)
	}
	w.Render()
}
