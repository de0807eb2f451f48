package names

import (
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addNamespaceList(parent *cobra.Command, t term.Terminal, r *site.Remote) {
	var output string
	command := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List the namespaces that you may see", Args: cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, _ []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			all, err := site.EveryPage(api.List{Limit: site.PageSize}, func(page api.List) ([]api.Namespace, string, error) {
				var list api.NamespaceList
				err := at.Do(c.Context(), "GET", "/api/v1/namespaces", page.Query(), nil, &list)
				return list.Namespaces, list.Next, err
			})
			if err != nil {
				return err
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, all)
			}
			w := term.NewTable(t, "Namespace", "Open", "Your role", "Repositories", "Size", "Pushed", "Description")
			term.AlignRight(w, "Repositories", "Size")
			for _, n := range all {
				open := "closed"
				if n.Open {
					open = "open"
				}
				w.AppendRow(table.Row{n.Name, open, term.OrDash(n.Role), n.Repositories, term.Size(n.Size), term.When(n.PushedAt), n.Description})
			}
			w.Render()
			return nil
		}),
	}
	term.AddOutput(command, &output)
	parent.AddCommand(command)
}
