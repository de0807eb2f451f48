package rights

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addAccounts(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{Use: "account", GroupID: term.GroupRights, Short: "Make, list or change accounts"}
	var body api.NewAccount
	var machine, fromStdin bool
	makes := &cobra.Command{
		Use: "make REGISTRY NAME", Short: "Make an account, for a person or with --machine for a program", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			body.Name, body.Kind = rest[0], "person"
			if machine {
				body.Kind = "machine"
			}
			if fromStdin {
				var err error
				if body.Password, err = term.ReadSecret(); err != nil {
					return err
				}
			}
			if err := at.Do(c.Context(), "POST", "/api/v1/accounts", nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Made the account %s. It has no roles yet; give it one:  %s grant %s/NAMESPACE/REPOSITORY writer %s\n", body.Name, term.ProgramName(), at.Registry, body.Name)
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
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			return listAccounts(c.Context(), t, at, output)
		}),
	}
	term.AddOutput(list, &output)
	var change struct {
		description, admin, disabled string
	}
	var yes bool
	changes := &cobra.Command{
		Use: "change REGISTRY NAME", Short: "Change, disable or enable an account", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
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
					return term.Usage("%q is neither true nor false", *text)
				}
				*target = &value
			}
			if err := confirmOwn(c.Context(), t, at, rest[0], &body, yes); err != nil {
				return err
			}
			if err := at.Do(c.Context(), "PATCH", "/api/v1/accounts/"+url.PathEscape(rest[0]), nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Changed the account %s\n", rest[0])
			return nil
		}),
	}
	changes.Flags().StringVar(&change.description, "description", "", "who or what it is")
	changes.Flags().StringVar(&change.admin, "admin", "", "true or false: whether it is a registry admin")
	changes.Flags().StringVar(&change.disabled, "disabled", "", "true or false: whether it is kept from logging in; its tokens stop with it")
	term.AddYes(changes, &yes)
	password := &cobra.Command{
		Use: "password REGISTRY NAME", Short: "Set a password, read from standard input: for the own account the current one on the first line", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			secret, err := term.ReadSecret()
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
			fmt.Fprintf(t.Out, "Set the password of %s; its logins and sessions have ended, its tokens go on\n", rest[0])
			return nil
		}),
	}
	show := &cobra.Command{
		Use: "show REGISTRY NAME", Short: "Show the roles of an account, and which of them are not used", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			var roles api.RoleList
			if err := at.Do(c.Context(), "GET", "/api/v1/accounts/"+url.PathEscape(rest[0])+"/roles", nil, nil, &roles); err != nil {
				return err
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, roles.Roles)
			}
			if len(roles.Roles) == 0 {
				fmt.Fprintf(t.Out, "%s has no roles\n", rest[0])
				return nil
			}
			renderRoles(t, roles.Roles, false)
			return nil
		}),
	}
	term.AddOutput(show, &output)
	parent.AddCommand(makes, list, show, changes, password)
	root.AddCommand(parent)
}

// confirmOwn asks before somebody takes from the own account what lets it ask.
func confirmOwn(ctx context.Context, t term.Terminal, at site.Site, name string, body *api.AccountChange, yes bool) error {
	if takes := body.Admin != nil && !*body.Admin || body.Disabled != nil && *body.Disabled; !takes {
		return nil
	}
	var me api.Me
	if err := at.Do(ctx, "GET", "/api/v1/me", nil, nil, &me); err != nil || me.Account != name {
		return err
	}
	if err := term.Confirmed(t, yes, "%s is your own account. You cannot take this back yourself: another registry admin must, or whoever has the service's machine. Do it?", name); err != nil {
		return err
	}
	body.OnOwn = true
	return nil
}

func listAccounts(ctx context.Context, t term.Terminal, at site.Site, output string) error {
	if err := term.CheckOutput(output); err != nil {
		return err
	}
	all, err := site.EveryPage(api.List{Limit: site.PageSize}, func(page api.List) ([]api.Account, string, error) {
		var list api.AccountList
		err := at.Do(ctx, "GET", "/api/v1/accounts", page.Query(), nil, &list)
		return list.Accounts, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, all)
	}
	w := term.NewTable(t, "Account", "Kind", "Groups", "Made", "Description")
	for _, a := range all {
		kind := a.Kind
		if a.Admin {
			kind += ", registry admin"
		}
		if a.Disabled {
			kind += ", disabled"
		}
		w.AppendRow(table.Row{a.Name, kind, strings.Join(a.Groups, ", "), term.When(&a.CreatedAt), a.Description})
	}
	w.Render()
	return nil
}
