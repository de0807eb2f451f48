package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
)

func peerCommands() site.Command {
	return site.Command{
		Name: "peer", Group: term.GroupFlow, Short: "Say which other registries this one talks to, and how",
		Long: "A peer is another registry, of whatever make, that a registry talks to by itself: to follow it, to copy from it or to it. An admin makes it, with its\n" +
			"address and a login; the registry walks the way to it step by step, and keeps it once that passes. The login is kept encrypted and shown to nobody.\n" +
			"A peer that stands in a network that is not public is reached only where the setting inside_networks of the service lists that network.",
		Under: []site.Command{makePeer(), showPeer(), listPeers(), changePeer(), testPeer(), lookPeer(), peerTags(), removePeer()},
	}
}

var peerArg = site.Arg{Name: "PEER", Ask: peerNames}

// peerNames completes the name of a peer.
func peerNames(ctx context.Context, at site.Site) ([]string, error) {
	var list api.PeerList
	err := at.Do(ctx, http.MethodGet, "/api/v1/peers", nil, nil, &list)
	names := make([]string, len(list.Peers))
	for i, p := range list.Peers {
		names[i] = p.Name
	}
	return names, err
}

func peerPath(name string, more ...string) string {
	return "/api/v1/peers/" + strings.Join(append([]string{url.PathEscape(name)}, more...), "/")
}

// said is what the flags say of a peer.
type said struct {
	address, prefix, description, account, fingerprint, repository string
	authority, certificate, key                                    string
	unencrypted, fromStdin, push, failing                          bool
	tagAccounts                                                    []string
}

func (s *said) addTo(f *pflag.FlagSet) {
	f.StringVar(&s.prefix, "prefix", "", "what stands before the names of the repositories there that are meant")
	f.StringVar(&s.account, "account", "", "account of its login; \"\" for none")
	f.BoolVar(&s.fromStdin, term.FromStdin, false, "read the password or token of the account from standard input")
	f.StringVar(&s.authority, "authority", "", "PEM file with the certificates by which its own is checked besides the system's; \"\" for none")
	f.StringVar(&s.fingerprint, "fingerprint", "", "SHA-256 of the one certificate that is believed; \"\" for none")
	f.StringVar(&s.certificate, "shown-certificate", "", "PEM file with the certificate that the peer is shown where it asks for one; with --shown-key")
	f.StringVar(&s.key, "shown-key", "", "PEM file with that certificate's key")
	f.BoolVar(&s.unencrypted, "plain-http", false, "speak plain HTTP to the peer: everybody on the way can read and change what passes, the login too")
	f.StringVar(&s.description, "description", "", "what it is about")
	f.StringSliceVar(&s.tagAccounts, "tag-accounts", nil, "accounts that may change tags there, beside registry admins; \"\" for none")
	s.addTry(f)
	f.BoolVar(&s.failing, "failing", false, "keep it though its test fails")
}

func (s *said) addTry(f *pflag.FlagSet) {
	f.StringVar(&s.repository, "repository", "", "repository below the prefix that the test looks at; the first that the peer lists where it is left out")
	f.BoolVar(&s.push, "push", false, "the test also tries a push there, which leaves nothing behind")
}

func (s *said) try() api.TryPeer { return api.TryPeer{Repository: s.repository, Push: s.push} }

// given reads what the flags say.
func (s *said) given(ctx context.Context, c *site.Call, name string) (g api.GivenPeer, err error) {
	for flag, of := range map[string]struct {
		from *string
		to   **string
	}{
		"prefix": {&s.prefix, &g.Prefix}, "description": {&s.description, &g.Description}, "account": {&s.account, &g.Account}, "fingerprint": {&s.fingerprint, &g.Fingerprint},
	} {
		if c.Given(flag) {
			*of.to = of.from
		}
	}
	for flag, of := range map[string]struct {
		file string
		to   **string
	}{
		"authority": {s.authority, &g.Authority}, "shown-certificate": {s.certificate, &g.ClientCertificate}, "shown-key": {s.key, &g.ClientKey},
	} {
		if !c.Given(flag) {
			continue
		}
		text := ""
		if of.file != "" {
			raw, err := given.Read(of.file, mostFile)
			if err != nil {
				return g, fmt.Errorf("--%s: %w", flag, err)
			}
			text = string(raw)
		}
		*of.to = &text
	}
	if c.Given("plain-http") {
		g.Unencrypted = &s.unencrypted
	}
	if c.Given("tag-accounts") {
		all := slices.DeleteFunc(append([]string{}, s.tagAccounts...), func(name string) bool { return name == "" })
		g.TagAccounts = &all
	}
	return g, s.secret(ctx, c, &g, name)
}

