package rights

import (
	"strings"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
)

func addPullSecret(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var kubernetes, prove bool
	var name, account string
	var days int
	command := &cobra.Command{
		Use: "pull-secret REGISTRY/NAMESPACE", GroupID: term.GroupRights, Short: "Print a pull secret for a namespace, with a fresh token for it alone",
		Long: "Makes a token that may pull from the namespace and nothing else, and prints it as a login file, as clusters and container engines take it,\n" +
			"or with --kubernetes as a Secret.",
		Example: "  warthesis pull-secret localhost:7070/berths --account cluster-north --kubernetes | kubectl apply -f -",
		Args:    cobra.ExactArgs(1),
		RunE: r.In(site.NamespacePlace, func(c *cobra.Command, at site.Site, p site.Place, rest []string) error {
			body := api.NewToken{Account: account, Name: name, Days: days, Scopes: []api.Scope{{Pattern: string(p.Name) + "/*", Actions: []string{"pull"}}}}
			if name == "" {
				body.Name = "pull secret for " + string(p.Name)
			}
			made, err := makeToken(c.Context(), t, at, body, prove)
			if err != nil {
				return err
			}
			return printPullSecret(t, p, made, kubernetes)
		}),
	}
	f := command.Flags()
	f.BoolVar(&kubernetes, "kubernetes", false, "as a Kubernetes Secret")
	f.StringVar(&account, "account", "", "whose token it is: best a machine account of the cluster; your own where left out")
	f.StringVar(&name, "name", "", "name of the token")
	addProve(command, &prove)
	f.IntVar(&days, "days", 365, "how many days it is good; 0 is without end")
	root.AddCommand(command)
}

func printPullSecret(t term.Terminal, p site.Place, made api.MadeToken, kubernetes bool) error {
	file, err := login.Parse("", nil)
	if err != nil {
		return err
	}
	file.Set(p.Registry, login.Credentials{Account: made.Account, Secret: made.Secret})
	raw, err := file.Marshal()
	if err != nil {
		return err
	}
	if !kubernetes {
		_, err = t.Out.Write(raw)
		return err
	}
	// Clusters take JSON as well as YAML.
	return term.WriteJSON(t.Out, kubernetesSecret{
		APIVersion: "v1", Kind: "Secret", Type: "kubernetes.io/dockerconfigjson",
		Metadata: kubernetesMetadata{Name: "pull-" + strings.ReplaceAll(string(p.Name), "_", "-")},
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
