package service

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addSettings(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var people, pushes, output string
	command := &cobra.Command{
		Use: "settings [REGISTRY]", GroupID: term.GroupRights, Short: "Show or change who makes namespaces",
		Args: cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			var settings api.Settings
			if err := at.Do(c.Context(), "GET", "/api/v1/settings", nil, nil, &settings); err != nil {
				return err
			}
			for _, one := range []struct {
				text   string
				target *bool
			}{{people, &settings.AccountsMakeNamespaces}, {pushes, &settings.PushMakesNamespaces}} {
				if one.text == "" {
					continue
				}
				value, err := strconv.ParseBool(one.text)
				if err != nil {
					return term.Usage("%q is neither true nor false", one.text)
				}
				*one.target = value
			}
			if people+pushes != "" {
				if err := at.Do(c.Context(), "PUT", "/api/v1/settings", nil, settings, nil); err != nil {
					return err
				}
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, settings)
			}
			makers := "registry admins alone"
			if settings.AccountsMakeNamespaces {
				makers = "every person, who then owns them"
			}
			byPush := "no push makes one"
			if settings.PushMakesNamespaces {
				byPush = "a push by one of them makes the namespace that it needs"
			}
			fmt.Fprintf(t.Out, "Namespaces are made by %s; %s\n", makers, byPush)
			return nil
		}),
	}
	command.Flags().StringVar(&people, "people-make-namespaces", "", "true or false: whether every person may make namespaces, and not registry admins alone")
	command.Flags().StringVar(&pushes, "pushes-make-namespaces", "", "true or false: whether a push by somebody who may make a namespace makes it")
	term.AddOutput(command, &output)
	root.AddCommand(command)
}
