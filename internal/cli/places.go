package cli

import (
	"bufio"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"warthesis/internal/api"
	"warthesis/internal/oci"
)

// place is a registry, a namespace or a repository, as commands name it.
type place struct {
	registry string
	// name is "" for the registry.
	name oci.Name
}

// readPlace reads REGISTRY, REGISTRY/NAMESPACE or REGISTRY/NAMESPACE/REPOSITORY.
func readPlace(s string) (place, error) {
	if registry, err := oci.ParseRegistry(s); err == nil {
		return place{registry: registry}, nil
	}
	ref, err := reference(s)
	if err != nil {
		return place{}, err
	}
	if ref.Target() != "" {
		return place{}, usage("%s names an image; name the repository or the namespace alone", s)
	}
	return place{ref.Registry, ref.Name}, nil
}

// namespacePlace reads an argument that must name a namespace.
func namespacePlace(s string) (place, error) {
	p, err := readPlace(s)
	if err == nil && (p.name == "" || strings.Contains(string(p.name), "/")) {
		err = usage("%s is no namespace; name one as REGISTRY/NAMESPACE", s)
	}
	return p, err
}

// repositoryPlace reads an argument that must name a repository.
func repositoryPlace(s string) (place, error) {
	p, err := readPlace(s)
	if err == nil && p.name == "" {
		err = usage("%s is no repository; name one as REGISTRY/NAMESPACE/REPOSITORY", s)
	}
	return p, err
}

func (p place) String() string {
	if p.name == "" {
		return p.registry
	}
	return p.registry + "/" + string(p.name)
}

// site is the registry that a command is about, reached with its login.
type site struct {
	*api.Client
	registry string
}

// at is the work of a command that is about a registry: the first argument names
// it, or where there is none the default one is meant. What stands behind it is the rest.
func (r *remote) at(do func(c *cobra.Command, at site, rest []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		first := min(1, len(args))
		registry, err := registryOr(args[:first])
		if err != nil {
			return err
		}
		client, err := r.api(c.Context(), registry)
		if err != nil {
			return err
		}
		return do(c, site{client, registry}, args[first:])
	}
}

// in is the work of a command that is about a place, which the first argument names.
func (r *remote) in(read func(string) (place, error), do func(c *cobra.Command, at site, p place, rest []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		p, err := read(args[0])
		if err != nil {
			return err
		}
		client, err := r.api(c.Context(), p.registry)
		if err != nil {
			return err
		}
		return do(c, site{client, p.registry}, p, args[1:])
	}
}

// confirmed asks before something goes. Without a terminal and without --yes it refuses.
func confirmed(t terminal, yes bool, format string, args ...any) error {
	if yes {
		return nil
	}
	question := fmt.Sprintf(format, args...)
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usage("%s There is no terminal to ask at; say --yes if it is meant", question)
	}
	fmt.Fprintf(t.err, "%s Type yes: ", question)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil || strings.TrimSpace(line) != "yes" {
		return usage("nothing was changed")
	}
	return nil
}

func addYes(c *cobra.Command, yes *bool) {
	c.Flags().BoolVar(yes, "yes", false, "do it without asking")
}

// readLabels reads name=value.
func readLabels(given []string) (*api.Labels, error) {
	if given == nil {
		return nil, nil
	}
	labels := api.Labels{}
	for _, one := range given {
		name, value, found := strings.Cut(one, "=")
		if one == "" {
			continue
		}
		if !found || name == "" {
			return nil, usage("%q is no label; write name=value", one)
		}
		labels[name] = value
	}
	return &labels, nil
}

// changes are the flags by which places are made and changed.
type changes struct {
	description    string
	labels         []string
	open, closed   bool
	inherited      bool
	pushMakes      string
	newDescription string
	newLabels      []string
	logPulls       bool
}

