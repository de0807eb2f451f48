package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/login"
)

// who reads an account, or group:NAME.
func who(s string) (account, group string) {
	if name, is := strings.CutPrefix(s, "group:"); is {
		return "", name
	}
	return s, ""
}

func addGrant(root *cobra.Command, t terminal, r *remote) {
	grant := &cobra.Command{
		Use: "grant PLACE ROLE WHO...", GroupID: groupRights, Short: "Give somebody a role in a repository, a namespace or the registry",
		Long: "Gives a role to accounts, or to groups named as group:NAME. PLACE is REGISTRY/NAMESPACE/REPOSITORY, REGISTRY/NAMESPACE or REGISTRY.\n" +
			"Roles: reader (pull), writer (also push), curator (also delete, move tags and set rules), owner (also members and settings).",
		Example: "  warthesis grant localhost:7070/berths/seatmap writer ci-berths\n  warthesis grant localhost:7070/berths reader group:timetable",
		Args:    cobra.MinimumNArgs(3),
		RunE: r.in(readPlace, func(c *cobra.Command, at site, p place, rest []string) error {
			for _, name := range rest[1:] {
				account, group := who(name)
				body := api.NewRole{Place: string(p.name), Role: rest[0], Account: account, Group: group}
				if err := at.Do(c.Context(), "PUT", "/api/v1/roles", nil, body, nil); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "%s is %s in %s\n", name, rest[0], p)
			}
			return nil
		}),
	}
	take := &cobra.Command{
		Use: "ungrant PLACE WHO...", GroupID: groupRights, Short: "Take the role that somebody has in a place",
		Args: cobra.MinimumNArgs(2),
		RunE: r.in(readPlace, func(c *cobra.Command, at site, p place, rest []string) error {
			for _, name := range rest {
				account, group := who(name)
				query := url.Values{"place": {string(p.name)}}
				if account != "" {
					query.Set("account", account)
				} else {
					query.Set("group", group)
				}
				if err := at.Do(c.Context(), "DELETE", "/api/v1/roles", query, nil, nil); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "%s has no role of its own in %s any more\n", name, p)
			}
			return nil
		}),
	}
	var output string
	members := &cobra.Command{
		Use: "members PLACE", GroupID: groupRights, Short: "List who has which roles in a place, and since when they were not used",
		Args: cobra.ExactArgs(1),
		RunE: r.in(readPlace, func(c *cobra.Command, at site, p place, rest []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			var list api.RoleList
			if err := at.Do(c.Context(), "GET", "/api/v1/roles", url.Values{"place": {string(p.name)}}, nil, &list); err != nil {
				return err
			}
			if output == outputJSON {
				return writeJSON(t.out, list.Roles)
			}
			if len(list.Roles) == 0 {
				fmt.Fprintf(t.out, "Nobody has a role in %s. Give one:  %s grant %s ROLE WHO\n", p, programName(), p)
				return nil
			}
			renderRoles(t, list.Roles, true)
			return nil
		}),
	}
	addOutput(members, &output)
	root.AddCommand(grant, take, members)
}

func addTeam(root *cobra.Command, t terminal, r *remote) {
	var team api.NewTeam
	command := &cobra.Command{
		Use: "team REGISTRY/NAMESPACE", GroupID: groupRights, Short: "Make a namespace, a group of its people and the roles between them",
		Long: "Makes what a new team needs in one step: a namespace, a group of the same name whose members write in it, and owners who look after it.\n" +
			"Prints the commands to hand to the team.",
		Example: "  warthesis team localhost:7070/catering --owner marit --writer teodor",
		Args:    cobra.ExactArgs(1),
		RunE: r.in(namespacePlace, func(c *cobra.Command, at site, p place, rest []string) error {
			team.Name = string(p.name)
			if err := at.Do(c.Context(), "POST", "/api/v1/teams", nil, team, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Made the namespace %[1]s and the group %[2]s, whose members may push there.\n\nTo hand to the team:\n\n"+
				"  warthesis login %[3]s\n  warthesis push IMAGE %[1]s/APPLICATION:TAG\n  warthesis pull %[1]s/APPLICATION:TAG FOLDER\n\n"+
				"To bring people and build machines in:\n\n  %[4]s group add %[3]s %[2]s NAME\n  %[4]s grant %[1]s/APPLICATION writer MACHINE-ACCOUNT\n",
				p, team.Name, p.registry, programName())
			return nil
		}),
	}
	command.Flags().StringVar(&team.Description, "description", "", "what the team does")
	command.Flags().StringArrayVar(&team.Owners, "owner", nil, "account that owns the namespace")
	command.Flags().StringArrayVar(&team.Writers, "writer", nil, "account that joins the group")
	root.AddCommand(command)
}

