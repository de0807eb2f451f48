package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/oci"
)

// pageSize is how many rows one request of a list asks for.
const pageSize = 500

func addList(root *cobra.Command, t terminal, r *remote) {
	var output, sort, contains string
	command := &cobra.Command{
		Use:     "list [REGISTRY[/REPOSITORY]]",
		GroupID: groupLook,
		Short:   "List the repositories of a registry, or the tags of a repository",
		Example: "  warthesis list localhost:7070\n  warthesis list localhost:7070/timetable/planner",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			if sort != "name" && sort != "change" {
				return usage("--sort is %q: it is name or change", sort)
			}
			page := api.List{Sort: sort, Contains: contains, Limit: pageSize}
			if len(args) == 0 || !strings.Contains(args[0], "/") {
				registry, err := registryOr(args)
				if err != nil {
					return err
				}
				client, err := r.api(c.Context(), registry)
				if err != nil {
					return err
				}
				err = listRepositories(c.Context(), t, client, registry, output, page)
				if errors.Is(err, api.ErrOtherMake) {
					return r.listByStandard(c.Context(), t, oci.Reference{Registry: registry}, output, page)
				}
				return err
			}
			ref, err := reference(args[0])
			if err != nil {
				return err
			}
			if ref.Target() != "" {
				return usage("%s names one image; to look at it: warthesis show %s; to list the tags: warthesis list %s", args[0], args[0], ref.Repository())
			}
			client, err := r.api(c.Context(), ref.Registry)
			if err != nil {
				return err
			}
			err = listTags(c.Context(), t, client, ref, output, page)
			if errors.Is(err, api.ErrOtherMake) {
				return r.listByStandard(c.Context(), t, ref, output, page)
			}
			return err
		},
	}
	command.Flags().StringVar(&sort, "sort", "name", "name, or change for what changed last first")
	command.Flags().StringVar(&contains, "contains", "", "only names with this text in them")
	addOutput(command, &output)
	root.AddCommand(command)
}

// everyPage gathers a list page by page.
func everyPage[Row any](page api.List, ask func(api.List) (rows []Row, next string, err error)) ([]Row, error) {
	all := []Row{}
	asked := map[string]bool{}
	for {
		rows, next, err := ask(page)
		if err != nil {
			return nil, err
		}
		all = append(all, rows...)
		if next == "" {
			return all, nil
		}
		if asked[next] || len(all) > mostRows {
			return nil, oci.Errorf(oci.CodeUnsupported, "the registry's list does not come to an end: its pages repeat, or are more than %d rows", mostRows)
		}
		asked[next], page.After = true, next
	}
}

// mostRows bounds what one list may bring.
const mostRows = 10_000_000

// listByStandard lists what any registry can tell: names, by the distribution protocol
// alone (distribution-spec, "Listing Tags"), and repositories where there is a catalogue.
func (r *remote) listByStandard(ctx context.Context, t terminal, ref oci.Reference, output string, page api.List) error {
	client, err := r.peer(ref.Registry)
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
	all, err := everyPage(page, func(page api.List) ([]string, string, error) { return ask(ctx, page.After) })
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(name string) bool {
		return !strings.Contains(strings.ToLower(name), strings.ToLower(page.Contains))
	})
	if output == outputJSON {
		return writeJSON(t.out, all)
	}
	for _, name := range all {
		fmt.Fprintln(t.out, oneLine(name))
	}
	fmt.Fprintf(t.err, "%d %s. This is no Warthesis registry: digests, sizes and times of a list only that can tell. One digest:  %s identify REFERENCE\n", len(all), what, programName())
	return nil
}

func listRepositories(ctx context.Context, t terminal, client *api.Client, registry, output string, page api.List) error {
	all, err := everyPage(page, func(page api.List) ([]api.Repository, string, error) {
		list, err := client.Repositories(ctx, page)
		return list.Repositories, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == outputJSON {
		return writeJSON(t.out, all)
	}
	if len(all) == 0 && client.Secret == "" {
		// What anybody may pull would be listed: there is none of it.
		return client.NotLoggedIn
	}
	if len(all) == 0 {
		fmt.Fprintf(t.out, "No repositories%s. The first push makes one: warthesis push IMAGE %s/NAMESPACE/NAME:TAG\n", matching(page), registry)
		return nil
	}
	w := newTable(t, "Repository", "Tags", "Size", "Pushed", "Pulled", "Pulls")
	alignRight(w, "Tags", "Size", "Pulls")
	for _, r := range all {
		w.AppendRow(table.Row{r.Name, r.Tags, size(r.Size), when(&r.PushedAt), when(r.PulledAt), r.Pulls})
	}
	w.Render()
	return nil
}

func listTags(ctx context.Context, t terminal, client *api.Client, ref oci.Reference, output string, page api.List) error {
	all, err := everyPage(page, func(page api.List) ([]api.Tag, string, error) {
		list, err := client.Tags(ctx, ref.Name, page)
		return list.Tags, list.Next, err
	})
	if err != nil {
		return err
	}
	if output == outputJSON {
		return writeJSON(t.out, all)
	}
	if len(all) == 0 {
		fmt.Fprintf(t.out, "No tags%s in %s. A push makes one: warthesis push IMAGE %s:TAG\n", matching(page), ref, ref)
		return nil
	}
	w := newTable(t, "Tag", "Digest", "Size", "Moved", "Pulled", "Platforms")
	alignRight(w, "Size")
	for _, tag := range all {
		w.AppendRow(table.Row{tag.Name, short(tag.Digest), size(tag.Size), when(&tag.MovedAt), when(tag.PulledAt), platformsOrType(tag)})
	}
	w.Render()
	fmt.Fprintf(t.out, "\nThe whole digest of a tag: warthesis identify %s:%s\n", ref, all[0].Name)
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
