package rights

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

const accountsPath = "/api/v1/accounts"

func accountPath(name string) string { return accountsPath + "/" + url.PathEscape(name) }

// accountArg is an account as an argument.
var accountArg = site.Arg{Name: "ACCOUNT", Ask: site.Accounts}

func accountCommands() site.Command {
	return site.Command{
		Name: "account", Group: term.GroupRights, Short: "Make, change, show or list accounts",
		Under: []site.Command{makeAccount(), changeAccount(), showAccount(), listAccounts(), accountPassword()},
	}
}

func getAccount(ctx context.Context, c *site.Call, name string) (a api.AccountWithRoles, err error) {
	return a, c.Do(ctx, http.MethodGet, accountPath(name), nil, nil, &a)
}

func makeAccount() site.Command {
	var body api.NewAccount
	var fromStdin bool
	return site.Command{
		Name: "make", Short: "Make an account, for a person or for a program (a machine account)",
		Example: "  warthesis account make ci-berths --kind machine\n  warthesis account make localhost:7070 marit --description 'berths team'",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "ACCOUNT"}}, Facts: api.AccountWithRoles{},
		Flags: func(f *pflag.FlagSet) {
			term.Choice(f, &body.Kind, "kind", "person", "machine is an account for a program, which logs in by tokens or an identity", "person", "machine")
			f.BoolVar(&body.Admin, "admin", false, "a registry admin, who may do everything")
			f.StringVar(&body.Description, "description", "", "who or what it is")
			f.BoolVar(&fromStdin, term.FromStdin, false, "read a password from standard input; without one the account logs in by tokens or the company's login")
		},
		Run: func(ctx context.Context, c *site.Call) (err error) {
			body.Name = c.Args[0]
			if fromStdin {
				if body.Password, err = term.NewSecret(ctx, c.T, "Password of "+body.Name+": ", true); err != nil {
					return err
				}
			}
			if err := c.Do(ctx, http.MethodPost, accountsPath, nil, body, nil); err != nil {
				return err
			}
			made, err := getAccount(ctx, c, body.Name)
			if err != nil {
				return err
			}
			return c.Tell(made, func() {
				c.T.Say("Made the account %s; it has no roles yet", body.Name)
				c.T.Hint("Give it one:  %s", c.Self("grant", c.Registry+"/NAMESPACE/REPOSITORY", "writer", body.Name))
			})
		},
	}
}

func changeAccount() site.Command {
	var description string
	var admin, disabled bool
	return site.Command{
		Name: "change", Short: "Change, disable or enable an account",
		Example: "  warthesis account change marit --disabled\n  warthesis account change marit --disabled=false --admin",
		On:      site.OnRegistry, Args: []site.Arg{accountArg}, Facts: api.AccountWithRoles{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&description, "description", "", "who or what it is")
			f.BoolVar(&admin, "admin", false, "whether it is a registry admin")
			f.BoolVar(&disabled, "disabled", false, "whether it is kept from logging in; its tokens stop with it")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			name := c.Args[0]
			var body api.AccountChange
			if c.Given("description") {
				body.Description = &description
			}
			if c.Given("admin") {
				body.Admin = &admin
			}
			if c.Given("disabled") {
				body.Disabled = &disabled
			}
			if body == (api.AccountChange{}) {
				return term.Usage("say what is to be changed: --description, --admin or --disabled")
			}
			if err := confirmOwn(ctx, c, name, &body); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPatch, accountPath(name), nil, body, nil); err != nil {
				return err
			}
			now, err := getAccount(ctx, c, name)
			if err != nil && body.OnOwn {
				// It cannot ask any more.
				now, err = api.AccountWithRoles{Account: api.Account{Name: name, Disabled: disabled}}, nil
			}
			if err != nil {
				return err
			}
			return c.Tell(now, func() { c.T.Say("Changed the account %s", name) })
		},
	}
}