// readScopes reads PATTERN:ACTION,ACTION.
func readScopes(given []string) ([]api.Scope, error) {
	var scopes []api.Scope
	for _, s := range given {
		pattern, actions, found := strings.Cut(s, ":")
		if !found || pattern == "" || actions == "" {
			return nil, usage("%q is no scope; write PATTERN:ACTION, as in timetable/*:pull,push", s)
		}
		scopes = append(scopes, api.Scope{Pattern: pattern, Actions: strings.Split(actions, ",")})
	}
	return scopes, nil
}

func addTokens(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{Use: "token", GroupID: groupRights, Short: "Make, list, revoke or replace tokens"}
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
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			parsed, err := readScopes(scopes)
			if err != nil {
				return err
			}
			if len(parsed) == 0 {
				return usage("say what the token is for, as in --scope 'berths/seatmap:pull,push'")
			}
			made, err := makeToken(c.Context(), t, at, api.NewToken{Account: account, Name: rest[0], Scopes: parsed, Days: days}, prove)
			if err != nil {
				return err
			}
			return showSecret(t, output, at.registry, made)
		}),
	}
	addProve(makes, &prove)
	makes.Flags().IntVar(&days, "days", 90, "how many days it is good; 0 is without end")
	makes.Flags().StringArrayVar(&scopes, "scope", nil, "what it may do and where, PATTERN:ACTION,ACTION; actions are pull, push, delete and manage, * in the pattern is any text")
	addOutput(makes, &output)
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List tokens", Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			return listTokens(c.Context(), t, at, of(), output)
		}),
	}
	addOutput(list, &output)
	revoke := &cobra.Command{
		Use: "revoke REGISTRY TOKEN", Short: "Revoke a token, by name or number; it acts at once", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := at.Do(c.Context(), "DELETE", "/api/v1/tokens/"+url.PathEscape(rest[0]), of(), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Revoked the token %s; whoever still has it is refused from now on\n", rest[0])
			return nil
		}),
	}
	replace := &cobra.Command{
		Use: "replace REGISTRY TOKEN", Short: "Revoke a token and make one with the same name and scopes", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			var made api.MadeToken
			var proof api.Proof
			var err error
			if prove {
				if proof.Password, err = readSecret(); err != nil {
					return err
				}
			}
			if err := at.Do(c.Context(), "POST", "/api/v1/tokens/"+url.PathEscape(rest[0])+"/replace", of(), proof, &made); err != nil {
				return err
			}
			return showSecret(t, output, at.registry, made)
		}),
	}
	addProve(replace, &prove)
	addOutput(replace, &output)
	parent.AddCommand(makes, list, revoke, replace)
	root.AddCommand(parent)
}

// addProve adds the flag by which a token outlasts the login that makes it.
func addProve(c *cobra.Command, prove *bool) {
	c.Flags().BoolVar(prove, fromStdinFlag, false, "read the password of your account from standard input: with it the token may last longer than the login by which you make it")
}

// makeToken makes a token, and warns where it ends sooner than was asked, with the
// login by which it is made.
func makeToken(ctx context.Context, t terminal, at site, body api.NewToken, prove bool) (made api.MadeToken, err error) {
	if prove {
		if body.Password, err = readSecret(); err != nil {
			return made, err
		}
	}
	if err := at.Do(ctx, "POST", "/api/v1/tokens", nil, body, &made); err != nil {
		return made, err
	}
	const slack = 24 * time.Hour
	if wanted := time.Duration(body.Days) * 24 * time.Hour; made.EndsAt != nil && (body.Days == 0 || made.EndsAt.Sub(made.CreatedAt) < wanted-slack) {
		fmt.Fprintf(t.err, "WARNING: the token ends on %s, with the login by which it was made. For a longer one prove who you are: --%s, with your password on standard input.\n",
			made.EndsAt.Format(time.DateOnly), fromStdinFlag)
	}
	return made, nil
}