func (ch *changes) addTo(c *cobra.Command, namespace bool) {
	f := c.Flags()
	f.StringVar(&ch.description, "description", "", "what is in it")
	f.StringArrayVar(&ch.labels, "label", nil, "a label, name=value; the labels given replace those there were")
	f.BoolVar(&ch.open, "open", false, "let anybody pull")
	f.BoolVar(&ch.closed, "closed", false, "let only members pull")
	if !namespace {
		f.BoolVar(&ch.inherited, "as-namespace", false, "open or closed as the namespace is")
		c.MarkFlagsMutuallyExclusive("open", "closed", "as-namespace")
		return
	}
	c.MarkFlagsMutuallyExclusive("open", "closed")
	f.StringVar(&ch.pushMakes, "push-makes", "", "whose pushes make repositories: those of a writer, curator, owner, or nobody")
	f.StringVar(&ch.newDescription, "new-description", "", "description of repositories that a push makes")
	f.StringArrayVar(&ch.newLabels, "new-label", nil, "label of repositories that a push makes")
	f.BoolVar(&ch.logPulls, "log-pulls", false, "write each pull into the audit log")
}

// read returns what the flags that were given change.
func (ch *changes) read(c *cobra.Command, namespace bool) (api.PlaceChange, error) {
	var p api.PlaceChange
	given := func(name string) bool { return c.Flags().Changed(name) }
	var err error
	if given("label") {
		if p.Labels, err = readLabels(ch.labels); err != nil {
			return p, err
		}
	}
	if given("description") {
		p.Description = &ch.description
	}
	if !namespace {
		for flag, visibility := range map[string]string{"open": "open", "closed": "closed", "as-namespace": "inherited"} {
			if given(flag) {
				p.Visibility = &visibility
			}
		}
		return p, nil
	}
	if given("open") || given("closed") {
		open := ch.open && !ch.closed
		p.Open = &open
	}
	if given("push-makes") {
		p.PushMakes = &ch.pushMakes
	}
	if given("new-description") {
		p.NewDescription = &ch.newDescription
	}
	if given("new-label") {
		if p.NewLabels, err = readLabels(ch.newLabels); err != nil {
			return p, err
		}
	}
	if given("log-pulls") {
		p.LogPulls = &ch.logPulls
	}
	return p, nil
}

// kindOfPlace is how commands for namespaces and for repositories differ.
type kindOfPlace struct {
	word      string
	namespace bool
	read      func(string) (place, error)
	// makeAt, where and restore are where the API has them.
	makeAt  string
	where   func(oci.Name) (string, url.Values)
	restore func(oci.Name) (string, url.Values)
}

var namespaceKind = kindOfPlace{
	word: "namespace", namespace: true, read: namespacePlace, makeAt: "/api/v1/namespaces",
	where:   func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n), nil },
	restore: func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n) + "/restore", nil },
}

var repositoryKind = kindOfPlace{
	word: "repository", read: repositoryPlace, makeAt: "/api/v1/repositories",
	where: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository", url.Values{"repository": {string(n)}}
	},
	restore: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository/restore", url.Values{"repository": {string(n)}}
	},
}