// mostFile is the largest file of certificates that is read, in bytes.
const mostFile = 256 << 10

// secret reads the secret where one is to be given: with an account, or alone.
func (s *said) secret(ctx context.Context, c *site.Call, g *api.GivenPeer, name string) error {
	switch {
	case c.Given("account") && s.account == "":
		none := ""
		g.Secret = &none
		return nil
	case !c.Given("account") && !s.fromStdin:
		return nil
	}
	who := s.account
	if who == "" {
		who = "its account"
	}
	secret, err := term.Secret(ctx, c.T, fmt.Sprintf("Password or token of %s at %s: ", who, name), s.fromStdin)
	g.Secret = &secret
	return err
}

func makePeer() site.Command {
	var s said
	var only bool
	return site.Command{
		Name: "make", Short: "Make a peer, once its test passes", On: site.OnRegistry, Args: []site.Arg{{Name: "PEER"}, {Name: "ADDRESS"}}, Facts: api.PeerTested{}, Checks: true,
		Long: "Makes a peer: the registry walks the way to it (name, port, TLS, API, login, read, and with --push a push), shows the steps, and keeps it if all pass.\n" +
			"With --failing it is kept all the same; with --try it only looks.",
		Example: "  warthesis peer make registry.larkspur.example depot tarn.larkspur.example --account depot-tarn --from-stdin --push < token.txt\n  warthesis peer make localhost:7070 partner registry.partner.example --prefix tickets",
		Flags: func(f *pflag.FlagSet) {
			s.addTo(f)
			f.BoolVar(&only, "try", false, "only test it, and keep nothing")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			g, err := s.given(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			g.Address = &c.Args[1]
			var made api.PeerTested
			if err := c.Do(ctx, http.MethodPost, "/api/v1/peers", nil, api.MakePeer{Name: c.Args[0], GivenPeer: g, TryPeer: s.try(), Failing: s.failing, Try: only}, &made); err != nil {
				return err
			}
			return tellTested(c, made, !only)
		},
	}
}

// tellTested tells what a test found, and fails where it stopped and that was not meant.
func tellTested(c *site.Call, t api.PeerTested, toKeep bool) error {
	err := c.Tell(t, func() {
		drawSteps(c, t.Steps)
		switch {
		case t.Kept && toKeep:
			c.T.Say("The peer %s is kept", t.Name)
			c.T.Hint("To look into it:  %s", c.Self("peer", "look", c.Registry, t.Name))
		case toKeep:
			c.T.Warn("It is not kept. Mend what the step says, or keep it all the same with --failing.")
		}
	})
	if err == nil && t.Failed != "" && (!toKeep || !t.Kept) {
		return term.NotRight("stopped at the step %q", t.Failed)
	}
	return err
}

func drawSteps(c *site.Call, steps []api.PeerStep) {
	for _, s := range steps {
		mark := "✓"
		if !s.Well {
			mark = "✗"
		}
		c.T.Say("%s %-8s %s", mark, s.Step, term.OneLine(s.Says))
	}
}

func changePeer() site.Command {
	var s said
	return site.Command{
		Name: "change", Short: "Change a peer, once its test passes", On: site.OnRegistry, Args: []site.Arg{peerArg}, Facts: api.PeerTested{}, Checks: true,
		Long:    "Changes what is given and leaves the rest. Whoever changes the address, or by what the peer is believed, gives its secret again: it was meant for the peer\nas it was.",
		Example: "  warthesis peer change localhost:7070 depot --account depot-tarn --from-stdin < token.txt\n  warthesis peer change localhost:7070 depot --address tarn.larkspur.example:443 --account depot-tarn",
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&s.address, "address", "", "its address, host or host:port")
			s.addTo(f)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			g, err := s.given(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			if c.Given("address") {
				g.Address = &s.address
			}
			if g == (api.GivenPeer{}) {
				return term.Usage("say what is to change; the flags are listed by  %s", c.Self("peer", "change", "--help"))
			}
			var now api.PeerTested
			if err := c.Do(ctx, http.MethodPatch, peerPath(c.Args[0]), nil, api.ChangePeer{GivenPeer: g, TryPeer: s.try(), Failing: s.failing}, &now); err != nil {
				return err
			}
			return tellTested(c, now, true)
		},
	}
}

