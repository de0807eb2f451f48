package rights

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

const tokensPath = "/api/v1/tokens"

func tokenPath(id int64) string { return tokensPath + "/" + strconv.FormatInt(id, 10) }

// mostDays is the longest life of a token.
const mostDays = 3650

// readScopes reads PATTERN:ACTION,ACTION.
func readScopes(given []string) ([]api.Scope, error) {
	var scopes []api.Scope
	for _, s := range given {
		pattern, actions, found := strings.Cut(s, ":")
		if !found || pattern == "" || actions == "" {
			return nil, term.Usage("--scope is %q: write PATTERN:ACTION, as in timetable/*:pull,push", s)
		}
		scopes = append(scopes, api.Scope{Pattern: pattern, Actions: strings.Split(actions, ",")})
	}
	return scopes, nil
}

var tokenArg = site.Arg{Name: "TOKEN", Ask: site.Tokens}

func tokenCommands() site.Command {
	return site.Command{
		Name: "token", Group: term.GroupRights, Short: "Make, show, list, revoke or replace tokens",
		Under: []site.Command{tokenMake(), tokenShow(), tokenList(), tokenRevoke(), tokenReplace()},
	}
}

// owner is whose tokens a command works on.
type owner struct{ account string }

func (o *owner) addTo(f *pflag.FlagSet) {
	f.StringVar(&o.account, "account", "", "whose; your own where left out; as a registry admin you may work on those of others")
}

func (o *owner) query() url.Values {
	if o.account == "" {
		return nil
	}
	return url.Values{"account": {o.account}}
}

// ofAccounts completes the flag that names an account.
var ofAccounts = map[string]site.Completer{"account": site.Accounts}

// addProve adds the flag by which a token outlasts the login that makes it.
func addProve(f *pflag.FlagSet, prove *bool) {
	f.BoolVar(prove, term.FromStdin, false, "read the password of your own account from standard input, or ask for it at a terminal: with it the token may last longer than the login by which you make it")
}

// proof gets the password where that was said.
func proof(ctx context.Context, c *site.Call, prove bool) (string, error) {
	if !prove {
		return "", nil
	}
	return term.Secret(ctx, c.T, "Password of your account: ", true)
}

func tokenMake() site.Command {
	var whose owner
	var days int
	var scopes []string
	var prove bool
	return site.Command{
		Name: "make", Short: "Make a token; its secret is shown this once",
		Example: "  warthesis token make \"build pipeline\" --account ci-berths --scope 'berths/seatmap:pull,push' --days 90",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "NAME"}}, Facts: api.MadeToken{}, Values: ofAccounts,
		Flags: func(f *pflag.FlagSet) {
			whose.addTo(f)
			term.Texts(f, &scopes, "scope", "what it may do and where, PATTERN:ACTION,ACTION; actions are pull, push, delete and manage, * in the pattern is any text")
			term.Number(f, &days, "days", 90, 0, mostDays, "how many days it is good; 0 is without end")
			addProve(f, &prove)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			parsed, err := readScopes(scopes)
			if err != nil {
				return err
			}
			if len(parsed) == 0 {
				return term.Usage("say what the token is for, as in --scope 'berths/seatmap:pull,push'")
			}
			made, err := makeToken(ctx, c, api.NewToken{Account: whose.account, Name: c.Args[0], Scopes: parsed, Days: days}, prove)
			if err != nil {
				return err
			}
			return showSecret(ctx, c, made)
		},
	}
}

// makeToken makes a token, and warns where it ends sooner than was asked, with the
// login by which it is made.
func makeToken(ctx context.Context, c *site.Call, body api.NewToken, prove bool) (made api.MadeToken, err error) {
	if body.Password, err = proof(ctx, c, prove); err != nil {
		return made, err
	}
	if err := c.Do(ctx, http.MethodPost, tokensPath, nil, body, &made); err != nil {
		return made, err
	}
	warnShort(c, made, time.Duration(body.Days)*24*time.Hour)
	return made, nil
}

// warnShort warns where a token ends sooner than was wanted; 0 is without end.
func warnShort(c *site.Call, made api.MadeToken, wanted time.Duration) {
	const slack = 24 * time.Hour
	if made.EndsAt != nil && (wanted == 0 || made.EndsAt.Sub(made.CreatedAt) < wanted-slack) {
		c.T.Warn("WARNING: the token ends on %s, with the login by which it was made. For a longer one prove who you are: --%s, with your password on standard input.",
			made.EndsAt.Format(time.DateOnly), term.FromStdin)
	}
}

// showSecret prints a new token: the secret alone on standard output, so that it can
// be piped on. A secret that nobody got is worth nothing, and is revoked.
func showSecret(ctx context.Context, c *site.Call, made api.MadeToken) error {
	return written(ctx, c, made, c.Tell(made, func() {
		until := "without end"
		if made.EndsAt != nil {
			until = "until " + made.EndsAt.Format(time.DateOnly)
		}
		c.T.Warn("The token %q of %s, good %s, is shown this once:", made.Name, made.Account, until)
		c.T.Say("%s", made.Secret)
		c.T.Hint("Log in with it:  %s", c.Self("login", c.Registry, "--account", made.Account, "--"+term.FromStdin))
	}))
}

// written revokes a token whose secret could not be written.
func written(ctx context.Context, c *site.Call, made api.MadeToken, err error) error {
	if err == nil {
		err = c.T.Fault()
	}
	if err == nil {
		return nil
	}
	query := url.Values{"account": {made.Account}}
	revoked := c.Do(context.WithoutCancel(ctx), http.MethodDelete, tokenPath(made.ID), query, nil, nil)
	if revoked != nil {
		return fmt.Errorf("the secret of the token %q could not be written (%w), and the token could not be revoked: %w", made.Name, err, revoked)
	}
	return fmt.Errorf("the secret of the token %q could not be written, so it was revoked: %w", made.Name, err)
}

