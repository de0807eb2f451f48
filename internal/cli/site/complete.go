package site

import (
	"context"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// Completer asks a registry what may stand in a place.
type Completer func(ctx context.Context, at Site) ([]string, error)

const (
	// completeWithin is how long whoever pressed the key waits at the most.
	completeWithin = 450 * time.Millisecond
	// mostOffered is how many rows of a list are offered.
	mostOffered = 200
)

// addCompletion lets the shell complete what a command takes: from the registry that
// is meant, soon or not at all.
func (r *Remote) addCompletion(c *cobra.Command, m *Command) {
	// What goes wrong while somebody types is nobody's business.
	quiet := &Remote{T: term.Terminal{Out: io.Discard, Err: io.Discard}, Version: r.Version}
	look := func(do func(ctx context.Context) []string, typed string, after cobra.ShellCompDirective) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(context.Background(), completeWithin)
		defer cancel()
		quiet.Unencrypted, quiet.Authority, quiet.LoginFile = r.Unencrypted, r.Authority, r.LoginFile
		found := make(chan []string, 1)
		go func() { found <- do(ctx) }()
		select {
		case <-ctx.Done():
			return nil, cobra.ShellCompDirectiveNoFileComp
		case all := <-found:
			all = slices.DeleteFunc(all, func(s string) bool { return !strings.HasPrefix(s, typed) })
			if !slices.ContainsFunc(all, func(s string) bool { return strings.HasSuffix(s, "/") || strings.HasSuffix(s, ":") }) {
				after = 0
			}
			return all, after | cobra.ShellCompDirectiveNoFileComp
		}
	}
	c.ValidArgsFunction = func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		a, isFirst := m.argumentAt(quiet, args)
		switch {
		case a != nil && a.File:
			return nil, cobra.ShellCompDirectiveDefault
		case isFirst || a != nil && (a.Place || a.Image):
			after := cobra.ShellCompDirective(0)
			if m.On != OnRegistry || !isFirst {
				after = cobra.ShellCompDirectiveNoSpace
			}
			return look(func(ctx context.Context) []string {
				on := m.On
				if a != nil && a.Image {
					on = OnImage
				} else if a != nil && a.Place {
					on = OnPlace
				}
				all := quiet.places(ctx, on, typed)
				if isFirst && m.On == OnRegistry && len(m.Args) > 0 {
					all = append(all, quiet.words(ctx, &m.Args[0], quiet.DefaultRegistry())...)
				}
				return all
			}, typed, after)
		case a != nil:
			return look(func(ctx context.Context) []string {
				return quiet.words(ctx, a, m.registryOf(quiet, args))
			}, typed, 0)
		}
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if choice, is := term.ValueOf(f).(interface{ Words() []string }); is {
			_ = c.RegisterFlagCompletionFunc(f.Name, cobra.FixedCompletions(choice.Words(), cobra.ShellCompDirectiveNoFileComp))
			return
		}
		if ask, is := m.Values[f.Name]; is {
			_ = c.RegisterFlagCompletionFunc(f.Name, func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
				return look(func(ctx context.Context) []string {
					return quiet.words(ctx, &Arg{Ask: ask}, m.registryOf(quiet, args))
				}, typed, 0)
			})
		}
	})
}

// registryOf returns the registry that is meant by the arguments so far.
func (m *Command) registryOf(r *Remote, args []string) string {
	if len(args) > 0 && m.On > OnAny && (m.On != OnRegistry || r.isAddress(args[0])) {
		if p, err := r.ReadPlace(args[0]); err == nil {
			return p.Registry
		}
	}
	return r.DefaultRegistry()
}

// argumentAt returns which argument comes next, and whether it is the first, which
// names a registry or a place.
func (m *Command) argumentAt(r *Remote, args []string) (a *Arg, isFirst bool) {
	at := len(args)
	if m.On > OnAny {
		if at == 0 {
			return nil, true
		}
		_, _, optional := m.bounds()
		if !optional || r.isAddress(args[0]) {
			at--
		}
	}
	if at >= len(m.Args) {
		if last := len(m.Args) - 1; last >= 0 && m.Args[last].Many {
			return &m.Args[last], false
		}
		return nil, false
	}
	return &m.Args[at], false
}