// addPlaces adds the commands that make, change, rename, remove and restore.
func addPlaces(root *cobra.Command, t terminal, r *remote, k kindOfPlace) {
	parent := &cobra.Command{Use: k.word, GroupID: groupRights, Short: fmt.Sprintf("Make, change, rename, remove or restore a %s", k.word)}
	argument := "REGISTRY/NAMESPACE"
	if !k.namespace {
		argument += "/REPOSITORY"
	}
	var made, changed changes
	makes := &cobra.Command{
		Use: "make " + argument, Short: "Make a " + k.word, Args: cobra.ExactArgs(1),
		RunE: r.in(k.read, func(c *cobra.Command, at site, p place, rest []string) error {
			change, err := made.read(c, k.namespace)
			if err != nil {
				return err
			}
			if err := at.Do(c.Context(), "POST", k.makeAt, nil, api.NewPlace{Name: string(p.name), PlaceChange: change}, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Made the %s %s\n", k.word, p)
			return nil
		}),
	}
	made.addTo(makes, k.namespace)
	change := &cobra.Command{
		Use: "change " + argument, Short: "Change a " + k.word, Args: cobra.ExactArgs(1),
		RunE: r.in(k.read, func(c *cobra.Command, at site, p place, rest []string) error {
			body, err := changed.read(c, k.namespace)
			if err != nil {
				return err
			}
			path, query := k.where(p.name)
			if err := at.Do(c.Context(), "PATCH", path, query, body, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Changed the %s %s\n", k.word, p)
			return nil
		}),
	}
	changed.addTo(change, k.namespace)
	rename := &cobra.Command{
		Use: "rename " + argument + " NAME", Short: fmt.Sprintf("Give a %s another name; clients know it by that alone from then on", k.word), Args: cobra.ExactArgs(2),
		RunE: r.in(k.read, func(c *cobra.Command, at site, p place, rest []string) error {
			path, query := k.where(p.name)
			if err := at.Do(c.Context(), "PATCH", path, query, api.PlaceChange{Rename: &rest[0]}, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Renamed the %s %s to %s; references with the old name no longer lead anywhere\n", k.word, p, rest[0])
			return nil
		}),
	}
	var yes bool
	remove := &cobra.Command{
		Use: "remove " + argument, Short: fmt.Sprintf("Remove a %s with all in it; it can be restored", k.word), Args: cobra.ExactArgs(1),
		RunE: r.in(k.read, func(c *cobra.Command, at site, p place, rest []string) error {
			if err := confirmed(t, yes, "Remove the %s %s with all that is in it?", k.word, p); err != nil {
				return err
			}
			path, query := k.where(p.name)
			if err := at.Do(c.Context(), "DELETE", path, query, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Removed the %s %s. To get it back:  %s %s restore %s\n", k.word, p, programName(), k.word, p)
			return nil
		}),
	}
	addYes(remove, &yes)
	restore := &cobra.Command{
		Use: "restore " + argument, Short: fmt.Sprintf("Bring a removed %s back", k.word), Args: cobra.ExactArgs(1),
		RunE: r.in(k.read, func(c *cobra.Command, at site, p place, rest []string) error {
			path, query := k.restore(p.name)
			if err := at.Do(c.Context(), "POST", path, query, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "Restored the %s %s\n", k.word, p)
			return nil
		}),
	}
	parent.AddCommand(makes, change, rename, remove, restore)
	if k.namespace {
		addNamespaceList(parent, t, r)
	}
	root.AddCommand(parent)
}

func addNamespaceList(parent *cobra.Command, t terminal, r *remote) {
	var output string
	command := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List the namespaces that you may see", Args: cobra.MaximumNArgs(1),
		RunE: r.at(func(c *cobra.Command, at site, _ []string) error {
			if err := checkOutput(output); err != nil {
				return err
			}
			all, err := everyPage(api.List{Limit: pageSize}, func(page api.List) ([]api.Namespace, string, error) {
				var list api.NamespaceList
				err := at.Do(c.Context(), "GET", "/api/v1/namespaces", page.Query(), nil, &list)
				return list.Namespaces, list.Next, err
			})
			if err != nil {
				return err
			}
			if output == outputJSON {
				return writeJSON(t.out, all)
			}
			w := newTable(t, "Namespace", "Open", "Your role", "Repositories", "Size", "Pushed", "Description")
			alignRight(w, "Repositories", "Size")
			for _, n := range all {
				open := "closed"
				if n.Open {
					open = "open"
				}
				w.AppendRow(table.Row{n.Name, open, orDash(n.Role), n.Repositories, size(n.Size), when(n.PushedAt), n.Description})
			}
			w.Render()
			return nil
		}),
	}
	addOutput(command, &output)
	parent.AddCommand(command)
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
