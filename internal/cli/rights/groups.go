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

func addGroups(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{Use: "group", GroupID: term.GroupRights, Short: "Make, list, fill or remove groups"}
	var body api.NewGroup
	// do is one step on a group.
	do := func(use, short, method string, args int, path func([]string) string, says string) *cobra.Command {
		return &cobra.Command{
			Use: use, Short: short, Args: cobra.ExactArgs(args),
			RunE: r.At(func(c *cobra.Command, at site.Site, names []string) error {
				if err := at.Do(c.Context(), method, path(names), nil, nil, nil); err != nil {
					return err
				}
				said := make([]any, len(names))
				for i, name := range names {
					said[i] = name
				}
				fmt.Fprintf(t.Out, says+"\n", said...)
				return nil
			}),
		}
	}
	member := func(names []string) string {
		return "/api/v1/groups/" + url.PathEscape(names[0]) + "/members/" + url.PathEscape(names[1])
	}
	makes := &cobra.Command{
		Use: "make REGISTRY GROUP", Short: "Make a group", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			body.Name = rest[0]
			if err := at.Do(c.Context(), "POST", "/api/v1/groups", nil, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Made the group %s. Put people in:  %s group add %s %s NAME\n", body.Name, term.ProgramName(), at.Registry, body.Name)
			return nil
		}),
	}
	makes.Flags().StringVar(&body.Description, "description", "", "who is in it")
	makes.Flags().StringVar(&body.Claim, "company-group", "", "its name at the company's login, which then fills it")
	var output string
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List groups with their members", Args: cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			var all api.GroupList
			if err := at.Do(c.Context(), "GET", "/api/v1/groups", nil, nil, &all); err != nil {
				return err
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, all.Groups)
			}
			w := term.NewTable(t, "Group", "Members", "At the company's login", "Description")
			for _, g := range all.Groups {
				w.AppendRow(table.Row{g.Name, strings.Join(g.Members, ", "), term.OrDash(g.Claim), g.Description})
			}
			w.Render()
			return nil
		}),
	}
	term.AddOutput(list, &output)
	parent.AddCommand(makes, list,
		do("add REGISTRY GROUP ACCOUNT", "Put an account into a group", "PUT", 3, member, "%[2]s is in the group %[1]s"),
		do("drop REGISTRY GROUP ACCOUNT", "Take an account out of a group", "DELETE", 3, member, "%[2]s is not in the group %[1]s any more"),
		do("remove REGISTRY GROUP", "Remove a group, and the roles it gave", "DELETE", 2,
			func(names []string) string { return "/api/v1/groups/" + url.PathEscape(names[0]) }, "Removed the group %[1]s with its roles"))
	root.AddCommand(parent)
}
