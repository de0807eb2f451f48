package service

import (
	"context"
	"fmt"

	"github.com/spf13/pflag"

	"warthesis/internal/access"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/serve"
)

// newPassword is what the way back in did.
type newPassword struct {
	Account  string `json:"account"`
	Password string `json:"password,omitempty"`
	Running  bool   `json:"running"`
}

// adminPasswordCommand is the way back in for whoever has the service's machine.
func adminPasswordCommand() site.Command {
	var file, data string
	var fromStdin bool
	return site.Command{
		Name: "admin-password", Group: term.GroupRun, Short: "Give a registry admin a new password, on the service's own machine",
		Long: "The way back in where nobody can log in as a registry admin any more. It works on the data folder, while the service runs or not,\n" +
			"for whoever may write to that folder. ACCOUNT is admin where left out; it is made, enabled or made a registry admin where it is not.\n" +
			"Its logins and sessions end. The new password is made up and shown this once, or read from standard input.",
		Example: "  warthesis admin-password --data /srv/warthesis\n  warthesis admin-password ines --config /etc/warthesis.yaml --from-stdin < password",
		On:      site.OnNothing, Args: []site.Arg{{Name: "ACCOUNT", Optional: true}}, Facts: newPassword{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&file, configFlag, "", "read settings from this YAML file, as serve does")
			f.StringVar(&data, "data", config.Default().Data, "folder that holds everything the registry keeps")
			f.BoolVar(&fromStdin, term.FromStdin, false, "read the password from standard input, or ask for it at a terminal")
		},
		Run: func(ctx context.Context, c *site.Call) (err error) {
			settings := config.Default()
			if err := settings.Lay(file, environment(), flagsGiven(c, "data")); err != nil {
				return term.Usage("%w", err)
			}
			account, password := "admin", access.MadeUpPassword()
			if len(c.Args) == 1 {
				account = c.Args[0]
			}
			if fromStdin {
				if password, err = term.NewSecret(ctx, c.T, "New password of "+account+": ", true); err != nil {
					return err
				}
			}
			running, err := serve.LetIn(ctx, settings, account, password)
			if err != nil {
				return err
			}
			how := "No service runs on the data folder; it knows the password at its next start."
			if running {
				how = "The service that runs on the data folder has taken it over."
			}
			c.T.Warn("The registry admin %s has a new password, and its logins have ended. %s", account, how)
			if fromStdin {
				password = ""
			}
			err = c.Tell(newPassword{account, password, running}, func() {
				if password != "" {
					c.T.Warn("It is shown this once:")
					c.T.Say("%s", password)
				}
			})
			if err == nil {
				err = c.T.Fault()
			}
			if err != nil && !fromStdin {
				err = fmt.Errorf("the new password could not be written, so that nobody knows it; run this again: %w", err)
			}
			return err
		},
	}
}