// confirmOwn asks before somebody takes from the own account what lets it ask.
func confirmOwn(ctx context.Context, c *site.Call, name string, body *api.AccountChange) error {
	if takes := body.Admin != nil && !*body.Admin || body.Disabled != nil && *body.Disabled; !takes {
		return nil
	}
	if me, err := c.Me(ctx); err != nil || me.Account != name {
		return err
	}
	body.OnOwn = true
	return c.Confirm(ctx, name+" is your own account. You cannot take this back yourself: another registry admin must, or whoever has the service's machine. Do it?")
}

func accountPassword() site.Command {
	var fromStdin bool
	return site.Command{
		Name: "password", Short: "Set the password of an account",
		Long: "Sets a password, asked for at the prompt. With --from-stdin it is read from standard input; for your own account the current\n" +
			"password is on the first line, and the new one on the second.",
		On: site.OnRegistry, Args: []site.Arg{accountArg},
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&fromStdin, term.FromStdin, false, "read the password from standard input")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			name := c.Args[0]
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			body, err := askPassword(ctx, c, name, me.Account == name, fromStdin)
			if err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPut, accountPath(name)+"/password", nil, body, nil); err != nil {
				return err
			}
			if me.Account == name {
				c.T.Say("Set your password; your other logins and sessions have ended, this one and your tokens go on")
				return nil
			}
			c.T.Say("Set the password of %s; its logins and sessions have ended, its tokens go on", name)
			return nil
		},
	}
}

func askPassword(ctx context.Context, c *site.Call, name string, own, fromStdin bool) (body api.NewPassword, err error) {
	if fromStdin && !term.AsksSomebody() {
		raw, err := term.ReadSecret()
		if err != nil {
			return body, err
		}
		body.Password = raw
		if current, next, two := strings.Cut(raw, "\n"); two {
			body.Current, body.Password = strings.TrimRight(current, "\r"), next
		}
		if own && body.Current == "" {
			return body, term.Usage("%s is your own account: standard input has the current password on its first line, and the new one on its second", name)
		}
		return body, nil
	}
	if own {
		if body.Current, err = term.Secret(ctx, c.T, "Your current password: ", false); err != nil {
			return body, err
		}
	}
	body.Password, err = term.NewSecret(ctx, c.T, "New password of "+name+": ", false)
	return body, err
}

func showAccount() site.Command {
	return site.Command{
		Name: "show", Short: "Show an account, its roles, and which of them are not used",
		On: site.OnRegistry, Args: []site.Arg{accountArg}, Facts: api.AccountWithRoles{},
		Run: func(ctx context.Context, c *site.Call) error {
			a, err := getAccount(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(a, func() {
				c.T.Fields("Account", a.Name, [2]string{"Kind", kindOf(a.Account)}, [2]string{"Description", a.Description}, [2]string{"Groups", strings.Join(a.Groups, ", ")},
					[2]string{"Password", term.YesNo(a.HasPassword)}, [2]string{"Company's login", a.Company}, [2]string{"Made", term.When(&a.CreatedAt)})
				c.T.Say("")
				if len(a.Roles) == 0 {
					c.T.Say("No roles of its own")
					return
				}
				drawRoles(c.T, a.Roles, false)
			})
		},
	}
}

func kindOf(a api.Account) string {
	kind := a.Kind
	if a.Admin {
		kind += ", registry admin"
	}
	if a.Disabled {
		kind += ", disabled"
	}
	return kind
}

func listAccounts() site.Command {
	return site.Command{
		Name: "list", Short: "List accounts", On: site.OnRegistry, Facts: []api.Account{},
		Run: func(ctx context.Context, c *site.Call) error {
			all, err := site.EveryPage(api.List{Limit: site.PageSize}, func(page api.List) ([]api.Account, string, error) {
				var list api.AccountList
				err := c.Do(ctx, http.MethodGet, accountsPath, page.Query(), nil, &list)
				return list.Accounts, list.Next, err
			})
			if err != nil {
				return err
			}
			return c.Tell(all, func() {
				w := c.T.Table("Account", "Kind", "Groups", "Made", "Description")
				for _, a := range all {
					w.Row(a.Name, kindOf(a), strings.Join(a.Groups, ", "), term.When(&a.CreatedAt), a.Description)
				}
				w.Draw()
			})
		},
	}
}
