package rights

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

// renderRoles draws a table of roles; with who, whose they are.
func renderRoles(t term.Terminal, roles []api.Role, who bool) {
	titles := []string{"Place", "Role", "Used", "Given"}
	if who {
		titles = append([]string{"Who"}, titles...)
	} else {
		titles = append(titles, "By the group")
	}
	w := term.NewTable(t, titles...)
	for _, role := range roles {
		used := term.When(role.UsedAt)
		if role.Unused {
			used += "  (not in 90 days: can it be narrower?)"
		}
		row := table.Row{sayPlace(role.Place), role.Role, used, term.When(&role.GrantedAt)}
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

// who reads an account, or group:NAME.
func who(s string) (account, group string) {
	if name, is := strings.CutPrefix(s, "group:"); is {
		return "", name
	}
	return s, ""
}

func addGrant(root *cobra.Command, t term.Terminal, r *site.Remote) {
	grant := &cobra.Command{
		Use: "grant PLACE ROLE WHO...", GroupID: term.GroupRights, Short: "Give somebody a role in a repository, a namespace or the registry",
		Long: "Gives a role to accounts, or to groups named as group:NAME. PLACE is REGISTRY/NAMESPACE/REPOSITORY, REGISTRY/NAMESPACE or REGISTRY.\n" +
			"Roles: reader (pull), writer (also push), curator (also delete, move tags and set rules), owner (also members and settings).",
		Example: "  warthesis grant localhost:7070/berths/seatmap writer ci-berths\n  warthesis grant localhost:7070/berths reader group:timetable",
		Args:    cobra.MinimumNArgs(3),
		RunE: r.In(site.ReadPlace, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			for _, name := range rest[1:] {
				account, group := who(name)
				body := api.NewRole{Place: string(p.Name), Role: rest[0], Account: account, Group: group}
				if err := at.Do(c.Context(), "PUT", "/api/v1/roles", nil, body, nil); err != nil {
					return err
				}
				fmt.Fprintf(t.Out, "%s is %s in %s\n", name, rest[0], p)
			}
			return nil
		}),
	}
	take := &cobra.Command{
		Use: "ungrant PLACE WHO...", GroupID: term.GroupRights, Short: "Take the role that somebody has in a place",
		Args: cobra.MinimumNArgs(2),
		RunE: r.In(site.ReadPlace, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			for _, name := range rest {
				account, group := who(name)
				query := url.Values{"place": {string(p.Name)}}
				if account != "" {
					query.Set("account", account)
				} else {
					query.Set("group", group)
				}
				if err := at.Do(c.Context(), "DELETE", "/api/v1/roles", query, nil, nil); err != nil {
					return err
				}
				fmt.Fprintf(t.Out, "%s has no role of its own in %s any more\n", name, p)
			}
			return nil
		}),
	}
	var output string
	members := &cobra.Command{
		Use: "members PLACE", GroupID: term.GroupRights, Short: "List who has which roles in a place, and since when they were not used",
		Args: cobra.ExactArgs(1),
		RunE: r.In(site.ReadPlace, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			var list api.RoleList
			if err := at.Do(c.Context(), "GET", "/api/v1/roles", url.Values{"place": {string(p.Name)}}, nil, &list); err != nil {
				return err
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, list.Roles)
			}
			if len(list.Roles) == 0 {
				fmt.Fprintf(t.Out, "Nobody has a role in %s. Give one:  %s grant %s ROLE WHO\n", p, term.ProgramName(), p)
				return nil
			}
			renderRoles(t, list.Roles, true)
			return nil
		}),
	}
	term.AddOutput(members, &output)
	root.AddCommand(grant, take, members)
}
