package upkeep

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func eraseCommand() site.Command {
	var reason string
	var over bool
	return site.Command{
		Name: "erase", Group: term.GroupNames, Short: "Take content at once and for good, as a secret that was pushed, and keep it out",
		Long: "Takes content of a namespace or, for admins, of the whole registry at once and for good, with all images that have it in them. There is no restore\n" +
			"window and no way back. From then on it is kept out, under either of its digests, until the ban is lifted. It says first what goes, and where\n" +
			"it cannot reach. A secret that was pushed must be changed all the same.",
		Example: "  warthesis erase localhost:7070/timetable sha256:… --reason \"a key of the signal boxes in a layer\"",
		On:      site.OnWhere, Args: []site.Arg{{Name: "DIGEST"}}, Facts: api.ErasePlan{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&reason, "reason", "", "why; whoever pushes it again is told")
			f.BoolVar(&over, "over-seals", false, "sealed tags go as well; it takes an admin")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			digest, err := oci.ParseDigest(c.Args[0])
			switch {
			case err != nil:
				return term.Usage("%w; find tells whole digests", err)
			case c.Place.Name != "" && !c.Place.IsNamespace():
				return term.Usage("%s is a repository; content is erased of a namespace, as in %s/%s, or of the registry", c.Place, c.Registry, c.Place.Name.Namespace())
			case reason == "":
				return term.Usage("--reason is missing: say why, for the audit log and for whoever pushes it again")
			}
			plan, err := c.ErasePlan(ctx, digest, string(c.Place.Name))
			if err != nil {
				return err
			}
			if !c.JSON() {
				drawErase(c, plan, "goes")
			}
			if len(plan.Sealed) > 0 && !over {
				return oci.Errorf(oci.CodeDenied, "%s; an admin erases it with --over-seals", strings.Join(plan.Sealed, "; "))
			}
			question := fmt.Sprintf("Erase %s of %s for good, with %s?", term.Short(digest), c.Place, term.Count(int64(len(plan.Images)), "image", "images"))
			if err := c.Confirm(ctx, question); err != nil {
				return err
			}
			done, err := c.Erase(ctx, api.Erase{Digest: digest, Namespace: string(c.Place.Name), Reason: reason, Mark: plan.Mark, OverSeals: over})
			if err != nil {
				return err
			}
			return c.Tell(done, func() {
				c.T.Say("Erased: %s is kept out of %s from now on", term.Short(digest), c.Place)
				c.T.Hint("To let it in again:  %s", c.Self("ban", "list", c.Place.String()))
			})
		},
	}
}

func drawErase(c *site.Call, plan api.ErasePlan, fate string) {
	if !plan.Here {
		c.T.Say("It is not here. It is kept out from now on.")
	}
	if len(plan.Images) > 0 {
		w := c.T.Table("", "Image", "Digest", "Tags", "")
		for _, m := range plan.Images {
			tags := make([]string, len(m.Tags))
			for i, t := range m.Tags {
				tags[i] = string(t)
			}
			about := ""
			if !m.Live {
				about = "was removed, and could come back"
			}
			w.Row(fate, m.Repository, m.Digest, term.OrDash(strings.Join(tags, ", ")), about)
		}
		w.Draw()
	}
	if len(plan.Repositories) > 0 {
		names := make([]string, len(plan.Repositories))
		for i, n := range plan.Repositories {
			names[i] = string(n)
		}
		c.T.Say("It goes from: %s", strings.Join(names, ", "))
	}
	for _, s := range plan.Sealed {
		c.T.Warn("%s", s)
	}
	if plan.Unpacked != "" {
		c.T.Say("The layer unpacks to %s. It is banned however it is compressed; images that have it in another compression are found with:  %s", plan.Unpacked, c.Self("find", c.Registry, plan.Unpacked.String()))
	}
	c.T.Say("Out of reach:")
	for _, s := range plan.OutOfReach {
		c.T.Say("  %s", s)
	}
}

func banCommands() site.Command {
	return site.Command{
		Name: "ban", Group: term.GroupNames, Short: "List what is kept out, and let it in again", Under: []site.Command{listBans(), liftBan()},
	}
}

func listBans() site.Command {
	var lifted bool
	var limit int
	return site.Command{
		Name: "list", Short: "List digests that are kept out since they were erased", On: site.OnWhere, Facts: []api.Ban{},
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&lifted, "lifted", false, "also those that were lifted")
			term.Number(f, &limit, "limit", 100, 1, 1000, "how many")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"namespace": string(c.Place.Name), "limit": strconv.Itoa(limit)})
			if lifted {
				query.Set("lifted", "true")
			}
			var list api.BanList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/bans", query, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Bans, func() {
				if len(list.Bans) == 0 {
					c.T.Say("Nothing is kept out of %s", c.Place)
					return
				}
				w := c.T.Table("Ban", "Digest", "Out of", "Since", "By", "Why", "Lifted")
				w.Right("Ban")
				for _, b := range list.Bans {
					end := "-"
					if b.LiftedAt != nil {
						end = term.When(b.LiftedAt) + " by " + b.LiftedBy
					}
					w.Row(b.ID, b.Digest, orRegistry(b.Namespace), term.When(&b.At), term.OrDash(b.By), b.Reason, end)
				}
				w.Draw()
			})
		},
	}
}

func liftBan() site.Command {
	var reason string
	return site.Command{
		Name: "lift", Short: "Let content be pushed again that was erased", On: site.OnRegistry, Args: []site.Arg{{Name: "BAN"}}, Facts: api.LiftBan{},
		Flags: func(f *pflag.FlagSet) { f.StringVar(&reason, "reason", "", "why, for the audit log") },
		Run: func(ctx context.Context, c *site.Call) error {
			id, err := strconv.ParseInt(c.Args[0], 10, 64)
			if err != nil || id < 1 {
				return term.Usage("%q is no ban; bans have numbers, which  ban list  shows", c.Args[0])
			}
			if reason == "" {
				return term.Usage("--reason is missing: say why, for the audit log")
			}
			how := api.LiftBan{Reason: reason}
			if err := c.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/bans/%d/lift", id), nil, how, nil); err != nil {
				return err
			}
			return c.Tell(how, func() { c.T.Say("The ban %d is lifted: it can be pushed again", id) })
		},
	}
}
