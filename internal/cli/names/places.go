package names

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// kindOfPlace is how commands for namespaces and for repositories differ.
type kindOfPlace struct {
	word, many string
	on         site.On
	// makeAt, where and restore are where the API has them.
	makeAt  string
	where   func(oci.Name) (string, url.Values)
	restore func(oci.Name) (string, url.Values)
	// facts is an empty one, and read the one of a name.
	facts any
	read  func(ctx context.Context, c *site.Call, name oci.Name) (found, error)
	list  func() site.Command
}

// found is a place as the API has it, with what people are shown.
type found struct {
	facts  any
	fields [][2]string
	// holds says what goes with it.
	holds string
}

var namespaceKind = kindOfPlace{
	word: "namespace", many: "namespaces", on: site.OnNamespace, makeAt: "/api/v1/namespaces", facts: api.Namespace{}, read: readNamespace, list: listNamespaces,
	where:   func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n), nil },
	restore: func(n oci.Name) (string, url.Values) { return "/api/v1/namespaces/" + string(n) + "/restore", nil },
}

var repositoryKind = kindOfPlace{
	word: "repository", many: "repositories", on: site.OnRepository, makeAt: "/api/v1/repositories", facts: api.Repository{}, read: readRepository, list: listRepositories,
	where: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository", url.Values{"repository": {string(n)}}
	},
	restore: func(n oci.Name) (string, url.Values) {
		return "/api/v1/repository/restore", url.Values{"repository": {string(n)}}
	},
}

// placeCommands are the commands of a kind of place.
func placeCommands(k kindOfPlace) site.Command {
	return site.Command{
		Name: k.word, Group: term.GroupNames, Short: "Make, change, show, list, rename, remove or restore " + k.many,
		Under: []site.Command{makePlace(k), changePlace(k), showPlace(k), k.list(), renamePlace(k), removePlace(k), restorePlace(k)},
	}
}

// tell reads a place and prints it as facts, or says a sentence of it.
func (k kindOfPlace) tell(ctx context.Context, c *site.Call, name oci.Name, sentence string, args ...any) error {
	now, err := k.read(ctx, c, name)
	if err != nil {
		return err
	}
	return c.Tell(now.facts, func() { c.T.Say(sentence, args...) })
}

func makePlace(k kindOfPlace) site.Command {
	var made changes
	return site.Command{
		Name: "make", Short: "Make a " + k.word, On: k.on, Facts: k.facts,
		Flags: func(f *pflag.FlagSet) { made.addTo(f, k.on == site.OnNamespace) },
		Run: func(ctx context.Context, c *site.Call) error {
			change, _, err := made.read(c)
			if err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPost, k.makeAt, nil, api.NewPlace{Name: string(c.Place.Name), PlaceChange: change}, nil); err != nil {
				return err
			}
			return k.tell(ctx, c, c.Place.Name, "Made the %s %s", k.word, c.Place)
		},
	}
}

func changePlace(k kindOfPlace) site.Command {
	var changed changes
	return site.Command{
		Name: "change", Short: "Change a " + k.word, On: k.on, Facts: k.facts,
		Flags: func(f *pflag.FlagSet) { changed.addTo(f, k.on == site.OnNamespace) },
		Run: func(ctx context.Context, c *site.Call) error {
			body, any, err := changed.read(c)
			if err != nil {
				return err
			}
			if !any {
				return term.Usage("say what is to be changed, as in --description; another name is given by: %s", c.Self(k.word, "rename"))
			}
			path, query := k.where(c.Place.Name)
			if err := c.Do(ctx, http.MethodPatch, path, query, body, nil); err != nil {
				return err
			}
			return k.tell(ctx, c, c.Place.Name, "Changed the %s %s", k.word, c.Place)
		},
	}
}

func showPlace(k kindOfPlace) site.Command {
	return site.Command{
		Name: "show", Short: fmt.Sprintf("Show a %s, with all that is set of it", k.word), On: k.on, Facts: k.facts,
		Run: func(ctx context.Context, c *site.Call) error {
			now, err := k.read(ctx, c, c.Place.Name)
			if err != nil {
				return err
			}
			return c.Tell(now.facts, func() {
				c.T.Fields(strings.ToUpper(k.word[:1])+k.word[1:], string(c.Place.Name), now.fields...)
			})
		},
	}
}

