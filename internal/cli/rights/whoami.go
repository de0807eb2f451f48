package rights

import (
	"context"
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func whoamiCommand() site.Command {
	return site.Command{
		Name: "whoami", Group: term.GroupRights, Short: "Show who you are at a registry, and what you may do there", On: site.OnRegistry, Facts: api.Me{},
		Run: func(ctx context.Context, c *site.Call) error {
			found, err := c.R.Credentials(ctx, c.Registry)
			if err != nil {
				return err
			}
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			if found.Empty() && me.Account == "" {
				return site.NotLoggedIn(c.Registry)
			}
			return c.Tell(me, func() { drawMe(c, me, found.From) })
		},
	}
}

func drawMe(c *site.Call, me api.Me, by string) {
	if by == "" {
		by = "no login: the registry is a trial, in which anybody may do everything"
	}
	c.T.Say("%s at %s, by %s", me.Account, c.Registry, by)
	if me.Token != "" {
		until := "without end"
		if me.EndsAt != nil {
			until = "good until " + me.EndsAt.Format(time.DateOnly)
		}
		c.T.Say("The login is the token %q, %s", me.Token, until)
	}
	if len(me.Groups) > 0 {
		c.T.Say("In the groups %s", strings.Join(me.Groups, ", "))
	}
	if len(me.Scopes) > 0 {
		for _, s := range me.May {
			c.T.Say("By this token: %s in %s", strings.Join(s.Actions, ", "), s.Pattern)
		}
		if len(me.May) == 0 {
			c.T.Say("By this token nothing but what anybody may: its scopes and the roles of the account have nothing in common")
		}
	}
	if me.Admin {
		c.T.Say("Registry admin: may do everything, everywhere")
	}
	if len(me.Roles) == 0 && !me.Admin && len(me.Scopes) == 0 {
		c.T.Say("No roles: what anybody may pull can be pulled, and nothing else")
	}
	if len(me.Roles) > 0 {
		c.T.Say("")
		drawRoles(c.T, me.Roles, false)
	}
}
