package rights

import (
	"context"
	"net/http"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func teamCommands() site.Command {
	return site.Command{Name: "team", Group: term.GroupRights, Short: "Make what a new team needs, in one step", Under: []site.Command{makeTeam()}}
}

func makeTeam() site.Command {
	var team api.NewTeam
	return site.Command{
		Name: "make", Short: "Make a namespace, a group of its people and the roles between them",
		Long: "Makes what a new team needs in one step: a namespace, a group of the same name whose members write in it, and owners who look after it.\n" +
			"Prints the commands to hand to the team.",
		Example: "  warthesis team make localhost:7070/catering --owner marit --writer teodor",
		On:      site.OnNamespace, Facts: api.NewTeam{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&team.Description, "description", "", "what the team does")
			term.Texts(f, &team.Owners, "owner", "account that owns the namespace")
			term.Texts(f, &team.Writers, "writer", "account that joins the group")
		},
		Values: map[string]site.Completer{"owner": site.Accounts, "writer": site.Accounts},
		Run: func(ctx context.Context, c *site.Call) error {
			team.Name = string(c.Place.Name)
			if err := c.Do(ctx, http.MethodPost, "/api/v1/teams", nil, team, nil); err != nil {
				return err
			}
			return c.Tell(team, func() {
				c.T.Say("Made the namespace %[1]s and the group %[2]s, whose members may push there.\n\nTo hand to the team:\n\n"+
					"  warthesis login %[3]s\n  warthesis push IMAGE %[1]s/APPLICATION:TAG\n  warthesis pull %[1]s/APPLICATION:TAG FOLDER\n\n"+
					"To bring people and build machines in:\n\n  %[4]s group add %[3]s %[2]s ACCOUNT\n  %[4]s grant %[1]s/APPLICATION writer MACHINE-ACCOUNT",
					c.Place, team.Name, c.Registry, term.ProgramName())
			})
		},
	}
}