// showSecret prints a new token: the secret alone on standard output, so that it
// can be piped on.
func showSecret(t terminal, output, registry string, made api.MadeToken) error {
	if output == outputJSON {
		return writeJSON(t.out, made)
	}
	until := "without end"
	if made.EndsAt != nil {
		until = "until " + made.EndsAt.Format(time.DateOnly)
	}
	fmt.Fprintf(t.err, "The token %q of %s, good %s, is shown this once:\n", made.Name, made.Account, until)
	fmt.Fprintln(t.out, made.Secret)
	fmt.Fprintf(t.err, "Log in with it:  %s login %s --account %s --from-stdin\n", programName(), registry, made.Account)
	return nil
}

func listTokens(ctx context.Context, t terminal, at site, query url.Values, output string) error {
	if err := checkOutput(output); err != nil {
		return err
	}
	var list api.TokenList
	if err := at.Do(ctx, "GET", "/api/v1/tokens", query, nil, &list); err != nil {
		return err
	}
	if output == outputJSON {
		return writeJSON(t.out, list.Tokens)
	}
	if len(list.Tokens) == 0 {
		fmt.Fprintln(t.out, "No tokens.")
		return nil
	}
	w := newTable(t, "Number", "Name", "For", "Made", "Ends", "Used", "From")
	alignRight(w, "Number")
	for _, token := range list.Tokens {
		ends := "never"
		if token.EndsAt != nil {
			ends = token.EndsAt.Format(time.DateOnly)
		}
		if token.Ended {
			ends += " (over)"
		}
		w.AppendRow(table.Row{token.ID, token.Name, sayScopes(token), when(&token.CreatedAt), ends, when(token.UsedAt), token.UsedFrom})
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

func addAccounts(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{Use: "account", GroupID: groupRights, Short: "Make, list or change accounts"}
	var body api.NewAccount
	var machine, fromStdin bool
	makes := &cobra.Command{
		Use: "make REGISTRY NAME", Short: "Make an account, for a person or with --machine for a program", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			body.Name, body.Kind = rest[0], "person"
			if machine {
				body.Kind = "machine"
			}
			if fromStdin {
				var err error
				if body.Password, err = readSecret(); err != nil {
					return err
				}
			}
			if err := at.Do(c.Context(), "POST", "/api/v1/accounts", nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Made the account %s. It has no roles yet; give it one:  %s grant %s/NAMESPACE/REPOSITORY writer %s\n", body.Name, programName(), at.registry, body.Name)
			return nil
		}),
	}
	makes.Flags().BoolVar(&machine, "machine", false, "a machine account: for a program, which logs in by tokens")
	makes.Flags().BoolVar(&body.Admin, "admin", false, "a registry admin, who may do everything")
	makes.Flags().StringVar(&body.Description, "description", "", "who or what it is")
	makes.Flags().BoolVar(&fromStdin, "from-stdin", false, "read a password from standard input; without one the account logs in by tokens or the company's login")
	var output string
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List accounts", Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			return listAccounts(c.Context(), t, at, output)
		}),
	}
	addOutput(list, &output)
	var change struct {
		description, admin, disabled string
	}
	var yes bool
	changes := &cobra.Command{
		Use: "change REGISTRY NAME", Short: "Change, disable or enable an account", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			var body api.AccountChange
			if c.Flags().Changed("description") {
				body.Description = &change.description
			}
			for text, target := range map[*string]**bool{&change.admin: &body.Admin, &change.disabled: &body.Disabled} {
				if *text == "" {
					continue
				}
				value, err := strconv.ParseBool(*text)
				if err != nil {
					return usage("%q is neither true nor false", *text)
				}
				*target = &value
			}
			if err := confirmOwn(c.Context(), t, at, rest[0], &body, yes); err != nil {
				return err
			}
			if err := at.Do(c.Context(), "PATCH", "/api/v1/accounts/"+url.PathEscape(rest[0]), nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Changed the account %s\n", rest[0])
			return nil
		}),
	}
	changes.Flags().StringVar(&change.description, "description", "", "who or what it is")
	changes.Flags().StringVar(&change.admin, "admin", "", "true or false: whether it is a registry admin")
	changes.Flags().StringVar(&change.disabled, "disabled", "", "true or false: whether it is kept from logging in; its tokens stop with it")
	addYes(changes, &yes)
	password := &cobra.Command{
		Use: "password REGISTRY NAME", Short: "Set a password, read from standard input: for the own account the current one on the first line", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			secret, err := readSecret()
			if err != nil {
				return err
			}
			body := api.NewPassword{Password: secret}
			if current, next, two := strings.Cut(secret, "\n"); two {
				body = api.NewPassword{Current: current, Password: next}
			}
			if err := at.Do(c.Context(), "PUT", "/api/v1/accounts/"+url.PathEscape(rest[0])+"/password", nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Set the password of %s; its logins and sessions have ended, its tokens go on\n", rest[0])
			return nil
		}),
	}
	show := &cobra.Command{
		Use: "show REGISTRY NAME", Short: "Show the roles of an account, and which of them are not used", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			var roles api.RoleList
			if err := at.Do(c.Context(), "GET", "/api/v1/accounts/"+url.PathEscape(rest[0])+"/roles", nil, nil, &roles); err != nil {
				return err
			}
			if output == outputJSON {
				return writeJSON(t.out, roles.Roles)
			}
			if len(roles.Roles) == 0 {
				fmt.Fprintf(t.out, "%s has no roles\n", rest[0])
				return nil
			}
			renderRoles(t, roles.Roles, false)
			return nil
		}),
	}
	addOutput(show, &output)
	parent.AddCommand(makes, list, show, changes, password)
	root.AddCommand(parent)
}

