package image

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func addList(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var output, sort, contains string
	command := &cobra.Command{
		Use:     "list [REGISTRY[/REPOSITORY]]",
		GroupID: term.GroupLook,
		Short:   "List the repositories of a registry, or the tags of a repository",
		Example: "  warthesis list localhost:7070\n  warthesis list localhost:7070/timetable/planner",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			if sort != "name" && sort != "change" {
				return term.Usage("--sort is %q: it is name or change", sort)
			}
			page := api.List{Sort: sort, Contains: contains, Limit: site.PageSize}
			if len(args) == 0 || !strings.Contains(args[0], "/") {
				registry, err := site.RegistryOr(args)
				if err != nil {
					return err
				}
				client, err := r.API(c.Context(), registry)
				if err != nil {
					return err
				}
				err = listRepositories(c.Context(), t, client, registry, output, page)
				if errors.Is(err, api.ErrOtherMake) {
					return listByStandard(c.Context(), r, t, oci.Reference{Registry: registry}, output, page)
				}
				return err
			}
			ref, err := site.Reference(args[0])
			if err != nil {
				return err
			}
			if ref.Target() != "" {
				return term.Usage("%s names one image; to look at it: warthesis show %s; to list the tags: warthesis list %s", args[0], args[0], ref.Repository())
			}
			client, err := r.API(c.Context(), ref.Registry)
			if err != nil {
				return err
			}
			err = listTags(c.Context(), t, client, ref, output, page)
			if errors.Is(err, api.ErrOtherMake) {
				return listByStandard(c.Context(), r, t, ref, output, page)
			}
			return err
		},
	}
	command.Flags().StringVar(&sort, "sort", "name", "name, or change for what changed last first")
	command.Flags().StringVar(&contains, "contains", "", "only names with this text in them")
	term.AddOutput(command, &output)
	root.AddCommand(command)
}

// listByStandard lists what any registry can tell: names, by the distribution protocol
// alone (distribution-spec, "Listing Tags"), and repositories where there is a catalogue.
func listByStandard(ctx context.Context, r *site.Remote, t term.Terminal, ref oci.Reference, output string, page api.List) error {
	client, err := r.Peer(ref.Registry)
	if err != nil {
		return err
	}
	ask, what := client.Repositories, "repositories"
	if ref.Name != "" {
		what = "tags"
		ask = func(ctx context.Context, after string) ([]string, string, error) {
			return client.Tags(ctx, ref.Name, after)
		}
	}
	all, err := site.EveryPage(page, func(page api.List) ([]string, string, error) { return ask(ctx, page.After) })
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(name string) bool {
		return !strings.Contains(strings.ToLower(name), strings.ToLower(page.Contains))
	})
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, all)
	}
	for _, name := range all {
		fmt.Fprintln(t.Out, term.OneLine(name))
	}
	fmt.Fprintf(t.Err, "%d %s. This is no Warthesis registry: digests, sizes and times of a list only that can tell. One digest:  %s identify REFERENCE\n", len(all), what, term.ProgramName())
	return nil
}

func listRepositories(ctx context.Context, t term.Terminal, client *api.Client, registry, output string, page api.List) error {
	all, err := site.EveryPage(page, func(page api.List) ([]api.Repository, string, error) {
		list, err := client.Repositories(ctx, page)
		return list.Repositories, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, all)
	}
	if len(all) == 0 && client.Secret == "" {
		// What anybody may pull would be listed: there is none of it.
		return client.NotLoggedIn
	}
	if len(all) == 0 {
		fmt.Fprintf(t.Out, "No repositories%s. The first push makes one: warthesis push IMAGE %s/NAMESPACE/NAME:TAG\n", matching(page), registry)
		return nil
	}
	w := term.NewTable(t, "Repository", "Tags", "Size", "Pushed", "Pulled", "Pulls")
	term.AlignRight(w, "Tags", "Size", "Pulls")
	for _, r := range all {
		w.AppendRow(table.Row{r.Name, r.Tags, term.Size(r.Size), term.When(&r.PushedAt), term.When(r.PulledAt), r.Pulls})
	}
	w.Render()
	return nil
}

func listTags(ctx context.Context, t term.Terminal, client *api.Client, ref oci.Reference, output string, page api.List) error {
	all, err := site.EveryPage(page, func(page api.List) ([]api.Tag, string, error) {
		list, err := client.Tags(ctx, ref.Name, page)
		return list.Tags, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, all)
	}
	if len(all) == 0 {
		fmt.Fprintf(t.Out, "No tags%s in %s. A push makes one: warthesis push IMAGE %s:TAG\n", matching(page), ref, ref)
		return nil
	}
	w := term.NewTable(t, "Tag", "Digest", "Size", "Moved", "Pulled", "Platforms")
	term.AlignRight(w, "Size")
	for _, tag := range all {
		w.AppendRow(table.Row{tag.Name, term.Short(tag.Digest), term.Size(tag.Size), term.When(&tag.MovedAt), term.When(tag.PulledAt), platformsOrType(tag)})
	}
	w.Render()
	fmt.Fprintf(t.Out, "\nThe whole digest of a tag: warthesis identify %s:%s\n", ref, all[0].Name)
	return nil
}

func matching(page api.List) string {
	if page.Contains == "" {
		return ""
	}
	return fmt.Sprintf(" with %q in the name", page.Contains)
}

// platformsOrType says what a tag's image runs on, or what else it is.
func platformsOrType(tag api.Tag) string {
	if len(tag.Platforms) > 0 {
		return strings.Join(tag.Platforms, ", ")
	}
	return tag.ArtifactType
}
