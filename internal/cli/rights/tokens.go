package rights

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/service"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

// readScopes reads PATTERN:ACTION,ACTION.
func readScopes(given []string) ([]api.Scope, error) {
	var scopes []api.Scope
	for _, s := range given {
		pattern, actions, found := strings.Cut(s, ":")
		if !found || pattern == "" || actions == "" {
			return nil, term.Usage("%q is no scope; write PATTERN:ACTION, as in timetable/*:pull,push", s)
		}
		scopes = append(scopes, api.Scope{Pattern: pattern, Actions: strings.Split(actions, ",")})
	}
	return scopes, nil
}

func addTokens(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{Use: "token", GroupID: term.GroupRights, Short: "Make, list, revoke or replace tokens"}
	var account string
	parent.PersistentFlags().StringVar(&account, "account", "", "whose tokens; as a registry admin you may work on those of others")
	of := func() url.Values {
		if account == "" {
			return nil
		}
		return url.Values{"account": {account}}
	}
	var days int
	var scopes []string
	var output string
	var prove bool
	makes := &cobra.Command{
		Use: "make REGISTRY NAME", Short: "Make a token; its secret is shown this once", Args: cobra.ExactArgs(2),
		Example: "  warthesis token make localhost:7070 \"build pipeline\" --account ci-berths --scope 'berths/seatmap:pull,push' --days 90",
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			parsed, err := readScopes(scopes)
			if err != nil {
				return err
			}
			if len(parsed) == 0 {
				return term.Usage("say what the token is for, as in --scope 'berths/seatmap:pull,push'")
			}
			made, err := makeToken(c.Context(), t, at, api.NewToken{Account: account, Name: rest[0], Scopes: parsed, Days: days}, prove)
			if err != nil {
				return err
			}
			return showSecret(t, output, at.Registry, made)
		}),
	}
	addProve(makes, &prove)
	makes.Flags().IntVar(&days, "days", 90, "how many days it is good; 0 is without end")
	makes.Flags().StringArrayVar(&scopes, "scope", nil, "what it may do and where, PATTERN:ACTION,ACTION; actions are pull, push, delete and manage, * in the pattern is any text")
	term.AddOutput(makes, &output)
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List tokens", Args: cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			return listTokens(c.Context(), t, at, of(), output)
		}),
	}
	term.AddOutput(list, &output)
	revoke := &cobra.Command{
		Use: "revoke REGISTRY TOKEN", Short: "Revoke a token, by name or number; it acts at once", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := at.Do(c.Context(), "DELETE", "/api/v1/tokens/"+url.PathEscape(rest[0]), of(), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Revoked the token %s; whoever still has it is refused from now on\n", rest[0])
			return nil
		}),
	}
	replace := &cobra.Command{
		Use: "replace REGISTRY TOKEN", Short: "Revoke a token and make one with the same name and scopes", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			var made api.MadeToken
			var proof api.Proof
			var err error
			if prove {
				if proof.Password, err = term.ReadSecret(); err != nil {
					return err
				}
			}
			if err := at.Do(c.Context(), "POST", "/api/v1/tokens/"+url.PathEscape(rest[0])+"/replace", of(), proof, &made); err != nil {
				return err
			}
			return showSecret(t, output, at.Registry, made)
		}),
	}
	addProve(replace, &prove)
	term.AddOutput(replace, &output)
	parent.AddCommand(makes, list, revoke, replace)
	root.AddCommand(parent)
}

// addProve adds the flag by which a token outlasts the login that makes it.
func addProve(c *cobra.Command, prove *bool) {
	c.Flags().BoolVar(prove, service.FromStdinFlag, false, "read the password of your account from standard input: with it the token may last longer than the login by which you make it")
}

// makeToken makes a token, and warns where it ends sooner than was asked, with the
// login by which it is made.
func makeToken(ctx context.Context, t term.Terminal, at site.Site, body api.NewToken, prove bool) (made api.MadeToken, err error) {
	if prove {
		if body.Password, err = term.ReadSecret(); err != nil {
			return made, err
		}
	}
	if err := at.Do(ctx, "POST", "/api/v1/tokens", nil, body, &made); err != nil {
		return made, err
	}
	const slack = 24 * time.Hour
	if wanted := time.Duration(body.Days) * 24 * time.Hour; made.EndsAt != nil && (body.Days == 0 || made.EndsAt.Sub(made.CreatedAt) < wanted-slack) {
		fmt.Fprintf(t.Err, "WARNING: the token ends on %s, with the login by which it was made. For a longer one prove who you are: --%s, with your password on standard input.\n",
			made.EndsAt.Format(time.DateOnly), service.FromStdinFlag)
	}
	return made, nil
}

// showSecret prints a new token: the secret alone on standard output, so that it
// can be piped on.
func showSecret(t term.Terminal, output, registry string, made api.MadeToken) error {
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, made)
	}
	until := "without end"
	if made.EndsAt != nil {
		until = "until " + made.EndsAt.Format(time.DateOnly)
	}
	fmt.Fprintf(t.Err, "The token %q of %s, good %s, is shown this once:\n", made.Name, made.Account, until)
	fmt.Fprintln(t.Out, made.Secret)
	fmt.Fprintf(t.Err, "Log in with it:  %s login %s --account %s --from-stdin\n", term.ProgramName(), registry, made.Account)
	return nil
}

func listTokens(ctx context.Context, t term.Terminal, at site.Site, query url.Values, output string) error {
	if err := term.CheckOutput(output); err != nil {
		return err
	}
	var list api.TokenList
	if err := at.Do(ctx, "GET", "/api/v1/tokens", query, nil, &list); err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, list.Tokens)
	}
	if len(list.Tokens) == 0 {
		fmt.Fprintln(t.Out, "No tokens.")
		return nil
	}
	w := term.NewTable(t, "Number", "Name", "For", "Made", "Ends", "Used", "From")
	term.AlignRight(w, "Number")
	for _, token := range list.Tokens {
		ends := "never"
		if token.EndsAt != nil {
			ends = token.EndsAt.Format(time.DateOnly)
		}
		if token.Ended {
			ends += " (over)"
		}
		w.AppendRow(table.Row{token.ID, token.Name, sayScopes(token), term.When(&token.CreatedAt), ends, term.When(token.UsedAt), token.UsedFrom})
	}
	w.Render()
	return nil
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