func renamePlace(k kindOfPlace) site.Command {
	var over string
	return site.Command{
		Name: "rename", Short: fmt.Sprintf("Give a %s another name; clients know it by that alone from then on", k.word),
		Example: map[bool]string{true: "  warthesis namespace rename localhost:7070/berths localhost:7070/beds", false: "  warthesis repository rename localhost:7070/berths/seatmap localhost:7070/berths/seats"}[k.on == site.OnNamespace],
		On:      k.on, Args: []site.Arg{{Name: "NEW-" + strings.ToUpper(k.word), Place: true}}, Facts: k.facts,
		Flags: func(f *pflag.FlagSet) { addOver(f, &over) },
		Run: func(ctx context.Context, c *site.Call) error {
			next, err := newName(c, k, c.Args[0])
			if err != nil {
				return err
			}
			path, query := k.where(c.Place.Name)
			if err := c.Do(ctx, http.MethodPatch, path, query, api.PlaceChange{Rename: &next, OverSeals: over}, nil); err != nil {
				return err
			}
			return k.tell(ctx, c, oci.Name(next), "Renamed the %s %s to %s; references with the old name no longer lead anywhere", k.word, c.Place, next)
		},
	}
}

// newName reads another name of a place: in full, with the registry or without it.
func newName(c *site.Call, k kindOfPlace, s string) (string, error) {
	whole := term.Usage("%s is not the whole name of a %s; write it as in %s", s, k.word, c.Place)
	first, _, nested := strings.Cut(s, "/")
	if name, err := oci.ParseName(s); err == nil && !strings.ContainsAny(first, ".:") {
		if nested != strings.Contains(string(c.Place.Name), "/") {
			return "", whole
		}
		return string(name), nil
	}
	p, err := c.R.ReadPlace(s)
	switch {
	case err != nil:
		return "", err
	case p.Registry != c.Registry:
		return "", term.Usage("%s and %s are in two registries; a rename stays within one", c.Place, p)
	case p.Name == "" || k.on == site.OnNamespace && !p.IsNamespace():
		return "", whole
	}
	return string(p.Name), nil
}

// addOver adds the flag by which an admin goes over seals.
func addOver(f *pflag.FlagSet, over *string) {
	f.StringVar(over, "over-seals", "", "why, although tags in it are sealed; for registry admins")
}

func removePlace(k kindOfPlace) site.Command {
	var reason, over string
	return site.Command{
		Name: "remove", Short: fmt.Sprintf("Remove a %s with all in it; it can be restored", k.word), On: k.on, Facts: k.facts, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&reason, "reason", "", "why, for the list of removals")
			addOver(f, &over)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			now, err := k.read(ctx, c, c.Place.Name)
			if err != nil {
				return err
			}
			var plan api.RemovalPlan
			if err := c.Do(ctx, http.MethodGet, "/api/v1/removal-plan", url.Values{k.word: {string(c.Place.Name)}}, nil, &plan); err != nil {
				return err
			}
			if len(plan.Sealed) > 0 && over == "" {
				return oci.Errorf(oci.CodeDenied, "%s stays: %s. A registry admin can go over seals, with --over-seals and a reason", c.Place, strings.Join(plan.Sealed, "; "))
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the %s %s with %s? It can be restored for about %s; then %s become free.", k.word, c.Place, now.holds, term.Left(plan.Until), term.Size(plan.Freed))); err != nil {
				return err
			}
			path, query := k.where(c.Place.Name)
			if query == nil {
				query = url.Values{}
			}
			for key, value := range map[string]string{"reason": reason, "over_seals": over} {
				if value != "" {
					query.Set(key, value)
				}
			}
			if err := c.Do(ctx, http.MethodDelete, path, query, nil, nil); err != nil {
				return err
			}
			return c.Tell(now.facts, func() {
				c.T.Say("Removed the %s %s", k.word, c.Place)
				c.T.Hint("To get it back:  %s", c.Self(k.word, "restore", c.Place.String()))
			})
		},
	}
}

func restorePlace(k kindOfPlace) site.Command {
	return site.Command{
		Name: "restore", Short: fmt.Sprintf("Bring a removed %s back", k.word), On: k.on, Facts: k.facts,
		Run: func(ctx context.Context, c *site.Call) error {
			path, query := k.restore(c.Place.Name)
			if err := c.Do(ctx, http.MethodPost, path, query, nil, nil); err != nil {
				return err
			}
			return k.tell(ctx, c, c.Place.Name, "Restored the %s %s", k.word, c.Place)
		},
	}
}

// labelsOf writes labels for people.
func labelsOf(l api.Labels) string {
	var all []string
	for name, value := range l {
		all = append(all, name+"="+value)
	}
	return strings.Join(sorted(all), ", ")
}
