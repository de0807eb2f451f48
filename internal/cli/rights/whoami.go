package rights

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addWhoami(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var output string
	command := &cobra.Command{
		Use:     "whoami [REGISTRY]",
		GroupID: term.GroupRights,
		Short:   "Show who you are at a registry, and what you may do there",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := site.RegistryOr(args)
			if err != nil {
				return err
			}
			return whoami(c.Context(), r, t, registry, output)
		},
	}
	term.AddOutput(command, &output)
	root.AddCommand(command)
}

func whoami(ctx context.Context, r *site.Remote, t term.Terminal, registry, output string) error {
	if err := term.CheckOutput(output); err != nil {
		return err
	}
	found, err := r.Credentials(ctx, registry)
	if err != nil {
		return err
	}
	if found.Empty() {
		return site.NotLoggedIn(registry)
	}
	client, err := r.API(ctx, registry)
	if err != nil {
		return err
	}
	var me api.Me
	if err := client.Do(ctx, "GET", "/api/v1/me", nil, nil, &me); err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, me)
	}
	fmt.Fprintf(t.Out, "%s at %s, by %s\n", me.Account, registry, found.From)
	if me.Token != "" {
		until := "without end"
		if me.EndsAt != nil {
			until = "good until " + me.EndsAt.Format(time.DateOnly)
		}
		fmt.Fprintf(t.Out, "The login is the token %q, %s\n", me.Token, until)
	}
	if len(me.Groups) > 0 {
		fmt.Fprintf(t.Out, "In the groups %s\n", strings.Join(me.Groups, ", "))
	}
	if len(me.Scopes) > 0 {
		for _, s := range me.May {
			fmt.Fprintf(t.Out, "By this token: %s in %s\n", strings.Join(s.Actions, ", "), s.Pattern)
		}
		if len(me.May) == 0 {
			fmt.Fprintln(t.Out, "By this token nothing but what anybody may: its scopes and the roles of the account have nothing in common")
		}
	}
	if me.Admin {
		fmt.Fprintln(t.Out, "Registry admin: may do everything, everywhere")
	}
	if len(me.Roles) == 0 && !me.Admin && len(me.Scopes) == 0 {
		fmt.Fprintln(t.Out, "No roles: what anybody may pull can be pulled, and nothing else")
	}
	if len(me.Roles) > 0 {
		fmt.Fprintln(t.Out)
		renderRoles(t, me.Roles, false)
	}
	return nil
}

// sayPlace names a place in a table.
func sayPlace(place string) string {
	if place == "" {
		return "the registry"
	}
	return place
}