// words returns what an argument can be.
func (r *Remote) words(ctx context.Context, a *Arg, registry string) []string {
	if a.Ask == nil || registry == "" {
		return a.Words
	}
	client, err := r.API(ctx, registry)
	if err != nil {
		return a.Words
	}
	found, err := a.Ask(ctx, Site{client, registry})
	if err != nil {
		return a.Words
	}
	return append(slices.Clone(a.Words), found...)
}

// places returns how what was typed of a registry, a place or an image may go on.
func (r *Remote) places(ctx context.Context, on On, typed string) []string {
	all := r.KnownRegistries()
	if d := r.DefaultRegistry(); d != "" && !slices.Contains(all, d) {
		all = append(all, d)
	}
	if on == OnRegistry {
		return all
	}
	for i := range all {
		if on != OnWhere && on != OnPlace {
			all[i] += "/"
		}
	}
	registry, name, before := r.DefaultRegistry(), typed, ""
	if head, rest, found := strings.Cut(typed, "/"); found && r.isAddress(head) {
		registry, name, before = head, rest, head+"/"
	}
	if registry == "" {
		return all
	}
	client, err := r.API(ctx, registry)
	if err != nil {
		return all
	}
	at := Site{client, registry}
	if repository, tag, found := strings.Cut(name, ":"); found && (on == OnImage || on == OnTags) {
		for _, t := range tagsOf(ctx, at, repository, tag) {
			all = append(all, before+repository+":"+t)
		}
		return all
	}
	for _, n := range namesIn(ctx, at, on, name) {
		all = append(all, before+n)
	}
	return all
}

func tagsOf(ctx context.Context, at Site, repository, typed string) []string {
	name, err := oci.ParseName(repository)
	if err != nil {
		return nil
	}
	list, err := at.Tags(ctx, name, api.List{Prefix: typed, Limit: mostOffered})
	if err != nil {
		return nil
	}
	tags := make([]string, len(list.Tags))
	for i, t := range list.Tags {
		tags[i] = string(t.Name)
	}
	return tags
}

// namesIn returns namespaces, and repositories where they are wanted.
func namesIn(ctx context.Context, at Site, on On, typed string) []string {
	if on == OnNamespace || !strings.Contains(typed, "/") {
		names, _ := Namespaces(ctx, at)
		if on == OnNamespace {
			return names
		}
		for i := range names {
			names[i] += "/"
		}
		return names
	}
	list, err := at.Repositories(ctx, api.List{Contains: typed, Limit: mostOffered})
	if err != nil {
		return nil
	}
	var names []string
	for _, r := range list.Repositories {
		name := string(r.Name)
		if on == OnImage {
			name += ":"
		}
		names = append(names, name)
	}
	return names
}

// Namespaces completes namespaces.
func Namespaces(ctx context.Context, at Site) ([]string, error) {
	var list api.NamespaceList
	err := at.Do(ctx, "GET", "/api/v1/namespaces", api.List{Limit: mostOffered}.Query(), nil, &list)
	names := make([]string, len(list.Namespaces))
	for i, n := range list.Namespaces {
		names[i] = n.Name
	}
	return names, err
}

// Accounts completes accounts.
func Accounts(ctx context.Context, at Site) ([]string, error) {
	var list api.AccountList
	err := at.Do(ctx, "GET", "/api/v1/accounts", api.List{Limit: mostOffered}.Query(), nil, &list)
	names := make([]string, len(list.Accounts))
	for i, a := range list.Accounts {
		names[i] = a.Name
	}
	return names, err
}

// Groups completes groups.
func Groups(ctx context.Context, at Site) ([]string, error) {
	var list api.GroupList
	err := at.Do(ctx, "GET", "/api/v1/groups", nil, nil, &list)
	names := make([]string, len(list.Groups))
	for i, g := range list.Groups {
		names[i] = g.Name
	}
	return names, err
}

// Members completes accounts, and groups as group:NAME.
func Members(ctx context.Context, at Site) ([]string, error) {
	accounts, err := Accounts(ctx, at)
	groups, again := Groups(ctx, at)
	for _, g := range groups {
		accounts = append(accounts, "group:"+g)
	}
	if err == nil {
		err = again
	}
	return accounts, err
}

// Tokens completes the caller's own tokens.
func Tokens(ctx context.Context, at Site) ([]string, error) {
	var list api.TokenList
	err := at.Do(ctx, "GET", "/api/v1/tokens", url.Values{}, nil, &list)
	names := make([]string, len(list.Tokens))
	for i, t := range list.Tokens {
		names[i] = t.Name
	}
	return names, err
}
