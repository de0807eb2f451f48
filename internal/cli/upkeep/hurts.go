package upkeep

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func hurtCommands() site.Command {
	return site.Command{
		Name: "hurt", Group: term.GroupRun, Short: "List content whose file is not what it should be, and what that hurts",
		Under: []site.Command{listHurts(), showHurt()},
	}
}

// wrongs say what is wrong with a file.
var wrongs = map[string]string{"missing": "the file is missing", "short": "the file has another size", "rotten": "the file has other bytes", "unreadable": "the file can't be read"}

func listHurts() site.Command {
	var ended bool
	var limit int
	return site.Command{
		Name: "list", Short: "List hurt content", On: site.OnRegistry, Facts: []api.Hurt{}, Checks: true,
		Long: "Lists content whose file is missing, has another size or other bytes, or can't be read. It is not served; a push of the same image mends it.\nDamage of the records is told too, on the error stream. The exit code is 5 where anything is hurt or damaged.",
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&ended, "ended", false, "also what was mended, or went")
			term.Number(f, &limit, "limit", 100, 1, 1000, "how many")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"limit": strconv.Itoa(limit)})
			if ended {
				query.Set("ended", "true")
			}
			damages, err := tellDamages(ctx, c)
			if err != nil {
				return err
			}
			var list api.HurtList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/hurts", query, nil, &list); err != nil {
				return err
			}
			err = c.Tell(list.Hurts, func() {
				if len(list.Hurts) == 0 {
					c.T.Say("Nothing is hurt")
					return
				}
				w := c.T.Table("Digest", "What", "Size", "Found", "Ended")
				w.Right("Size")
				for _, h := range list.Hurts {
					end := "-"
					if h.EndedAt != nil {
						end = h.EndedHow + " " + term.When(h.EndedAt)
					}
					w.Row(h.Digest, wrongs[h.What], term.Size(h.Size), term.When(&h.FoundAt), end)
				}
				w.Draw()
				c.T.Hint("\nWhat one hurts:  %s", c.Self("hurt", "show", c.Registry, list.Hurts[0].Digest.String()))
			})
			hurt := int64(0)
			for _, h := range list.Hurts {
				if h.EndedAt == nil {
					hurt++
				}
			}
			if err == nil && damages > 0 {
				return term.NotRight("%s of the records known", term.Count(damages, "damage is", "damages are"))
			}
			if err != nil || hurt == 0 {
				return err
			}
			return term.NotRight("%s hurt", term.Count(hurt, "file is", "files are"))
		},
	}
}

func showHurt() site.Command {
	return site.Command{
		Name: "show", Short: "Show which images are hurt by a file, and who pulled them lately", On: site.OnRegistry, Args: []site.Arg{{Name: "DIGEST"}}, Facts: api.HurtDetail{},
		Run: func(ctx context.Context, c *site.Call) error {
			digest, err := oci.ParseDigest(c.Args[0])
			if err != nil {
				return term.Usage("%w", err)
			}
			var h api.HurtDetail
			if err := c.Do(ctx, http.MethodGet, "/api/v1/hurts/"+digest.String(), nil, nil, &h); err != nil {
				return err
			}
			return c.Tell(h, func() {
				c.T.Fields("Hurt", digest.String(), [2]string{"What", wrongs[h.What]}, [2]string{"Size", term.Size(h.Size)}, [2]string{"Had", term.Size(h.FoundSize)}, [2]string{"Found", term.When(&h.FoundAt)})
				c.T.Say("")
				if len(h.Images) == 0 {
					c.T.Say("No image that can be pulled has it in it.")
					return
				}
				w := c.T.Table("Image", "Digest", "Tags", "Pulled", "By, in the last 30 days")
				for _, m := range h.Images {
					tags := make([]string, len(m.Tags))
					for i, t := range m.Tags {
						tags[i] = string(t)
					}
					w.Row(m.Repository, term.Short(m.Digest), term.OrDash(strings.Join(tags, ", ")), term.When(m.PulledAt), term.OrDash(strings.Join(m.PulledBy, ", ")))
				}
				w.Draw()
				c.T.Say("\nA push of one of these images, from where it was built, mends it.")
			})
		},
	}
}

// tellDamages says which parts of the records are damaged, and what to do about it.
func tellDamages(ctx context.Context, c *site.Call) (int64, error) {
	var health api.RegistryHealth
	if err := c.Do(ctx, http.MethodGet, "/api/v1/health", nil, nil, &health); err != nil || len(health.Damages) == 0 {
		return 0, err
	}
	c.T.Warn("The records are damaged. While they are, no sweep and no retention deletes anything.")
	for _, d := range health.Damages[:min(len(health.Damages), 10)] {
		c.T.Warn("  %s (found %s)", d.Says, term.When(&d.FoundAt))
	}
	if more := len(health.Damages) - 10; more > 0 {
		c.T.Warn("  and %d more", more)
	}
	c.T.Warn("%s\n", health.Remedy)
	return int64(len(health.Damages)), nil
}
