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
	"warthesis/internal/oci"
)

const rolesPath = "/api/v1/roles"

// drawRoles draws a table of roles; with who, whose they are.
func drawRoles(t term.Terminal, roles []api.Role, who bool) {
	titles := []string{"Place", "Role", "Used", "Given"}
	if who {
		titles = append([]string{"Who"}, titles...)
	} else {
		titles = append(titles, "By the group")
	}
	w := t.Table(titles...)
	for _, role := range roles {
		used := term.When(role.UsedAt)
		if role.Unused {
			used += "  (not in 90 days: can it be narrower?)"
		}
		given := "-"
		name := role.Role
		if role.Admin {
			name, used = "registry admin", "-"
		} else {
			given = term.When(&role.GrantedAt)
		}
		row := []any{sayPlace(role.Place), name, used, given}
		if who {
			row = append([]any{whose(role)}, row...)
		} else {
			row = append(row, term.OrDash(role.Group))
		}
		w.Row(row...)
	}
	w.Draw()
}

func whose(role api.Role) string {
	if role.Group != "" {
		return "group " + role.Group
	}
	return role.Account
}

// who reads an account, or group:NAME.
func who(s string) (account, group string) {
	if name, is := strings.CutPrefix(s, "group:"); is {
		return "", name
	}
	return s, ""
}

// whoArg is an account or a group as an argument.
var whoArg = site.Arg{Name: "WHO", Ask: site.Members, Many: true}

func grantCommand() site.Command {
	var insteadOf string
	return site.Command{
		Name: "grant", Group: term.GroupRights, Short: "Give somebody a role in a repository, a namespace or the registry",
		Long: "Gives a role to accounts, or to groups named as group:NAME.\n" +
			"Roles: reader (pull), writer (also push, under a name that is taken too), curator (also remove, move tags by hand and seal),\n" +
			"owner (also rules, members and settings).\n\n" +
			"With --instead-of the role is narrowed in one step: the role in that wider place goes, and what was done by it in the last 90 days\n" +
			"that the narrower role does not allow is told first.",
		Example: "  warthesis grant localhost:7070/berths/seatmap writer ci-berths\n  warthesis grant localhost:7070/berths reader group:timetable\n" +
			"  warthesis grant localhost:7070/berths/seatmap writer ci-berths --instead-of localhost:7070/berths",
		On: site.OnPlace, Args: []site.Arg{{Name: "ROLE", Words: []string{"reader", "writer", "curator", "owner"}}, whoArg}, Facts: []api.NewRole{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&insteadOf, "instead-of", "", "the wider place whose role this one takes the place of")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			wide, err := widerPlace(c, insteadOf)
			if err != nil {
				return err
			}
			var given []api.NewRole
			for _, name := range c.Args[1:] {
				account, group := who(name)
				body := api.NewRole{Place: string(c.Place.Name), Role: c.Args[0], Account: account, Group: group, InsteadOf: wide}
				if wide != nil {
					if err := confirmNarrower(ctx, c, name, body); err != nil {
						return err
					}
				}
				if err := c.Do(ctx, http.MethodPut, rolesPath, nil, body, nil); err != nil {
					return err
				}
				given = append(given, body)
				if !c.JSON() {
					c.T.Say("%s is %s in %s", name, body.Role, c.Place)
				}
			}
			return c.Tell(given, func() {})
		},
	}
}

// widerPlace reads the place of the role that goes, nil for none.
func widerPlace(c *site.Call, s string) (*string, error) {
	if s == "" {
		return nil, c.Idle("nothing is asked where no role goes; --yes is for --instead-of", "yes")
	}
	p, err := c.R.ReadPlace(s)
	if err != nil {
		return nil, err
	}
	if p.Registry != c.Registry {
		return nil, term.Usage("%s and %s are in two registries; a role is narrowed within one", c.Place, p)
	}
	name := string(p.Name)
	return &name, nil
}

// confirmNarrower tells what would have been refused, and asks.
func confirmNarrower(ctx context.Context, c *site.Call, name string, body api.NewRole) error {
	query := api.Given(map[string]string{"place": body.Place, "role": body.Role, "instead_of": *body.InsteadOf, "account": body.Account, "group": body.Group})
	var uses api.RoleUses
	if err := c.Do(ctx, http.MethodGet, rolesPath+"/uses", query, nil, &uses); err != nil {
		return err
	}
	wide := sayPlace(*body.InsteadOf)
	if len(uses.Refused) == 0 {
		c.T.Warn("Nothing that %s did in the last %d days by the role in %s would have been refused.%s", name, uses.Days, wide, pullsUnknown(uses))
		return nil
	}
	c.T.Warn("Of what %s did in the last %d days by the role in %s, this would have been refused:", name, uses.Days, wide)
	for _, use := range uses.Refused {
		c.T.Warn("  %-8s %s  (%s in the audit log, the last %s)", use.Action, use.Repository, term.Count(use.Times, "line", "lines"), term.When(&use.LastAt))
	}
	if said := pullsUnknown(uses); said != "" {
		c.T.Warn("%s", strings.TrimSpace(said))
	}
	return c.Confirm(ctx, fmt.Sprintf("Narrow the role of %s to %s in %s?", name, body.Role, c.Place))
}

func pullsUnknown(uses api.RoleUses) string {
	if uses.PullsKnown {
		return ""
	}
	return " Pulls are not counted in this: they are in the audit log only where a namespace has log_pulls."
}

func ungrantCommand() site.Command {
	return site.Command{
		Name: "ungrant", Group: term.GroupRights, Short: "Take the role that somebody has in a place",
		On: site.OnPlace, Args: []site.Arg{whoArg}, Facts: []api.NewRole{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			if err := c.Confirm(ctx, fmt.Sprintf("Take the role in %s from %s? It can be given again.", c.Place, strings.Join(c.Args, ", "))); err != nil {
				return err
			}
			var taken []api.NewRole
			for _, name := range c.Args {
				account, group := who(name)
				query := api.Given(map[string]string{"place": string(c.Place.Name), "account": account, "group": group})
				if err := c.Do(ctx, http.MethodDelete, rolesPath, query, nil, nil); err != nil {
					return err
				}
				taken = append(taken, api.NewRole{Place: string(c.Place.Name), Account: account, Group: group})
				if !c.JSON() {
					c.T.Say("%s has no role of its own in %s any more", name, c.Place)
				}
			}
			return c.Tell(taken, func() {})
		},
	}
}

func membersCommand() site.Command {
	return site.Command{
		Name: "members", Group: term.GroupRights, Short: "List who has which roles in a place, from wherever they have them, and since when they were not used",
		On: site.OnWhere, Facts: []api.Role{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.RoleList
			if err := c.Do(ctx, http.MethodGet, rolesPath, url.Values{"place": {string(c.Place.Name)}, "above": {"true"}}, nil, &list); err != nil {
				return err
			}
			if c.Place.Name != "" && len(list.Roles) == 0 {
				return oci.Errorf(oci.CodeNameUnknown, "nobody has a role in %s", c.Place)
			}
			return c.Tell(list.Roles, func() { drawRoles(c.T, list.Roles, true) })
		},
	}
}

// sayPlace names a place in a table.
func sayPlace(place string) string {
	if place == "" {
		return "the registry"
	}
	return place
}