func testPeer() site.Command {
	var s said
	return site.Command{
		Name: "test", Short: "Walk the way to a peer step by step, and stop where it fails", On: site.OnRegistry, Args: []site.Arg{peerArg}, Facts: api.PeerTested{}, Checks: true,
		Long:    "Lets the registry walk the way to a peer, as doctor does from here: name, port, TLS, API, login, read, and with --push a push.",
		Example: "  warthesis peer test localhost:7070 depot --repository timetable/planner --push",
		Flags:   s.addTry,
		Run: func(ctx context.Context, c *site.Call) error {
			var t api.PeerTested
			if err := c.Do(ctx, http.MethodPost, peerPath(c.Args[0], "test"), nil, s.try(), &t); err != nil {
				return err
			}
			return tellTested(c, t, false)
		},
	}
}

func listPeers() site.Command {
	return site.Command{
		Name: "list", Short: "List peers", On: site.OnRegistry, Facts: []api.Peer{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.PeerList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/peers", nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Peers, func() {
				if len(list.Peers) == 0 {
					c.T.Say("%s has no peers", c.Registry)
					c.T.Hint("To make one:  %s", c.Self("peer", "make", c.Registry, "depot", "tarn.larkspur.example"))
					return
				}
				w := c.T.Table("Peer", "Address", "Prefix", "As", "Tested", "")
				for _, p := range list.Peers {
					state := ""
					if p.Failed != "" {
						state = "stopped at the step " + p.Failed
					}
					w.Row(p.Name, p.Address, term.OrDash(string(p.Prefix)), term.OrDash(p.Account), term.When(p.TestedAt), state)
				}
				w.Draw()
			})
		},
	}
}

func showPeer() site.Command {
	return site.Command{
		Name: "show", Short: "Show a peer, and what it can do", On: site.OnRegistry, Args: []site.Arg{peerArg}, Facts: api.Peer{},
		Run: func(ctx context.Context, c *site.Call) error {
			var p api.Peer
			if err := c.Do(ctx, http.MethodGet, peerPath(c.Args[0]), nil, nil, &p); err != nil {
				return err
			}
			return c.Tell(p, func() { drawPeer(c, p) })
		},
	}
}

func drawPeer(c *site.Call, p api.Peer) {
	row := func(name, value string) {
		if value != "" {
			c.T.Say("%-14s %s", name, term.OneLine(value))
		}
	}
	row("Peer", p.Name)
	row("About", p.Description)
	row("Address", p.Address)
	if p.Unencrypted {
		row("", "plain HTTP is spoken to it")
	}
	row("Prefix", string(p.Prefix))
	row("As", term.OrDash(p.Account))
	row("Believed by", p.Authority)
	row("Fingerprint", p.Fingerprint)
	row("Is shown", p.ClientCertificate)
	row("Can", strings.Join(abilities(p.Can), ", "))
	row("Made", fmt.Sprintf("%s by %s", term.When(p.MadeAt), term.OrDash(p.MadeBy)))
	row("Used by", strings.Join(p.UsedBy, ", "))
	row("Tested", term.When(p.TestedAt))
	drawSteps(c, p.Steps)
}

// abilities says in words what a peer can do.
func abilities(can api.PeerCan) []string {
	var all []string
	say := func(is bool, words string) {
		if is {
			all = append(all, words)
		}
	}
	say(can.Digests, "tells digests of many tags at once (a registry of ours)")
	say(can.Catalogue, "lists its repositories")
	say(can.Referrers, "tells what refers to a manifest")
	say(can.DeletesTags != nil && *can.DeletesTags, "removes tags alone")
	say(can.Chunks != nil && *can.Chunks, "takes blobs in pieces")
	say(can.DeletesTags == nil, "whether it takes a push was not tried")
	return all
}

func removePeer() site.Command {
	return site.Command{
		Name: "remove", Short: "Remove a peer", On: site.OnRegistry, Args: []site.Arg{peerArg}, Facts: api.Peer{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			var p api.Peer
			if err := c.Do(ctx, http.MethodGet, peerPath(c.Args[0]), nil, nil, &p); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the peer %s (%s)? Its login is forgotten; what came from it stays. To get it back, make it again with its login.", p.Name, p.Address)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, peerPath(c.Args[0]), nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(p, func() { c.T.Say("The peer %s is removed", p.Name) })
		},
	}
}
