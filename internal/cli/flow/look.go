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
)

// split takes apart REPOSITORY:TAG and REPOSITORY@DIGEST.
func split(s string) (repository, target string) {
	if repository, target, found := strings.Cut(s, "@"); found {
		return repository, target
	}
	repository, target, _ = strings.Cut(s, ":")
	return repository, target
}

func lookPeer() site.Command {
	limit := 1000
	return site.Command{
		Name: "look", Short: "Look into a peer through the registry", On: site.OnRegistry, Args: []site.Arg{peerArg, {Name: "REPOSITORY[:TAG]", Optional: true}}, Facts: []string{}, Or: api.Image{},
		Long: "Looks into a peer with the login that the registry has there: at its repositories, at the tags of one, or at an image. Names are below the peer's\n" +
			"prefix.",
		Example: "  warthesis peer look localhost:7070 depot\n  warthesis peer look localhost:7070 depot timetable/planner\n  warthesis peer look localhost:7070 depot timetable/planner:2.4.1",
		Flags: func(f *pflag.FlagSet) {
			term.Number(f, &limit, "limit", limit, 1, 100_000, "how many names are listed at most")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if len(c.Args) == 1 {
				return lookNames(ctx, c, limit, "repositories", nil, "The peer has no repositories there")
			}
			repository, target := split(c.Args[1])
			query := url.Values{"repository": {repository}}
			if target == "" {
				return lookNames(ctx, c, limit, "tags", query, repository+" has no tags there")
			}
			query.Set("reference", target)
			var image api.Image
			if err := c.Do(ctx, http.MethodGet, peerPath(c.Args[0], "image"), query, nil, &image); err != nil {
				return err
			}
			return c.Tell(image, func() { drawImage(c, image) })
		},
	}
}

// lookNames lists names at a peer, page by page.
func lookNames(ctx context.Context, c *site.Call, limit int, of string, query url.Values, none string) error {
	names, err := site.EveryPage(api.List{}, func(page api.List) ([]string, string, error) {
		asked := page.Query()
		for key, values := range query {
			asked[key] = values
		}
		var found api.PeerNames
		err := c.Do(ctx, http.MethodGet, peerPath(c.Args[0], of), asked, nil, &found)
		if limit -= len(found.Names); limit <= 0 {
			return found.Names[:len(found.Names)+limit], "", err
		}
		return found.Names, found.Next, err
	})
	if err != nil {
		return err
	}
	return c.Tell(append([]string{}, names...), func() {
		for _, name := range names {
			c.T.Say("%s", term.OneLine(name))
		}
		if len(names) == 0 {
			c.T.Say("%s", none)
		}
	})
}

func drawImage(c *site.Call, i api.Image) {
	c.T.Say("%-14s %s", "Digest", i.Digest)
	c.T.Say("%-14s %s", "Type", term.OneLine(i.MediaType))
	c.T.Say("%-14s %s", "Size", term.Size(i.ContentSize))
	w := c.T.Table("Platform", "Digest", "Size", "Layers", "User", "Runs")
	w.Right("Size", "Layers")
	for _, p := range i.Platforms {
		user, runs := "-", "-"
		if p.Run != nil {
			user, runs = term.OrDash(term.OneLine(p.Run.User)), term.OrDash(term.OneLine(strings.Join(append(p.Run.Entrypoint, p.Run.Command...), " ")))
		}
		w.Row(term.OrDash(p.Platform), term.Short(p.Digest), term.Size(p.ContentSize), len(p.Layers), user, runs)
	}
	w.Draw()
}

func peerTags() site.Command {
	var is string
	flags := func(f *pflag.FlagSet) {
		f.StringVar(&is, "is", "", "only where the tag points to this digest")
	}
	do := func(ctx context.Context, c *site.Call, repository string, change api.PeerTag, says string) error {
		if is != "" {
			digest, err := oci.ParseDigest(is)
			if err != nil {
				return term.Usage("%w", err)
			}
			change.Is = digest
		}
		if err := c.Do(ctx, http.MethodPost, peerPath(c.Args[0], "tags"), url.Values{"repository": {repository}}, change, nil); err != nil {
			return err
		}
		return c.Tell(change, func() { c.T.Say("%s", says) })
	}
	target := site.Arg{Name: "REPOSITORY:TAG"}
	one := func(c *site.Call) (repository string, tag oci.Tag, err error) {
		repository, text := split(c.Args[1])
		if tag, err = oci.ParseTag(text); err != nil || repository == "" {
			err = term.Usage("%q is no tag of a repository there; write one as in timetable/planner:2.4.1", c.Args[1])
		}
		return repository, tag, err
	}
	return site.Command{
		Name: "tag", Short: "Add, rename and remove tags at a peer",
		Long: "Changes tags at a peer with the login that the registry has there. What is removed there can be brought back only there.",
		Under: []site.Command{
			{
				Name: "add", Short: "Add a tag at a peer, or move it", On: site.OnRegistry, Args: []site.Arg{peerArg, {Name: "REPOSITORY:TAG|@DIGEST"}, {Name: "TAG"}}, Facts: api.PeerTag{}, Flags: flags,
				Example: "  warthesis peer tag add localhost:7070 depot timetable/planner:2.4.1 stable",
				Run: func(ctx context.Context, c *site.Call) error {
					repository, to := split(c.Args[1])
					tag, err := oci.ParseTag(c.Args[2])
					if err != nil {
						return term.Usage("%w", err)
					}
					if to == "" {
						return term.Usage("say to what it is to point, as in %s:2.4.1", repository)
					}
					return do(ctx, c, repository, api.PeerTag{Tag: tag, To: to}, fmt.Sprintf("%s of %s points to %s at %s", tag, repository, to, c.Args[0]))
				},
			},
			{
				Name: "rename", Short: "Rename a tag at a peer", On: site.OnRegistry, Args: []site.Arg{peerArg, target, {Name: "NEW"}}, Facts: api.PeerTag{}, Flags: flags,
				Run: func(ctx context.Context, c *site.Call) error {
					repository, tag, err := one(c)
					if err != nil {
						return err
					}
					to, err := oci.ParseTag(c.Args[2])
					if err != nil {
						return term.Usage("%w", err)
					}
					return do(ctx, c, repository, api.PeerTag{Tag: tag, Rename: to}, fmt.Sprintf("%s of %s is called %s at %s", tag, repository, to, c.Args[0]))
				},
			},
			{
				Name: "remove", Short: "Remove a tag at a peer", On: site.OnRegistry, Args: []site.Arg{peerArg, target}, Facts: api.PeerTag{}, Flags: flags, Asks: true,
				Run: func(ctx context.Context, c *site.Call) error {
					repository, tag, err := one(c)
					if err != nil {
						return err
					}
					if err := c.Confirm(ctx, fmt.Sprintf("Remove the tag %s of %s at the peer %s? Only there it can be brought back.", tag, repository, c.Args[0])); err != nil {
						return err
					}
					return do(ctx, c, repository, api.PeerTag{Tag: tag}, fmt.Sprintf("%s of %s is removed at %s", tag, repository, c.Args[0]))
				},
			},
		},
	}
}