// confirmOwn asks before somebody takes from the own account what lets it ask.
func confirmOwn(ctx context.Context, t terminal, at site, name string, body *api.AccountChange, yes bool) error {
	if takes := body.Admin != nil && !*body.Admin || body.Disabled != nil && *body.Disabled; !takes {
		return nil
	}
	var me api.Me
	if err := at.Do(ctx, "GET", "/api/v1/me", nil, nil, &me); err != nil || me.Account != name {
		return err
	}
	if err := confirmed(t, yes, "%s is your own account. You cannot take this back yourself: another registry admin must, or whoever has the service's machine. Do it?", name); err != nil {
		return err
	}
	body.OnOwn = true
	return nil
}

// readSecret reads a secret from standard input.
func readSecret() (string, error) {
	raw, err := io.ReadAll(io.LimitReader(os.Stdin, 64<<10))
	if err != nil {
		return "", fmt.Errorf("read the secret: %w", err)
	}
	return strings.TrimRight(string(raw), "\r\n"), nil
}

func listAccounts(ctx context.Context, t terminal, at site, output string) error {
	if err := checkOutput(output); err != nil {
		return err
	}
	all, err := everyPage(api.List{Limit: pageSize}, func(page api.List) ([]api.Account, string, error) {
		var list api.AccountList
		err := at.Do(ctx, "GET", "/api/v1/accounts", page.Query(), nil, &list)
		return list.Accounts, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == outputJSON {
		return writeJSON(t.out, all)
	}
	w := newTable(t, "Account", "Kind", "Groups", "Made", "Description")
	for _, a := range all {
		kind := a.Kind
		if a.Admin {
			kind += ", registry admin"
		}
		if a.Disabled {
			kind += ", disabled"
		}
		w.AppendRow(table.Row{a.Name, kind, strings.Join(a.Groups, ", "), when(&a.CreatedAt), a.Description})
	}
	w.Render()
	return nil
}

func addGroups(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{Use: "group", GroupID: groupRights, Short: "Make, list, fill or remove groups"}
	var body api.NewGroup
	// do is one step on a group.
	do := func(use, short, method string, args int, path func([]string) string, says string) *cobra.Command {
		return &cobra.Command{
			Use: use, Short: short, Args: cobra.ExactArgs(args),
			RunE: r.at(func(c *cobra.Command, at site, names []string) error {
				if err := at.Do(c.Context(), method, path(names), nil, nil, nil); err != nil {
					return err
				}
				said := make([]any, len(names))
				for i, name := range names {
					said[i] = name
				}
				fmt.Fprintf(t.out, says+"\n", said...)
				return nil
			}),
		}
	}
	member := func(names []string) string {
		return "/api/v1/groups/" + url.PathEscape(names[0]) + "/members/" + url.PathEscape(names[1])
	}
	makes := &cobra.Command{
		Use: "make REGISTRY GROUP", Short: "Make a group", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			body.Name = rest[0]
			if err := at.Do(c.Context(), "POST", "/api/v1/groups", nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Made the group %s. Put people in:  %s group add %s %s NAME\n", body.Name, programName(), at.registry, body.Name)
			return nil
		}),
	}
	makes.Flags().StringVar(&body.Description, "description", "", "who is in it")
	makes.Flags().StringVar(&body.Claim, "company-group", "", "its name at the company's login, which then fills it")
	var output string
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List groups with their members", Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			var all api.GroupList
			if err := at.Do(c.Context(), "GET", "/api/v1/groups", nil, nil, &all); err != nil {
				return err
			}
			if output == outputJSON {
				return writeJSON(t.out, all.Groups)
			}
			w := newTable(t, "Group", "Members", "At the company's login", "Description")
			for _, g := range all.Groups {
				w.AppendRow(table.Row{g.Name, strings.Join(g.Members, ", "), orDash(g.Claim), g.Description})
			}
			w.Render()
			return nil
		}),
	}
	addOutput(list, &output)
	parent.AddCommand(makes, list,
		do("add REGISTRY GROUP ACCOUNT", "Put an account into a group", "PUT", 3, member, "%[2]s is in the group %[1]s"),
		do("drop REGISTRY GROUP ACCOUNT", "Take an account out of a group", "DELETE", 3, member, "%[2]s is not in the group %[1]s any more"),
		do("remove REGISTRY GROUP", "Remove a group, and the roles it gave", "DELETE", 2,
			func(names []string) string { return "/api/v1/groups/" + url.PathEscape(names[0]) }, "Removed the group %[1]s with its roles"))
	root.AddCommand(parent)
}

