package service

import (
	"fmt"

	"github.com/spf13/cobra"

	"warthesis/internal/access"
	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/serve"
)

// addAdminPassword adds the way back in for whoever has the service's machine.
func addAdminPassword(root *cobra.Command, t term.Terminal) {
	var file, data string
	var fromStdin bool
	command := &cobra.Command{
		Use: "admin-password [ACCOUNT]", GroupID: term.GroupRun, Short: "Give a registry admin a new password, on the service's own machine",
		Long: "The way back in where nobody can log in as a registry admin any more. It works on the data folder, while the service runs or not,\n" +
			"for whoever may write to that folder. ACCOUNT is admin where left out; it is made, enabled or made a registry admin where it is not.\n" +
			"Its logins and sessions end. The new password is made up and shown this once, or read from standard input.",
		Example: "  warthesis admin-password --data /srv/warthesis\n  warthesis admin-password ines --config /etc/warthesis.yaml --from-stdin < password",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			settings, err := settle(c, file)
			if err != nil {
				return term.Usage("%w", err)
			}
			account, password := "admin", access.MadeUpPassword()
			if len(args) == 1 {
				account = args[0]
			}
			if fromStdin {
				if password, err = term.ReadSecret(); err != nil {
					return err
				}
			}
			running, err := serve.LetIn(c.Context(), settings, account, password)
			if err != nil {
				return err
			}
			how := "No service runs on the data folder; it knows the password at its next start."
			if running {
				how = "The service that runs on the data folder has taken it over."
			}
			fmt.Fprintf(t.Err, "The registry admin %s has a new password, and its logins have ended. %s\n", account, how)
			if fromStdin {
				return nil
			}
			fmt.Fprintln(t.Err, "It is shown this once:")
			_, err = fmt.Fprintln(t.Out, password)
			return err
		},
	}
	f := command.Flags()
	f.StringVar(&file, configFlag, "", "read settings from this YAML file, as serve does")
	f.StringVar(&data, "data", config.Default().Data, "folder that holds everything the registry keeps")
	f.BoolVar(&fromStdin, FromStdinFlag, false, "read the password from standard input")
	root.AddCommand(command)
}
