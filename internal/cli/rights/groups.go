package rights

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

const groupsPath = "/api/v1/groups"

func groupPath(name string) string { return groupsPath + "/" + url.PathEscape(name) }

var groupArg = site.Arg{Name: "GROUP", Ask: site.Groups}

func groupCommands() site.Command {
	return site.Command{
		Name: "group", Group: term.GroupRights, Short: "Make, change, fill, show, list or remove groups",
		Under: []site.Command{
			makeGroup(), changeGroup(), showGroup(), listGroups(), removeGroup(),
			membership("add", "Put accounts into a group", http.MethodPut, "%s is in the group %s"),
			membership("drop", "Take accounts out of a group", http.MethodDelete, "%s is not in the group %s any more"),
		},
	}
}

func getGroup(ctx context.Context, c *site.Call, name string) (g api.GroupWithRoles, err error) {
	return g, c.Do(ctx, http.MethodGet, groupPath(name), nil, nil, &g)
}

func makeGroup() site.Command {
	var body api.NewGroup
	return site.Command{
		Name: "make", Short: "Make a group", On: site.OnRegistry, Args: []site.Arg{{Name: "GROUP"}}, Facts: api.GroupWithRoles{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&body.Description, "description", "", "who is in it")
			f.StringVar(&body.Claim, "claim", "", "its name at the company's login, which then fills it")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			body.Name = c.Args[0]
			if err := c.Do(ctx, http.MethodPost, groupsPath, nil, body, nil); err != nil {
				return err
			}
			made, err := getGroup(ctx, c, body.Name)
			if err != nil {
				return err
			}
			return c.Tell(made, func() {
				c.T.Say("Made the group %s", body.Name)
				c.T.Hint("Put people in:  %s", c.Self("group add", c.Registry, body.Name, "ACCOUNT"))
			})
		},
	}
}

func changeGroup() site.Command {
	var description, claim string
	return site.Command{
		Name: "change", Short: "Change a group", On: site.OnRegistry, Args: []site.Arg{groupArg}, Facts: api.GroupWithRoles{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&description, "description", "", "who is in it")
			f.StringVar(&claim, "claim", "", "its name at the company's login, which then fills it")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			var body api.GroupChange
			if c.Given("description") {
				body.Description = &description
			}
			if c.Given("claim") {
				body.Claim = &claim
			}
			if body == (api.GroupChange{}) {
				return term.Usage("say what is to be changed: --description or --claim")
			}
			if err := c.Do(ctx, http.MethodPatch, groupPath(c.Args[0]), nil, body, nil); err != nil {
				return err
			}
			now, err := getGroup(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(now, func() { c.T.Say("Changed the group %s", c.Args[0]) })
		},
	}
}

func showGroup() site.Command {
	return site.Command{
		Name: "show", Short: "Show a group, its members and its roles", On: site.OnRegistry, Args: []site.Arg{groupArg}, Facts: api.GroupWithRoles{},
		Run: func(ctx context.Context, c *site.Call) error {
			g, err := getGroup(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(g, func() {
				c.T.Fields("Group", g.Name, [2]string{"Description", g.Description}, [2]string{"At the company's login", g.Claim}, [2]string{"Members", term.OrDash(strings.Join(g.Members, ", "))})
				c.T.Say("")
				if len(g.Roles) == 0 {
					c.T.Say("No roles")
					return
				}
				drawRoles(c.T, g.Roles, true)
			})
		},
	}
}

func listGroups() site.Command {
	return site.Command{
		Name: "list", Short: "List groups with their members", On: site.OnRegistry, Facts: []api.Group{},
		Run: func(ctx context.Context, c *site.Call) error {
			var all api.GroupList
			if err := c.Do(ctx, http.MethodGet, groupsPath, nil, nil, &all); err != nil {
				return err
			}
			return c.Tell(all.Groups, func() {
				w := c.T.Table("Group", "Members", "At the company's login", "Description")
				for _, g := range all.Groups {
					w.Row(g.Name, strings.Join(g.Members, ", "), term.OrDash(g.Claim), g.Description)
				}
				w.Draw()
			})
		},
	}
}

func removeGroup() site.Command {
	return site.Command{
		Name: "remove", Short: "Remove a group, and the roles it gave", On: site.OnRegistry, Args: []site.Arg{groupArg}, Facts: api.GroupWithRoles{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			g, err := getGroup(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the group %s, with %s and the %s that it gives them? This cannot be undone.", g.Name, term.Count(len(g.Members), "member", "members"), term.Count(len(g.Roles), "role", "roles"))); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, groupPath(g.Name), nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(g, func() { c.T.Say("Removed the group %s with its roles", g.Name) })
		},
	}
}

// membership is a step for accounts and a group.
func membership(name, short, method, says string) site.Command {
	return site.Command{
		Name: name, Short: short, On: site.OnRegistry, Args: []site.Arg{groupArg, {Name: "ACCOUNT", Many: true, Ask: site.Accounts}}, Facts: api.GroupWithRoles{},
		Run: func(ctx context.Context, c *site.Call) error {
			group := c.Args[0]
			for _, account := range c.Args[1:] {
				if err := c.Do(ctx, method, groupPath(group)+"/members/"+url.PathEscape(account), nil, nil, nil); err != nil {
					return err
				}
				if !c.JSON() {
					c.T.Say(says, account, group)
				}
			}
			if !c.JSON() {
				return nil
			}
			now, err := getGroup(ctx, c, group)
			if err != nil {
				return err
			}
			return c.Tell(now, nil)
		},
	}
}