func addAudit(root *cobra.Command, t terminal, r *remote) {
	var filter struct{ account, namespace, repository, kind, verdict, since string }
	var output string
	var limit int
	command := &cobra.Command{
		Use: "audit [REGISTRY]", GroupID: groupRights, Short: "Read the audit log: who did what, and what was refused",
		Example: "  warthesis audit localhost:7070 --verdict refused\n  warthesis audit localhost:7070 --namespace berths --output json > berths.jsonl",
		Args:    cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			query := url.Values{}
			for key, value := range map[string]string{"account": filter.account, "namespace": filter.namespace,
				"repository": filter.repository, "kind": filter.kind, "verdict": filter.verdict} {
				if value != "" {
					query.Set(key, value)
				}
			}
			if filter.since != "" {
				span, err := time.ParseDuration(filter.since)
				if err != nil {
					return usage("--since is %q: write a span such as 24h", filter.since)
				}
				query.Set("from", time.Now().Add(-span).UTC().Format(time.RFC3339))
			}
			if output == outputJSON {
				answer, err := at.Send(c.Context(), "GET", "/api/v1/audit/lines", query, nil)
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				_, err = io.Copy(t.out, answer.Body)
				return err
			}
			query.Set("limit", strconv.Itoa(limit))
			var list api.LineList
			if err := at.Do(c.Context(), "GET", "/api/v1/audit", query, nil, &list); err != nil {
				return err
			}
			w := newTable(t, "When", "Who", "What", "On", "Detail")
			for _, line := range list.Lines {
				w.AppendRow(table.Row{line.At.Local().Format(time.DateTime), sayWho(line), line.Kind, sayOn(line), line.Detail})
			}
			w.Render()
			if list.Next != 0 {
				fmt.Fprintf(t.out, "\nThere are older lines. All of them, as JSON lines: --output json\n")
			}
			return nil
		}),
	}
	f := command.Flags()
	f.StringVar(&filter.account, "account", "", "only what this account did or tried")
	f.StringVar(&filter.namespace, "namespace", "", "only in this namespace")
	f.StringVar(&filter.repository, "repository", "", "only in this repository")
	f.StringVar(&filter.kind, "kind", "", "only this kind, such as tag-moved or role-granted")
	f.StringVar(&filter.verdict, "verdict", "", "done or refused")
	f.StringVar(&filter.since, "since", "", "not older than this, such as 24h")
	f.IntVar(&limit, "limit", 50, "how many lines of the table, at most 1000")
	addOutput(command, &output)
	root.AddCommand(command)
}

