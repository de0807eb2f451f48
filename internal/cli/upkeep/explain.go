package upkeep

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func explainCommand() site.Command {
	return site.Command{
		Name: "explain", Group: term.GroupLook, Short: "Tell why content is here, or when it may go",
		Long: "Tells which repositories have content and what keeps it there: the chain from a tag by way of indexes and manifests down to it, or the restore\n" +
			"window, the grace or the upload because of which it stays. DIGEST is any: of an image, a layer, a config.",
		Example: "  warthesis explain localhost:7070 sha256:…\n  warthesis explain localhost:7070/timetable/planner:2.4.1",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "DIGEST|REFERENCE"}}, Facts: api.ContentExplanation{},
		Run: func(ctx context.Context, c *site.Call) error {
			query := url.Values{"digest": {c.Args[0]}}
			if _, err := oci.ParseDigest(c.Args[0]); err != nil {
				ref, err := c.R.Target(c.Args[0])
				if err != nil {
					return term.Usage("%s is neither a whole digest nor a reference; find tells whole digests", c.Args[0])
				}
				c.Registry = ref.Registry
				if c.Client, err = c.R.API(ctx, ref.Registry); err != nil {
					return err
				}
				if query, err = digestOf(ctx, c, ref); err != nil {
					return err
				}
			}
			var e api.ContentExplanation
			if err := c.Do(ctx, http.MethodGet, "/api/v1/explain", query, nil, &e); err != nil {
				return err
			}
			return c.Tell(e, func() { drawChains(c, e) })
		},
	}
}

// digestOf finds the digest that a reference names.
func digestOf(ctx context.Context, c *site.Call, ref oci.Reference) (url.Values, error) {
	if ref.Digest != "" {
		return url.Values{"digest": {ref.Digest.String()}, "repository": {string(ref.Name)}}, nil
	}
	var image struct {
		Digest oci.Digest `json:"digest"`
	}
	err := c.Do(ctx, http.MethodGet, "/api/v1/image", url.Values{"repository": {string(ref.Name)}, "reference": {ref.Target()}}, nil, &image)
	return url.Values{"digest": {image.Digest.String()}, "repository": {string(ref.Name)}}, err
}

func drawChains(c *site.Call, e api.ContentExplanation) {
	c.T.Say("%s", e.Says)
	if e.Hurt != "" {
		c.T.Warn("It is hurt: %s", wrongs[e.Hurt])
	}
	for _, h := range e.Holders {
		c.T.Say("\n%s: %s", h.Repository, h.Says)
		if h.GoesAfter != nil {
			c.T.Say("  It may go from about %s on.", term.When(h.GoesAfter))
		}
		for _, chain := range h.Chains {
			c.T.Say("  %s", sayChain(chain))
		}
		if h.More {
			c.T.Say("  and more")
		}
	}
	if e.More {
		c.T.Say("\nThere are more repositories that have it.")
	}
	if e.GoesAfter != nil {
		c.T.Say("Its bytes may go from about %s on.", term.When(e.GoesAfter))
	}
	if e.NextSweep != nil {
		c.T.Hint("\nThe next sweep runs by itself %s.", term.When(e.NextSweep))
	}
}

// sayChain writes a chain from its top down.
func sayChain(chain []api.Link) string {
	said := make([]string, len(chain))
	for i, l := range chain {
		switch l.Kind {
		case "tag":
			said[i] = "tag " + string(l.Tag)
			if l.Sealed {
				said[i] += " (sealed)"
			}
		case "content":
			said[i] = l.As
		default:
			said[i] = l.Kind + " " + term.Short(l.Digest)
		}
		if l.RemovedBy != nil {
			said[i] += " (removed, can be undone " + until(l.RemovedBy) + ")"
		}
	}
	return strings.Join(said, " → ")
}

func until(r *api.RemovedBy) string { return "until about " + term.When(&r.Until) }
