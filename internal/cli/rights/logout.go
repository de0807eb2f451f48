package rights

import (
	"context"
	"net/http"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
)

// loggedOut is what a logout did.
type loggedOut struct {
	Registry string `json:"registry"`
	File     string `json:"file"`
	WasThere bool   `json:"was_there"`
}

func logoutCommand() site.Command {
	return site.Command{
		Name: "logout", Group: term.GroupRights, Short: "Log out of a registry", On: site.OnRegistry, Facts: loggedOut{},
		Run: func(ctx context.Context, c *site.Call) error {
			file, err := login.Open(c.R.Place())
			if err != nil {
				return err
			}
			if c.Secret != "" && isToken(c.Secret) {
				if err := c.Do(ctx, http.MethodDelete, "/api/v1/session", nil, nil, nil); err != nil {
					c.T.Warn("warthesis: the login could not be ended at the registry, and is only forgotten here: %v", err)
				}
			}
			found, err := file.Forget(ctx, c.Registry)
			if err != nil {
				return err
			}
			return c.Tell(loggedOut{c.Registry, file.Path, found}, func() {
				if !found {
					c.T.Say("There was no login for %s in %s", c.Registry, file.Path)
					return
				}
				c.T.Say("Logged out of %s", c.Registry)
			})
		},
	}
}