func sayWho(line api.Line) string {
	name := line.Account
	if name == "" {
		name = "nobody"
	}
	if line.Token != "" {
		name += " (" + line.Token + ")"
	}
	if line.Address != "" {
		name += " from " + line.Address
	}
	return name
}

func sayOn(line api.Line) string {
	switch {
	case line.Repository == "":
		return line.Subject
	case line.Tag != "":
		return fmt.Sprintf("%s:%s", line.Repository, line.Tag)
	case line.Digest != "":
		return fmt.Sprintf("%s@%s", line.Repository, short(line.Digest))
	}
	return string(line.Repository)
}

func addPullSecret(root *cobra.Command, t terminal, r *remote) {
	var kubernetes, prove bool
	var name, account string
	var days int
	command := &cobra.Command{
		Use: "pull-secret REGISTRY/NAMESPACE", GroupID: groupRights, Short: "Print a pull secret for a namespace, with a fresh token for it alone",
		Long: "Makes a token that may pull from the namespace and nothing else, and prints it as a login file, as clusters and container engines take it,\n" +
			"or with --kubernetes as a Secret.",
		Example: "  warthesis pull-secret localhost:7070/berths --account cluster-north --kubernetes | kubectl apply -f -",
		Args:    cobra.ExactArgs(1),
		RunE: r.in(namespacePlace, func(c *cobra.Command, at site, p place, rest []string) error {
			body := api.NewToken{Account: account, Name: name, Days: days, Scopes: []api.Scope{{Pattern: string(p.name) + "/*", Actions: []string{"pull"}}}}
			if name == "" {
				body.Name = "pull secret for " + string(p.name)
			}
			made, err := makeToken(c.Context(), t, at, body, prove)
			if err != nil {
				return err
			}
			return printPullSecret(t, p, made, kubernetes)
		}),
	}
	f := command.Flags()
	f.BoolVar(&kubernetes, "kubernetes", false, "as a Kubernetes Secret")
	f.StringVar(&account, "account", "", "whose token it is: best a machine account of the cluster; your own where left out")
	f.StringVar(&name, "name", "", "name of the token")
	addProve(command, &prove)
	f.IntVar(&days, "days", 365, "how many days it is good; 0 is without end")
	root.AddCommand(command)
}

func printPullSecret(t terminal, p place, made api.MadeToken, kubernetes bool) error {
	file, err := login.Parse("", nil)
	if err != nil {
		return err
	}
	file.Set(p.registry, login.Credentials{Account: made.Account, Secret: made.Secret})
	raw, err := file.Marshal()
	if err != nil {
		return err
	}
	if !kubernetes {
		_, err = t.out.Write(raw)
		return err
	}
	// Clusters take JSON as well as YAML.
	return writeJSON(t.out, kubernetesSecret{
		APIVersion: "v1", Kind: "Secret", Type: "kubernetes.io/dockerconfigjson",
		Metadata: kubernetesMetadata{Name: "pull-" + strings.ReplaceAll(string(p.name), "_", "-")},
		Data:     map[string][]byte{".dockerconfigjson": raw},
	})
}

