package rights

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// pullSecret is what a pull secret is made from.
type pullSecret struct {
	kubernetes, prove bool
	name, account     string
	days              int
}

func pullSecretCommand() site.Command {
	var p pullSecret
	return site.Command{
		Name: "pull-secret", Group: term.GroupRights, Short: "Print a pull secret for namespaces or repositories, with a fresh token for them alone",
		Long: "Makes a token that may pull from the places and nothing else, and prints it as a login file, as clusters and container engines take it,\n" +
			"or with --kubernetes as a Secret. Several places come into one entry: such files have one for each registry.",
		Example: "  warthesis pull-secret localhost:7070/berths --account cluster-north --kubernetes | kubectl apply -f -\n" +
			"  warthesis pull-secret localhost:7070/berths localhost:7070/base --account cluster-north > pull-secret.json",
		On: site.OnPlace, Args: []site.Arg{{Name: "PLACE", Place: true, Optional: true, Many: true}}, Values: ofAccounts,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&p.kubernetes, "kubernetes", false, "as a Kubernetes Secret")
			f.StringVar(&p.account, "account", "", "whose token it is: best a machine account of the cluster; your own where left out")
			f.StringVar(&p.name, "name", "", "name of the token")
			term.Number(f, &p.days, "days", 365, 0, mostDays, "how many days it is good; 0 is without end")
			addProve(f, &p.prove)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			places, err := pullPlaces(c)
			if err != nil {
				return err
			}
			body := api.NewToken{Account: p.account, Name: p.name, Days: p.days}
			for _, place := range places {
				body.Scopes = append(body.Scopes, pullScopes(place)...)
			}
			if body.Name == "" {
				body.Name = "pull secret for " + nameOfAll(places)
			}
			if err := mayPull(ctx, c, p.account, places); err != nil {
				return err
			}
			made, err := makeToken(ctx, c, body, p.prove)
			if err != nil {
				return err
			}
			return written(ctx, c, made, printPullSecret(c, places, made, p.kubernetes))
		},
	}
}

// pullPlaces reads the places: namespaces and repositories of one registry.
func pullPlaces(c *site.Call) ([]site.Place, error) {
	places := []site.Place{c.Place}
	for _, arg := range c.Args {
		p, err := c.R.ReadPlace(arg)
		if err != nil {
			return nil, err
		}
		if p.Registry != c.Registry {
			return nil, term.Usage("%s and %s are in two registries; make a pull secret for each, and join them with: %s", c.Place, p, c.Self("logins merge FILE FILE"))
		}
		if !slices.Contains(places, p) {
			places = append(places, p)
		}
	}
	for _, p := range places {
		if p.Name == "" {
			return nil, term.Usage("%s names a whole registry; name namespaces or repositories, as REGISTRY/NAMESPACE[/REPOSITORY]", p)
		}
	}
	return places, nil
}

// pullScopes are the scopes for a place: a namespace is its repositories, and the one
// that is called as it is.
func pullScopes(p site.Place) []api.Scope {
	name := string(p.Name)
	if !p.IsNamespace() {
		return []api.Scope{{Pattern: name, Actions: []string{"pull"}}}
	}
	return []api.Scope{{Pattern: name + "/*", Actions: []string{"pull"}}, {Pattern: name, Actions: []string{"pull"}}}
}

func nameOfAll(places []site.Place) string {
	names := make([]string, len(places))
	for i, p := range places {
		names[i] = string(p.Name)
	}
	const most = 80
	name := strings.Join(names, ", ")
	return name[:min(most, len(name))]
}

// mayPull refuses a pull secret by which nothing could be pulled: for a place that is
// not there, or of an account without a role that reaches it.
func mayPull(ctx context.Context, c *site.Call, account string, places []site.Place) error {
	var may []api.Scope
	if account == "" {
		me, err := c.Me(ctx)
		if err != nil {
			return err
		}
		account, may = me.Account, me.May
	} else {
		found, err := getAccount(ctx, c, account)
		if err != nil {
			return err
		}
		may = found.May
	}
	for _, p := range places {
		open, err := isOpen(ctx, c, p)
		if err != nil {
			return err
		}
		if !open && !slices.ContainsFunc(may, func(s api.Scope) bool { return slices.Contains(s.Actions, "pull") && reaches(s.Pattern, p) }) {
			return oci.Errorf(oci.CodeDenied, "%s may not pull from %s, so that a pull secret would be worth nothing; give it a role first:  %s", account, p, c.Self("grant", p.String(), "reader", account))
		}
	}
	return nil
}

// isOpen reports whether anybody may pull from a place, which must be there.
func isOpen(ctx context.Context, c *site.Call, p site.Place) (bool, error) {
	if p.IsNamespace() {
		var n api.Namespace
		err := c.Do(ctx, http.MethodGet, "/api/v1/namespaces/"+string(p.Name), nil, nil, &n)
		if !errors.Is(err, oci.CodeNameUnknown) {
			return n.Open, err
		}
	}
	var found api.Repository
	err := c.Do(ctx, http.MethodGet, "/api/v1/repository", url.Values{"repository": {string(p.Name)}}, nil, &found)
	if p.IsNamespace() && errors.Is(err, oci.CodeNameUnknown) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s at %s", p.Name, c.Registry)
	}
	return found.Open, err
}

// reaches reports whether a pattern matches something in a place.
func reaches(pattern string, p site.Place) bool {
	name := string(p.Name)
	if rule.MatchText(pattern, name) || rule.MatchText(pattern, name+"/x") {
		return true
	}
	return p.IsNamespace() && strings.HasPrefix(pattern, name+"/")
}

func printPullSecret(c *site.Call, places []site.Place, made api.MadeToken, kubernetes bool) error {
	file, err := login.Parse("", nil)
	if err != nil {
		return err
	}
	file.Set(c.Registry, login.Credentials{Account: made.Account, Secret: made.Secret})
	raw, err := file.Marshal()
	if err != nil {
		return err
	}
	if !kubernetes {
		_, err = c.T.Out.Write(raw)
		return err
	}
	// Clusters take JSON as well as YAML.
	name := strings.NewReplacer("_", "-", "/", "-", ".", "-").Replace(string(places[0].Name))
	return term.WriteJSON(c.T.Out, kubernetesSecret{
		APIVersion: "v1", Kind: "Secret", Type: "kubernetes.io/dockerconfigjson",
		Metadata: kubernetesMetadata{Name: "pull-" + name},
		Data:     map[string][]byte{".dockerconfigjson": raw},
	})
}

// kubernetesSecret is the part of the resource that a pull secret fills.
type kubernetesSecret struct {
	APIVersion string             `json:"apiVersion"`
	Kind       string             `json:"kind"`
	Metadata   kubernetesMetadata `json:"metadata"`
	Type       string             `json:"type"`
	Data       map[string][]byte  `json:"data"`
}

type kubernetesMetadata struct {
	Name string `json:"name"`
}
