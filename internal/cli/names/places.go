package names

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// kindOfPlace is how commands for namespaces and for repositories differ.
type kindOfPlace struct {
	word      string
	namespace bool
	read      func(string) (site.Place, error)
	// makeAt, where and restore are where the API has them.
	makeAt  string
	where   func(oci.Name) (string, url.Values)
	restore func(oci.Name) (string, url.Values)
}

var namespaceKind = kindOfPlace{
	word: "namespace", namespace: true, read: site.NamespacePlace, makeAt: "/api/v1/namespaces",
	where:   func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n), nil },
	restore: func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n) + "/restore", nil },
}

var repositoryKind = kindOfPlace{
	word: "repository", read: site.RepositoryPlace, makeAt: "/api/v1/repositories",
	where: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository", url.Values{"repository": {string(n)}}
	},
	restore: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository/restore", url.Values{"repository": {string(n)}}
	},
}

// addPlaces adds the commands that make, change, rename, remove and restore.
func addPlaces(root *cobra.Command, t term.Terminal, r *site.Remote, k kindOfPlace) {
	parent := &cobra.Command{Use: k.word, GroupID: term.GroupRights, Short: fmt.Sprintf("Make, change, rename, remove or restore a %s", k.word)}
	argument := "REGISTRY/NAMESPACE"
	if !k.namespace {
		argument += "/REPOSITORY"
	}
	var made, changed changes
	makes := &cobra.Command{
		Use: "make " + argument, Short: "Make a " + k.word, Args: cobra.ExactArgs(1),
		RunE: r.In(k.read, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			change, err := made.read(c, k.namespace)
			if err != nil {
				return err
			}
			if err := at.Do(c.Context(), "POST", k.makeAt, nil, api.NewPlace{Name: string(p.Name), PlaceChange: change}, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Made the %s %s\n", k.word, p)
			return nil
		}),
	}
	made.addTo(makes, k.namespace)
	change := &cobra.Command{
		Use: "change " + argument, Short: "Change a " + k.word, Args: cobra.ExactArgs(1),
		RunE: r.In(k.read, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			body, err := changed.read(c, k.namespace)
			if err != nil {
				return err
			}
			path, query := k.where(p.Name)
			if err := at.Do(c.Context(), "PATCH", path, query, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Changed the %s %s\n", k.word, p)
			return nil
		}),
	}
	changed.addTo(change, k.namespace)
	rename := &cobra.Command{
		Use: "rename " + argument + " NAME", Short: fmt.Sprintf("Give a %s another name; clients know it by that alone from then on", k.word), Args: cobra.ExactArgs(2),
		RunE: r.In(k.read, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			path, query := k.where(p.Name)
			if err := at.Do(c.Context(), "PATCH", path, query, api.PlaceChange{Rename: &rest[0]}, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Renamed the %s %s to %s; references with the old name no longer lead anywhere\n", k.word, p, rest[0])
			return nil
		}),
	}
	var yes bool
	remove := &cobra.Command{
		Use: "remove " + argument, Short: fmt.Sprintf("Remove a %s with all in it; it can be restored", k.word), Args: cobra.ExactArgs(1),
		RunE: r.In(k.read, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			if err := term.Confirmed(t, yes, "Remove the %s %s with all that is in it?", k.word, p); err != nil {
				return err
			}
			path, query := k.where(p.Name)
			if err := at.Do(c.Context(), "DELETE", path, query, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Removed the %s %s. To get it back:  %s %s restore %s\n", k.word, p, term.ProgramName(), k.word, p)
			return nil
		}),
	}
	term.AddYes(remove, &yes)
	restore := &cobra.Command{
		Use: "restore " + argument, Short: fmt.Sprintf("Bring a removed %s back", k.word), Args: cobra.ExactArgs(1),
		RunE: r.In(k.read, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			path, query := k.restore(p.Name)
			if err := at.Do(c.Context(), "POST", path, query, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Restored the %s %s\n", k.word, p)
			return nil
		}),
	}
	parent.AddCommand(makes, change, rename, remove, restore)
	if k.namespace {
		addNamespaceList(parent, t, r)
	}
	root.AddCommand(parent)
}
