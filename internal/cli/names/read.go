package names

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func sorted(all []string) []string {
	slices.Sort(all)
	return all
}

func readNamespace(ctx context.Context, c *site.Call, name oci.Name) (found, error) {
	var n api.Namespace
	err := c.Do(ctx, http.MethodGet, "/api/v1/namespaces/"+string(name), nil, nil, &n)
	return found{n, [][2]string{
		{"Description", n.Description}, {"Labels", labelsOf(n.Labels)}, {"Who may pull", openOrClosed(n.Open)}, {"Your role", n.Role},
		{"Pushes that make repositories", "those of " + n.PushMakes}, {"Description of new repositories", n.NewDescription}, {"Labels of new repositories", labelsOf(n.NewLabels)},
		{"Pulls in the audit log", term.YesNo(n.LogPulls)}, {"Restore window", windowOf(n.RestoreWindow)}, {"Repositories", strconv.FormatInt(n.Repositories, 10)}, {"Size", term.Size(n.Size)},
		{"Quota", quotaOf(n)}, {"Made", term.When(&n.CreatedAt)}, {"Pushed", term.When(n.PushedAt)},
	}, fmt.Sprintf("its %s (%s)", term.Count(n.Repositories, "repository", "repositories"), term.Size(n.Size))}, err
}

// quotaOf says how much is used of how much is allowed, "" for no quota.
func quotaOf(n api.Namespace) string {
	if n.Quota == 0 {
		return ""
	}
	return fmt.Sprintf("%s used of %s", term.Size(n.Used), term.Size(n.Quota))
}

func windowOf(window string) string {
	if window == "" {
		return "as the registry has it"
	}
	return window
}

func openOrClosed(open bool) string {
	if open {
		return "anybody (open)"
	}
	return "members (closed)"
}

// tagsOf says how many tags there are, and may be.
func tagsOf(r api.Repository) string {
	if r.TagQuota == 0 {
		return strconv.FormatInt(r.Tags, 10)
	}
	return fmt.Sprintf("%d of %d", r.Tags, r.TagQuota)
}

func readRepository(ctx context.Context, c *site.Call, name oci.Name) (found, error) {
	var r api.Repository
	err := c.Do(ctx, http.MethodGet, "/api/v1/repository", url.Values{"repository": {string(name)}}, nil, &r)
	may := openOrClosed(r.Open)
	if r.Visibility == "inherited" {
		may += ", as the namespace has it"
	}
	return found{r, [][2]string{
		{"Namespace", r.Namespace}, {"Description", r.Description}, {"Labels", labelsOf(r.Labels)}, {"Who may pull", may}, {"Your role", r.Role},
		{"Tags", tagsOf(r)}, {"Manifests", strconv.FormatInt(r.Manifests, 10)}, {"Size", term.Size(r.Size)},
		{"Made", term.When(&r.CreatedAt)}, {"Pushed", term.When(&r.PushedAt)}, {"Pulled", term.When(r.PulledAt)}, {"Pulls", strconv.FormatInt(r.Pulls, 10)},
	}, fmt.Sprintf("its %s and %s (%s)", term.Count(r.Tags, "tag", "tags"), term.Count(r.Manifests, "manifest", "manifests"), term.Size(r.Size))}, err
}

// addRemoved adds the flag that lists what was removed.
func addRemoved(f *pflag.FlagSet, removed *bool) {
	f.BoolVar(removed, "removed", false, "those that were removed and can be restored")
}

func listRemoved(ctx context.Context, c *site.Call, repositories bool, word string) error {
	var list api.RemovedList
	if err := c.Do(ctx, http.MethodGet, "/api/v1/removed", nil, nil, &list); err != nil {
		return err
	}
	namespace := string(c.Place.Name)
	rows := slices.DeleteFunc(list.Removed, func(r api.Removed) bool {
		return r.Repository != repositories || namespace != "" && !strings.HasPrefix(r.Name+"/", namespace+"/")
	})
	return c.Tell(rows, func() {
		if len(rows) == 0 {
			c.T.Say("Nothing that was removed can be restored")
			return
		}
		w := c.T.Table("Removed", "When", "By")
		for _, r := range rows {
			w.Row(r.Name, term.When(&r.RemovedAt), term.OrDash(r.RemovedBy))
		}
		w.Draw()
		c.T.Hint("\nTo get one back:  %s", c.Self(word, "restore", c.Registry+"/"+rows[0].Name))
	})
}

func listNamespaces() site.Command {
	var removed bool
	return site.Command{
		Name: "list", Short: "List the namespaces that you may see", On: site.OnRegistry, Facts: []api.Namespace{},
		Flags: func(f *pflag.FlagSet) { addRemoved(f, &removed) },
		Run: func(ctx context.Context, c *site.Call) error {
			if removed {
				return listRemoved(ctx, c, false, "namespace")
			}
			all, err := site.EveryPage(api.List{Limit: site.PageSize}, func(page api.List) ([]api.Namespace, string, error) {
				var list api.NamespaceList
				err := c.Do(ctx, http.MethodGet, "/api/v1/namespaces", page.Query(), nil, &list)
				return list.Namespaces, list.Next, err
			})
			if err != nil {
				return err
			}
			return c.Tell(all, func() {
				w := c.T.Table("Namespace", "Open", "Your role", "Repositories", "Size", "Pushed", "Description")
				w.Right("Repositories", "Size")
				for _, n := range all {
					open := "closed"
					if n.Open {
						open = "open"
					}
					w.Row(n.Name, open, term.OrDash(n.Role), n.Repositories, term.Size(n.Size), term.When(n.PushedAt), n.Description)
				}
				w.Draw()
			})
		},
	}
}

func listRepositories() site.Command {
	var removed bool
	return site.Command{
		Name: "list", Short: "List repositories, of a registry or a namespace", On: site.OnWhere, Facts: []api.Repository{},
		Flags: func(f *pflag.FlagSet) { addRemoved(f, &removed) },
		Run: func(ctx context.Context, c *site.Call) error {
			if strings.Contains(string(c.Place.Name), "/") {
				return term.Usage("%s is one repository; name the registry or a namespace, or list its tags: %s", c.Place, c.Self("list", c.Place.String()))
			}
			if removed {
				return listRemoved(ctx, c, true, "repository")
			}
			return site.ListRepositories(ctx, c, api.List{Limit: site.PageSize})
		},
	}
}
