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
		On:      site.OnWhat, Args: []site.Arg{{Name: "DIGEST", Optional: true}}, Facts: api.ContentExplanation{},
		Run: func(ctx context.Context, c *site.Call) error {
			query, err := whatToExplain(ctx, c)
			if err != nil {
				return err
			}
			var e api.ContentExplanation
			if err := c.Do(ctx, http.MethodGet, "/api/v1/explain", query, nil, &e); err != nil {
				return err
			}
			return c.Tell(e, func() { drawChains(c, e) })
		},
	}
}

// whatToExplain finds the digest that is meant, and in which repository.
func whatToExplain(ctx context.Context, c *site.Call) (url.Values, error) {
	query := api.Given(map[string]string{"repository": string(c.Place.Name)})
	switch {
	case c.Image.Target() != "" && len(c.Args) > 0:
		return nil, term.Usage("%s names an image, and %s content; give one of them", c.Image, c.Args[0])
	case len(c.Args) > 0:
		digest, err := oci.ParseDigest(c.Args[0])
		if err != nil {
			return nil, term.Usage("%w; find tells whole digests", err)
		}
		if c.Place.IsNamespace() {
			return nil, term.Usage("%s is a namespace; name a repository, or the registry alone", c.Place)
		}
		query.Set("digest", digest.String())
		return query, nil
	case c.Image.Target() == "":
		return nil, term.Usage("name an image, as in %s/NAMESPACE/REPOSITORY:TAG, or give a digest", c.Registry)
	case c.Image.Digest != "":
		query.Set("digest", c.Image.Digest.String())
		return query, nil
	}
	var image struct {
		Digest oci.Digest `json:"digest"`
	}
	err := c.Do(ctx, http.MethodGet, "/api/v1/image", url.Values{"repository": {string(c.Place.Name)}, "reference": {c.Image.Target()}}, nil, &image)
	query.Set("digest", image.Digest.String())
	return query, err
}

func drawChains(c *site.Call, e api.ContentExplanation) {
	c.T.Say("%s", e.Says)
	if e.Hurt != "" {
		c.T.Warn("It is hurt: %s", wrongs[e.Hurt])
	}
	for _, h := range e.Holders {
		if len(e.Holders) > 1 {
			c.T.Say("\n%s: %s", h.Repository, h.Says)
		}
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
