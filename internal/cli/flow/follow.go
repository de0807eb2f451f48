package flow

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
	"warthesis/internal/rule"
)

func followCommands() site.Command {
	return site.Command{
		Name: "follow", Group: term.GroupFlow, Short: "Let a namespace follow peers: what it lacks is fetched when it is pulled, and kept",
		Long: "A namespace that follows a peer answers for it: what it lacks is asked of the peer while somebody pulls it, goes out as it comes, and stays. The second\n" +
			"pull is like any other, and what is here is served when the peer does not answer. NAMESPACE/x is PREFIX/x there. Pushes land in the namespace\n" +
			"itself; a tag that was pushed here is never taken from a peer.",
		Under: []site.Command{setFollow(), showFollow(), listFollows(), removeFollow()},
	}
}

// followQuery names the namespace of a call.
func followQuery(c *site.Call) url.Values { return url.Values{"namespace": {string(c.Place.Name)}} }

func setFollow() site.Command {
	var fresh rule.Span
	var only []string
	var complete, anonymous bool
	return site.Command{
		Name: "set", Short: "Say which peers a namespace follows, in order", On: site.OnNamespace, Args: []site.Arg{{Name: "PEER[/PREFIX]", Many: true}}, Facts: api.Follow{},
		Long: "Sets which peers a namespace follows, in the order in which they are asked, in place of those that it followed. With a prefix, names stand behind it\n" +
			"there.",
		Example: "  warthesis follow set localhost:7070/outside partner/tickets --only \"outside/printer*\"\n  warthesis follow set localhost:7070/base headquarters/base depot/base --fresh-for 1h --complete",
		Flags: func(f *pflag.FlagSet) {
			term.Span(f, &fresh, "fresh-for", "for how long a tag is served without asking; 5m where it is left out")
			f.StringSliceVar(&only, "only", nil, "patterns of what is fetched, by the names here; all where it is left out")
			f.BoolVar(&complete, "complete", false, "also fetch afterwards what nobody asked for, as other platforms")
			f.BoolVar(&anonymous, "anonymous", false, "let those without a login start fetches by the login that this registry has there")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			body := api.SetFollow{Complete: complete, Anonymous: anonymous}
			if fresh != 0 {
				body.FreshFor = fresh.String()
			}
			for _, arg := range c.Args {
				peer, prefix, _ := strings.Cut(arg, "/")
				body.Sources = append(body.Sources, api.FollowSource{Peer: peer, Prefix: oci.Name(prefix), Patterns: only})
			}
			var set api.Follow
			if err := c.Do(ctx, http.MethodPut, "/api/v1/follow", followQuery(c), body, &set); err != nil {
				return err
			}
			return c.Tell(set, func() {
				drawFollow(c, set)
				c.T.Hint("To pull through it:  %s", c.Self("pull", c.Place.String()+"/REPOSITORY:TAG", "FOLDER"))
			})
		},
	}
}

func drawFollow(c *site.Call, f api.Follow) {
	w := c.T.Table("Order", "Peer", "Prefix", "Only")
	w.Right("Order")
	for i, s := range f.Sources {
		w.Row(i+1, s.Peer, term.OrDash(string(s.Prefix)), term.OrDash(strings.Join(s.Patterns, ", ")))
	}
	w.Draw()
	also := ""
	if f.Complete {
		also += "; what nobody asked for is fetched afterwards"
	}
	if f.Anonymous {
		also += "; those without a login start fetches too"
	}
	c.T.Say("%s serves tags for %s without asking%s", f.Namespace, f.FreshFor, also)
	if s := f.Served; s.Here+s.There > 0 {
		c.T.Say("In the last 30 days it served %s (%s) from here, and %s (%s) came from a peer", term.Count(s.Here, "blob", "blobs"), term.Size(s.HereBytes), term.Count(s.There, "blob", "blobs"), term.Size(s.ThereBytes))
	}
}

func showFollow() site.Command {
	return site.Command{
		Name: "show", Short: "Show which peers a namespace follows", On: site.OnNamespace, Facts: api.Follow{},
		Run: func(ctx context.Context, c *site.Call) error {
			var f api.Follow
			if err := c.Do(ctx, http.MethodGet, "/api/v1/follow", followQuery(c), nil, &f); err != nil {
				return err
			}
			return c.Tell(f, func() { drawFollow(c, f) })
		},
	}
}

func listFollows() site.Command {
	return site.Command{
		Name: "list", Short: "List which namespaces follow which peers", On: site.OnRegistry, Facts: []api.Follow{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.FollowList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/follows", nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Follows, func() {
				if len(list.Follows) == 0 {
					c.T.Say("No namespace of %s follows a peer", c.Registry)
					c.T.Hint("To let one:  %s", c.Self("follow", "set", c.Registry+"/outside", "PEER"))
					return
				}
				w := c.T.Table("Namespace", "Follows", "Fresh for", "Fetches")
				for _, f := range list.Follows {
					fetches := "what is asked for"
					if f.Complete {
						fetches = "all of it"
					}
					w.Row(f.Namespace, sourcesOf(f), f.FreshFor, fetches)
				}
				w.Draw()
			})
		},
	}
}

// sourcesOf names the peers that a namespace follows.
func sourcesOf(f api.Follow) string {
	names := make([]string, len(f.Sources))
	for i, s := range f.Sources {
		names[i] = strings.TrimSuffix(s.Peer+"/"+string(s.Prefix), "/")
	}
	return strings.Join(names, ", ")
}

func removeFollow() site.Command {
	return site.Command{
		Name: "remove", Short: "Let a namespace follow nobody", On: site.OnNamespace, Facts: api.Follow{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			var f api.Follow
			if err := c.Do(ctx, http.MethodGet, "/api/v1/follow", followQuery(c), nil, &f); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Let %s follow nobody? What came stays; what was not fetched cannot be pulled then. Set it again to get it back.", c.Place)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, "/api/v1/follow", followQuery(c), nil, nil); err != nil {
				return err
			}
			return c.Tell(f, func() { c.T.Say("%s follows nobody any more", c.Place) })
		},
	}
}
