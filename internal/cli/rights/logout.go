package rights

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
)

func addLogout(root *cobra.Command, t term.Terminal, r *site.Remote) {
	command := &cobra.Command{
		Use:     "logout [REGISTRY]",
		GroupID: term.GroupRights,
		Short:   "Log out of a registry",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			registry, err := site.RegistryOr(args)
			if err != nil {
				return err
			}
			return logOut(c.Context(), r, t, registry)
		},
	}
	root.AddCommand(command)
}

func logOut(ctx context.Context, r *site.Remote, t term.Terminal, registry string) error {
	file, err := login.Open(r.Place())
	if err != nil {
		return err
	}
	client, err := r.API(ctx, registry)
	if err != nil {
		return err
	}
	if client.Secret != "" && isToken(client.Secret) {
		if err := client.Do(ctx, "DELETE", "/api/v1/session", nil, nil, nil); err != nil {
			fmt.Fprintf(t.Err, "warthesis: the login could not be ended at the registry, and is only forgotten here: %v\n", err)
		}
	}
	found, err := file.Forget(ctx, registry)
	if err != nil {
		return err
	}
	if !found {
		fmt.Fprintf(t.Out, "There was no login for %s in %s\n", registry, file.Path)
		return nil
	}
	fmt.Fprintf(t.Out, "Logged out of %s\n", registry)
	return nil
}
