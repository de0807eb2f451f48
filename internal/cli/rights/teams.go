package rights

import (
	"fmt"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addTeam(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var team api.NewTeam
	command := &cobra.Command{
		Use: "team REGISTRY/NAMESPACE", GroupID: term.GroupRights, Short: "Make a namespace, a group of its people and the roles between them",
		Long: "Makes what a new team needs in one step: a namespace, a group of the same name whose members write in it, and owners who look after it.\n" +
			"Prints the commands to hand to the team.",
		Example: "  warthesis team localhost:7070/catering --owner marit --writer teodor",
		Args:    cobra.ExactArgs(1),
		RunE: r.In(site.NamespacePlace, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			team.Name = string(p.Name)
			if err := at.Do(c.Context(), "POST", "/api/v1/teams", nil, team, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Made the namespace %[1]s and the group %[2]s, whose members may push there.\n\nTo hand to the team:\n\n"+
				"  warthesis login %[3]s\n  warthesis push IMAGE %[1]s/APPLICATION:TAG\n  warthesis pull %[1]s/APPLICATION:TAG FOLDER\n\n"+
				"To bring people and build machines in:\n\n  %[4]s group add %[3]s %[2]s NAME\n  %[4]s grant %[1]s/APPLICATION writer MACHINE-ACCOUNT\n",
				p, team.Name, p.Registry, term.ProgramName())
			return nil
		}),
	}
	command.Flags().StringVar(&team.Description, "description", "", "what the team does")
	command.Flags().StringArrayVar(&team.Owners, "owner", nil, "account that owns the namespace")
	command.Flags().StringArrayVar(&team.Writers, "writer", nil, "account that joins the group")
	root.AddCommand(command)
}