func tokenRevoke() site.Command {
	var whose owner
	return site.Command{
		Name: "revoke", Short: "Revoke a token, by name or number; it acts at once", On: site.OnRegistry, Args: []site.Arg{tokenArg}, Facts: api.Token{}, Asks: true,
		Flags: whose.addTo, Values: ofAccounts,
		Run: func(ctx context.Context, c *site.Call) error {
			token, err := findToken(ctx, c, whose, c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Revoke the token %q of %s, last used %s? Whoever has it is refused from then on. This cannot be undone.", token.Name, token.Account, term.When(token.UsedAt))); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, tokenPath(token.ID), whose.query(), nil, nil); err != nil {
				return err
			}
			return c.Tell(token, func() { c.T.Say("Revoked the token %s; whoever still has it is refused from now on", token.Name) })
		},
	}
}

func tokenReplace() site.Command {
	var whose owner
	var prove bool
	return site.Command{
		Name: "replace", Short: "Revoke a token and make one with the same name and scopes", On: site.OnRegistry, Args: []site.Arg{tokenArg}, Facts: api.MadeToken{}, Values: ofAccounts,
		Flags: func(f *pflag.FlagSet) {
			whose.addTo(f)
			addProve(f, &prove)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			old, err := findToken(ctx, c, whose, c.Args[0])
			if err != nil {
				return err
			}
			password, err := proof(ctx, c, prove)
			if err != nil {
				return err
			}
			var made api.MadeToken
			if err := c.Do(ctx, http.MethodPost, tokenPath(old.ID)+"/replace", whose.query(), api.Proof{Password: password}, &made); err != nil {
				return err
			}
			wanted := time.Duration(0)
			if old.EndsAt != nil {
				wanted = old.EndsAt.Sub(old.CreatedAt)
			}
			warnShort(c, made, wanted)
			return showSecret(ctx, c, made)
		},
	}
}

func listOfTokens(ctx context.Context, c *site.Call, whose owner) ([]api.Token, error) {
	var list api.TokenList
	return list.Tokens, c.Do(ctx, http.MethodGet, tokensPath, whose.query(), nil, &list)
}

// findToken returns a token by its name or its number.
func findToken(ctx context.Context, c *site.Call, whose owner, which string) (api.Token, error) {
	all, err := listOfTokens(ctx, c, whose)
	if err != nil {
		return api.Token{}, err
	}
	var named []api.Token
	for _, token := range all {
		if strconv.FormatInt(token.ID, 10) == which {
			return token, nil
		}
		if token.Name == which {
			named = append(named, token)
		}
	}
	switch len(named) {
	case 0:
		return api.Token{}, oci.Errorf(oci.CodeNameUnknown, "there is no token %s; %s lists them", which, c.Self("token list", c.Registry))
	case 1:
		return named[0], nil
	}
	return api.Token{}, term.Usage("%d tokens are called %s; name one by its number, which %s shows", len(named), which, c.Self("token list", c.Registry))
}

func tokenShow() site.Command {
	var whose owner
	return site.Command{
		Name: "show", Short: "Show a token, without its secret", On: site.OnRegistry, Args: []site.Arg{tokenArg}, Facts: api.Token{}, Flags: whose.addTo, Values: ofAccounts,
		Run: func(ctx context.Context, c *site.Call) error {
			token, err := findToken(ctx, c, whose, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(token, func() {
				c.T.Fields("Token", token.Name, [2]string{"Number", strconv.FormatInt(token.ID, 10)}, [2]string{"Account", token.Account}, [2]string{"Kind", token.Kind}, [2]string{"For", sayScopes(token)},
					[2]string{"Made", term.When(&token.CreatedAt)}, [2]string{"Ends", endOf(token)}, [2]string{"Used", term.When(token.UsedAt)}, [2]string{"From", token.UsedFrom})
			})
		},
	}
}

func tokenList() site.Command {
	var whose owner
	return site.Command{
		Name: "list", Short: "List tokens", On: site.OnRegistry, Facts: []api.Token{}, Flags: whose.addTo, Values: ofAccounts,
		Run: func(ctx context.Context, c *site.Call) error {
			all, err := listOfTokens(ctx, c, whose)
			if err != nil {
				return err
			}
			return c.Tell(all, func() {
				if len(all) == 0 {
					c.T.Say("No tokens")
					return
				}
				w := c.T.Table("Number", "Name", "For", "Made", "Ends", "Used", "From")
				w.Right("Number")
				for _, token := range all {
					w.Row(token.ID, token.Name, sayScopes(token), term.When(&token.CreatedAt), endOf(token), term.When(token.UsedAt), token.UsedFrom)
				}
				w.Draw()
			})
		},
	}
}

func endOf(token api.Token) string {
	ends := "never"
	if token.EndsAt != nil {
		ends = token.EndsAt.Format(time.DateOnly)
	}
	if token.Ended {
		ends += " (over)"
	}
	return ends
}

func sayScopes(t api.Token) string {
	if len(t.Scopes) == 0 {
		return "all that the account may (" + t.Kind + ")"
	}
	var parts []string
	for _, s := range t.Scopes {
		parts = append(parts, s.Pattern+":"+strings.Join(s.Actions, ","))
	}
	return strings.Join(parts, " ")
}
