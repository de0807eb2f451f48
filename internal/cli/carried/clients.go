package carried

import (
	"context"
	"os"
	"strings"

	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/mirrors"
	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/pin"
)

// Where the files go on engines and nodes.
const (
	enginePlace = "/etc/containers/registries.conf"
	nodePlace   = "/etc/containerd/certs.d"
	nodeOwn     = "/etc/containerd/config.toml"
)

// telling is one call of tell-clients.
type telling struct {
	sets                      []string
	byDigest                  bool
	engine, nodes, nodeConfig string
	pods, account, logins     string
	bare                      string
	days                      int
	c                         *site.Call
	to                        site.Place
	place                     mirrors.Place
	client                    *peer.Client
	rules                     []mirrors.Rule
	facts                     toldClients
	folder                    string
	authority                 []byte
	// raw are the files of the folder, by name, until they are written: all, or none.
	raw map[string][]byte
}

// toldClients is what the files come to.
type toldClients struct {
	Folder string         `json:"folder"`
	Files  []toldFile     `json:"files"`
	Rules  []mirrors.Rule `json:"rules"`
	// NotHere are images of the list that the registry lacks; RunsNotHere those that run now
	// and would be looked for there; Outside those that run now and are pulled elsewhere still.
	NotHere     []string `json:"not_here"`
	RunsNotHere []string `json:"runs_not_here"`
	Outside     []string `json:"outside"`
	// Tested is the image that was pulled for a test, TestFailed why that failed.
	Tested     string `json:"tested,omitempty"`
	TestFailed string `json:"test_failed,omitempty"`
}

type toldFile struct {
	Name  string `json:"name"`
	Place string `json:"place"`
	What  string `json:"what"`
}

func tellClientsCommand() site.Command {
	var t telling
	return site.Command{
		Name: "tell-clients", Group: term.GroupFlow, Short: "Write the files by which container engines and cluster nodes look at a registry first", On: site.OnAny,
		Args: []site.Arg{listArg, {Name: "REGISTRY[/PREFIX]", Place: true}, {Name: "FOLDER", File: true}}, Facts: toldClients{}, Checks: true,
		Long: "Writes into a folder what makes clients look at the registry first for what a packing list names, with a page that says where each file goes: for engines\n" +
			"that read one file of all registries, and for nodes that read a file for each; merged into what they have now, where that is given; and the pull\n" +
			"secret, with --account. With --pods it says what runs now that is not there yet, and what is pulled from outside still. It tries one pull.",
		Example: "  warthesis tell-clients november.list tarn.larkspur.example told/ --pods pods.json --account cluster-north\n" +
			"  warthesis tell-clients november.list localhost:7071/mirror told/ --engine /etc/containers/registries.conf --by-digest",
		Flags: func(f *pflag.FlagSet) {
			setFlag(f, &t.sets)
			f.BoolVar(&t.byDigest, "by-digest", false, "look there only for what is named by its digest")
			f.StringVar(&t.engine, "engine", "", "the engine's file of all registries as it is now")
			f.StringVar(&t.nodes, "nodes", "", "the folder of a node's files about registries as it is now")
			f.StringVar(&t.nodeConfig, "node-config", "", "a node's own configuration as it is now")
			f.StringVar(&t.pods, "pods", "", "what runs now: the JSON that a cluster's API gives for its pods, or a reference a line; - is standard input")
			f.StringVar(&t.bare, "bare", "", "the registry that names without one mean")
			f.StringVar(&t.account, "account", "", "make a pull secret for this account, best a machine account of the cluster")
			term.Number(f, &t.days, "days", 365, 0, 3650, "how many days its token is good; 0 is without end")
			f.StringVar(&t.logins, "logins", "", "the login file of the clients as it is now, into which the pull secret is merged")
		},
		Run: t.run,
	}
}