// kubernetesSecret is the part of the resource that a pull secret fills.
type kubernetesSecret struct {
	APIVersion string             `json:"apiVersion"`
	Kind       string             `json:"kind"`
	Metadata   kubernetesMetadata `json:"metadata"`
	Type       string             `json:"type"`
	Data       map[string][]byte  `json:"data"`
}

type kubernetesMetadata struct {
	Name string `json:"name"`
}

func addIdentityRules(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{Use: "identity", GroupID: groupRights, Short: "Let build machines log in by an identity of their own, without a stored secret"}
	var rule api.IdentityRule
	makes := &cobra.Command{
		Use: "make REGISTRY NAME", Short: "Make an identity rule: who comes with such an identity is that machine account", Args: cobra.ExactArgs(2),
		Example: "  warthesis identity make localhost:7070 seatmap --issuer https://builds.larkspur.example --audience warthesis --subject 'project:berths/seatmap:*' --account ci-berths",
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			rule.Name = rest[0]
			if err := at.Do(c.Context(), "POST", "/api/v1/identity-rules", nil, rule, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Made the identity rule %s. The build machine logs in with:  warthesis login %s --identity FILE\n", rule.Name, at.registry)
			return nil
		}),
	}
	f := makes.Flags()
	f.StringVar(&rule.Issuer, "issuer", "", "address of the issuer that signs the identities")
	f.StringVar(&rule.Audience, "audience", "", "for whom the identities are made out")
	f.StringVar(&rule.Subject, "subject", "", "pattern of the subject, where * stands for any text")
	f.StringVar(&rule.Account, "account", "", "the machine account")
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List identity rules", Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			var all api.IdentityRuleList
			if err := at.Do(c.Context(), "GET", "/api/v1/identity-rules", nil, nil, &all); err != nil {
				return err
			}
			w := newTable(t, "Rule", "Issuer", "Audience", "Subject", "Is")
			for _, one := range all.Rules {
				w.AppendRow(table.Row{one.Name, one.Issuer, one.Audience, one.Subject, one.Account})
			}
			w.Render()
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove REGISTRY NAME", Short: "Remove an identity rule; what was got by it stops at once", Args: cobra.ExactArgs(2),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := at.Do(c.Context(), "DELETE", "/api/v1/identity-rules/"+url.PathEscape(rest[0]), nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Removed the identity rule %s\n", rest[0])
			return nil
		}),
	}
	parent.AddCommand(makes, list, remove)
	root.AddCommand(parent)
}

func addSettings(root *cobra.Command, t terminal, r *remote) {
	var people, pushes, output string
	command := &cobra.Command{
		Use: "settings [REGISTRY]", GroupID: groupRights, Short: "Show or change who makes namespaces",
		Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, rest []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			var settings api.Settings
			if err := at.Do(c.Context(), "GET", "/api/v1/settings", nil, nil, &settings); err != nil {
				return err
			}
			for _, one := range []struct {
				text   string
				target *bool
			}{{people, &settings.AccountsMakeNamespaces}, {pushes, &settings.PushMakesNamespaces}} {
				if one.text == "" {
					continue
				}
				value, err := strconv.ParseBool(one.text)
				if err != nil {
					return usage("%q is neither true nor false", one.text)
				}
				*one.target = value
			}
			if people+pushes != "" {
				if err := at.Do(c.Context(), "PUT", "/api/v1/settings", nil, settings, nil); err != nil {
					return err
				}
			}
			if output == outputJSON {
				return writeJSON(t.out, settings)
			}
			makers := "at.registry admins alone"
			if settings.AccountsMakeNamespaces {
				makers = "every person, who then owns them"
			}
			byPush := "no push makes one"
			if settings.PushMakesNamespaces {
				byPush = "a push by one of them makes the namespace that it needs"
			}
			fmt.Fprintf(t.out, "Namespaces are made by %s; %s\n", makers, byPush)
			return nil
		}),
	}
	command.Flags().StringVar(&people, "people-make-namespaces", "", "true or false: whether every person may make namespaces, and not registry admins alone")
	command.Flags().StringVar(&pushes, "pushes-make-namespaces", "", "true or false: whether a push by somebody who may make a namespace makes it")
	addOutput(command, &output)
	root.AddCommand(command)
}
