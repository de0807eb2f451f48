package rights

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/pflag"

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

// loggedIn is what a login did.
type loggedIn struct {
	Registry string `json:"registry"`
	Account  string `json:"account"`
	KeptIn   string `json:"kept_in"`
	Default  bool   `json:"default"`
}

func loginCommand() site.Command {
	var flags loginFlags
	return site.Command{
		Name: "login", Group: term.GroupRights, Short: "Log in to a registry",
		Long: "Logs in with a password or a token, asked for at the prompt or read from standard input, and keeps the login in the file\n" +
			"that container engines use as well. Of a Warthesis registry a token for this machine is kept, not the password.",
		Example: "  warthesis login registry.larkspur.example\n  warthesis login localhost:7070 --account ci-berths --from-stdin < token.txt",
		On:      site.OnAny, Args: []site.Arg{{Name: "REGISTRY", Optional: true}}, Facts: loggedIn{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&flags.account, "account", "", "name of the account; asked for where it is left out")
			f.BoolVar(&flags.fromStdin, term.FromStdin, false, "read the password or token from standard input")
			f.StringVar(&flags.password, "password", "", "the password or token; other programs on this machine can read it there, so better leave it out")
			f.BoolVar(&flags.asDefault, "default", false, "take this registry where a command names none")
			f.BoolVar(&flags.company, "company", false, "log in by the company's login, in a browser on any machine")
			f.StringVar(&flags.identity, "identity", "", "file with an identity of a build machine (a JWT), which is traded for a short token; - for standard input")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			registry := c.R.DefaultRegistry()
			if len(c.Args) > 0 {
				var err error
				if registry, err = c.R.ExactRegistry(c.Args[0]); err != nil {
					return err
				}
			}
			if registry == "" {
				return term.Usage("name the registry to log in to, as in localhost:7070")
			}
			given, err := loginBy(ctx, c, registry, flags)
			if err != nil {
				return err
			}
			// What the registry made for this login ends with it where it can't be kept.
			made := flags.company || flags.identity != "" || !isToken(given.Secret)
			kept, err := logIn(ctx, c.R, registry, &given, made)
			if err != nil {
				return err
			}
			isDefault, isNew, err := makeDefault(ctx, registry, flags.asDefault)
			if err != nil && !flags.asDefault {
				// A login in a file of its own needs no home that can be written to.
				c.T.Warn("WARNING: the default registry could not be noted: %v. Name the registry in each command.", err)
				err = nil
			}
			if err != nil {
				return err
			}
			return c.Tell(loggedIn{registry, given.Account, kept, isDefault}, func() {
				c.T.Say("Logged in to %s as %s; the login is kept in %s", registry, given.Account, kept)
				if isNew {
					c.T.Say("Commands that name no registry mean %s from now on", registry)
				}
			})
		},
	}
}

// loginBy gets a login in the way that the flags say.
func loginBy(ctx context.Context, c *site.Call, registry string, flags loginFlags) (login.Credentials, error) {
	ways := 0
	for _, flag := range []string{"company", "identity", term.FromStdin, "password"} {
		if c.Given(flag) {
			ways++
		}
	}
	if ways > 1 {
		return login.Credentials{}, term.Usage("--company, --identity, --%s and --password are four ways to log in; give one of them", term.FromStdin)
	}
	switch {
	case flags.company || flags.identity != "":
		if err := c.Idle("the company's login, or the identity, says whose it is", "account"); err != nil {
			return login.Credentials{}, err
		}
		if flags.company {
			return byCompany(ctx, c.R, c.T, registry)
		}
		return byIdentity(ctx, c.R, registry, flags.identity)
	}
	return askLogin(ctx, c.T, registry, flags)
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
func makeDefault(ctx context.Context, registry string, asked bool) (isDefault, isNew bool, err error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil || !asked && hosts.Default != "" || hosts.Default == registry {
		return err == nil && hosts.Default == registry, false, err
	}
	err = hosts.Change(ctx, func(now *login.Hosts) { now.Default = registry })
	return err == nil, err == nil, err
}

// askLogin gets account and secret from flags, standard input or the prompt.
func askLogin(ctx context.Context, t term.Terminal, registry string, flags loginFlags) (login.Credentials, error) {
	given := login.Credentials{Account: flags.account, Secret: flags.password}
	if flags.password != "" {
		t.Warn("WARNING: a secret on the command line can be read by other programs and stays in the shell's history; use --%s or the prompt.", term.FromStdin)
	}
	var err error
	if given.Account == "" && given.Secret == "" && !flags.fromStdin && term.AsksSomebody() {
		if given.Account, err = term.Ask(ctx, t, term.Question{Says: "Account at " + registry + ": ", Flag: "--account"}); err != nil {
			return given, err
		}
		given.Account = strings.TrimSpace(given.Account)
	}
	if given.Secret == "" {
		if given.Secret, err = term.Secret(ctx, t, "Password or token: ", flags.fromStdin); err != nil {
			return given, err
		}
	}
	if given.Secret == "" {
		return given, term.Usage("the password is empty")
	}
	if given.Account == "" && !isToken(given.Secret) {
		return given, term.Usage("say whose password it is: --account NAME")
	}
	return given, nil
}

// isToken reports whether a secret is one of a Warthesis registry's tokens.
func isToken(secret string) bool {
	// The second kind is signed, and stands for a login for a short time.
	return strings.HasPrefix(secret, "warthesis_") || strings.HasPrefix(secret, "eyJ") && strings.Count(secret, ".") == 2
}

// logIn tries a login and keeps it. In place of a password a Warthesis registry
// gives a token for this machine. made tells that the registry made what is given for this
// login.
func logIn(ctx context.Context, r *site.Remote, registry string, given *login.Credentials, made bool) (kept string, err error) {
	client, err := r.APIAs(registry, *given)
	if err != nil {
		return "", err
	}
	// A file that can't be read is met before a token is made.
	file, err := login.Open(r.Place())
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
		me, err = client.Me(ctx)
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
	if kept, err = file.Keep(ctx, registry, *given); err != nil && made && isToken(given.Secret) {
		err = revokeUnkept(ctx, r, registry, *given, err)
	}
	return kept, err
}

// revokeUnkept revokes a token that could not be kept: nobody has it, and it would live on.
func revokeUnkept(ctx context.Context, r *site.Remote, registry string, given login.Credentials, why error) error {
	client, err := r.APIAs(registry, given)
	if err == nil {
		err = client.Do(context.WithoutCancel(ctx), http.MethodDelete, "/api/v1/session", nil, nil, nil)
	}
	if err != nil {
		return fmt.Errorf("not logged in: the login could not be kept: %w; the token that was made for it could not be revoked either (%v), so revoke it with: %s token list", why, err, term.ProgramName())
	}
	return fmt.Errorf("not logged in: the login could not be kept: %w; the token that was made for it is revoked. Give a file that can be written to with --login-file", why)
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