func (t *telling) run(ctx context.Context, c *site.Call) (err error) {
	t.c, t.folder, t.raw = c, c.Args[2], map[string][]byte{}
	t.facts = toldClients{Folder: t.folder, Files: []toldFile{}, NotHere: []string{}, RunsNotHere: []string{}, Outside: []string{}}
	_, _, items, err := readItems(c.Args[0], t.sets)
	if err != nil {
		return err
	}
	if t.to, err = c.R.ReadPlace(c.Args[1]); err != nil {
		return err
	}
	if t.client, err = c.R.Peer(t.to.Registry); err != nil {
		return err
	}
	if err := t.way(); err != nil {
		return err
	}
	t.rules = mirrors.Of(items, t.place)
	t.facts.Rules = t.rules
	if len(t.rules) == 0 {
		return term.Usage("all that %s names is at %s already; there is nothing to tell", c.Args[0], t.to.Registry)
	}
	for _, step := range []func(context.Context, []packing.Item) error{t.whatIsHere, t.whatRuns, t.write} {
		if err := step(ctx, items); err != nil {
			return err
		}
	}
	return c.Tell(t.facts, t.draw)
}

// way finds out how clients reach the registry.
func (t *telling) way() error {
	w, err := t.c.R.Way(t.to.Registry)
	if err != nil {
		return err
	}
	t.place = mirrors.Place{Registry: t.to.Registry, Prefix: t.to.Name, Plain: w.Base.Scheme == "http", ByDigest: t.byDigest}
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return err
	}
	file := t.c.R.Authority
	if file == "" {
		file = hosts.Known[t.to.Registry].Authority
	}
	if file != "" && !t.place.Plain {
		if t.authority, err = given.Read(file, mirrors.MostBytes); err != nil {
			return err
		}
		t.place.Authority = true
	}
	return nil
}

// has reports whether the registry has what something means there.
func (t *telling) has(ctx context.Context, name oci.Name, target string) (bool, error) {
	_, err := t.client.Resolve(ctx, name, target)
	if carry.IsGone(err) {
		return false, nil
	}
	return err == nil, err
}

// whatIsHere asks for each image of the list.
func (t *telling) whatIsHere(ctx context.Context, items []packing.Item) error {
	here := make([]bool, len(items))
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(questionsAtOnce)
	for at, i := range items {
		group.Go(func() (err error) {
			here[at], err = t.has(within, t.nameOf(i), targetOf(i))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for at, i := range items {
		switch {
		case !here[at]:
			t.facts.NotHere = append(t.facts.NotHere, i.Ref.String())
		case t.facts.Tested == "":
			tested := oci.Reference{Registry: t.to.Registry, Name: t.nameOf(i), Digest: i.Ref.Digest}
			if !i.IsLocked() {
				tested.Tag = i.Tag
			}
			t.facts.Tested = tested.String()
		}
	}
	return nil
}

// nameOf is what an image's repository is called at the registry.
func (t *telling) nameOf(i packing.Item) oci.Name { return i.Name.Below(t.to.Name) }

// targetOf is by what the list means an image.
func targetOf(i packing.Item) string {
	if i.IsLocked() {
		return i.Ref.Digest.String()
	}
	return string(i.Tag)
}

// whatRuns compares what runs now with what the files say.
func (t *telling) whatRuns(ctx context.Context, _ []packing.Item) error {
	if t.pods == "" {
		return nil
	}
	names, err := readRunning(t.pods)
	if err != nil {
		return err
	}
	for _, text := range names {
		ref, why := meant(pin.Read(text), t.bare)
		if why != "" {
			t.facts.Outside = append(t.facts.Outside, text)
			continue
		}
		to := mirrors.Covers(t.rules, ref)
		switch {
		case ref.Registry == t.to.Registry:
		case to == "" || t.byDigest && ref.Digest == "":
			t.facts.Outside = append(t.facts.Outside, text)
		default:
			name := oci.Name(strings.TrimPrefix(to, t.to.Registry+"/"))
			there, err := t.has(ctx, name, ref.Target())
			if err != nil {
				return err
			}
			if !there {
				t.facts.RunsNotHere = append(t.facts.RunsNotHere, text)
			}
		}
	}
	return nil
}
