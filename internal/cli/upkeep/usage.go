package upkeep

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/rule"
)

func usageCommands() site.Command {
	return site.Command{
		Name: "usage", Group: term.GroupRun, Short: "Tell who holds what, and what it costs",
		Under: []site.Command{showUsage(), labelsOf()},
	}
}

func growthCommands() site.Command {
	return site.Command{Name: "growth", Group: term.GroupRun, Short: "Tell how much there was, day by day", Under: []site.Command{growthOf()}}
}

func trafficCommands() site.Command {
	return site.Command{Name: "traffic", Group: term.GroupRun, Short: "Tell what went in and out, and for whom", Under: []site.Command{trafficOf()}}
}

func showUsage() site.Command {
	limit := 20
	return site.Command{
		Name: "show", Short: "Tell how much a place or an image holds, and what is in it", On: site.OnWhat, Facts: api.Usage{},
		Long: "Tells how much a place holds: as its readers see it, what of it nothing else holds, what only waits for restore windows, and what a sweep takes\n" +
			"now; and the same of what is in it: namespaces, repositories, images.",
		Example: "  warthesis usage show localhost:7070\n  warthesis usage show localhost:7070/berths\n  warthesis usage show localhost:7070/berths/seatmap:1.2.0",
		Flags: func(f *pflag.FlagSet) {
			term.Number(f, &limit, "limit", limit, 0, 2000, "how many things in it are listed")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"place": string(c.Place.Name)})
			if c.Image.Target() != "" {
				query = url.Values{"place": {string(c.Image.Name)}, "image": {c.Image.Target()}}
			}
			u, err := c.Usage(ctx, query)
			if err != nil {
				return err
			}
			return c.Tell(u, func() { drawUsage(c, u, limit) })
		},
	}
}

func drawUsage(c *site.Call, u api.Usage, limit int) {
	if len(u.Children) > 0 && limit > 0 {
		w := c.T.Table("What", "Own", "Seen", "Waiting", "Images", "Tags", "Cost a month")
		w.Right("Own", "Seen", "Waiting", "Images", "Tags", "Cost a month")
		for _, child := range u.Children[:min(limit, len(u.Children))] {
			w.Row(childName(child), term.Size(child.Own), term.Size(child.Seen), term.Size(child.Waiting), child.Images, child.Tags, costOf(child.Cost))
		}
		w.Draw()
		if more := len(u.Children) - limit; more > 0 || u.More {
			c.T.Hint("There are more; list them with --limit")
		}
		c.T.Say("")
	}
	switch {
	case c.Image.Target() != "":
		c.T.Say("%s holds %s: %s of it no other image has that you may see.", c.Image, term.Size(u.Seen), term.Size(u.Own))
	case u.Place == "":
		c.T.Say("Its namespaces see %s: %s of it one of them alone holds, the rest they share. %s more wait for restore windows.", term.Size(u.Seen), term.Size(u.Own), term.Size(u.Waiting))
	default:
		c.T.Say("%s holds %s: %s of it nothing else holds. %s more wait for restore windows.", c.Place, term.Size(u.Seen), term.Size(u.Own), term.Size(u.Waiting))
	}
	if u.Free > 0 {
		c.T.Say("A sweep takes %s now.", term.Size(u.Free))
	}
	for _, s := range u.Shared[:min(5, len(u.Shared))] {
		c.T.Say("%s of the same content: %s", term.Size(s.Bytes), s.Name)
	}
	for _, p := range u.Parts {
		c.T.Say("On the disk, %s: %s", p.Part, term.Size(p.Bytes))
	}
	if u.Cost != nil {
		c.T.Say("It costs %.2f %s a month to hold, and %.2f %s for what went out within 30 days.", u.Cost.Storage, u.Cost.Currency, u.Cost.Out, u.Cost.Currency)
	}
	for _, q := range u.Quotas {
		say := c.T.Say
		if q.Used*5 >= q.Quota*4 {
			say = c.T.Warn
		}
		say("%s", sayQuota(q))
	}
}

func childName(child api.UsageChild) string {
	if child.Kind != "image" {
		return child.Name
	}
	var names []string
	for _, tag := range child.Names {
		names = append(names, string(tag))
	}
	if len(names) == 0 {
		names = []string{"(no tag)"}
	}
	if len(names) > 3 {
		names = append(names[:3], "…")
	}
	return term.Short(child.Digest) + " " + strings.Join(names, ", ")
}

func costOf(cost *api.Cost) string {
	if cost == nil {
		return "-"
	}
	return fmt.Sprintf("%.2f %s", cost.Storage+cost.Out, cost.Currency)
}

func sayQuota(q api.Quota) string {
	if q.Of == "repository" {
		return fmt.Sprintf("The quota of the repository %s: %d of %d tags", q.Name, q.Used, q.Quota)
	}
	return fmt.Sprintf("The quota of the %s %s: %s of %s", q.Of, q.Name, term.Size(q.Used), term.Size(q.Quota))
}

func growthOf() site.Command {
	days := 90
	return site.Command{
		Name: "show", Short: "Show how much there was in a place, a line a day", On: site.OnWhere, Facts: api.UsageGrowth{},
		Flags: func(f *pflag.FlagSet) { term.Number(f, &days, "days", days, 1, 732, "how many days back") },
		Run: func(ctx context.Context, c *site.Call) error {
			var g api.UsageGrowth
			if err := c.Do(ctx, http.MethodGet, "/api/v1/usage/growth", api.Given(map[string]string{"place": string(c.Place.Name), "days": strconv.Itoa(days)}), nil, &g); err != nil {
				return err
			}
			return c.Tell(g, func() {
				if len(g.Samples) == 0 {
					c.T.Say("There is no sample yet; one is taken each night.")
					return
				}
				w := c.T.Table("Day", "Own", "Seen", "Waiting", "Images", "Tags")
				w.Right("Own", "Seen", "Waiting", "Images", "Tags")
				for _, s := range g.Samples {
					own := "-"
					if s.Own != nil {
						own = term.Size(*s.Own)
					}
					w.Row(s.Day.Format(time.DateOnly), own, term.Size(s.Seen), term.Size(s.Waiting), s.Images, s.Tags)
				}
				w.Draw()
			})
		},
	}
}

func trafficOf() site.Command {
	days, by := 30, ""
	return site.Command{
		Name: "show", Short: "Show what went in and out of a place", On: site.OnWhere, Facts: api.Traffic{},
		Example: "  warthesis traffic show localhost:7070 --by account",
		Flags: func(f *pflag.FlagSet) {
			term.Number(f, &days, "days", days, 1, 732, "how many days back")
			term.Choice(f, &by, "by", "day", "in which groups", "day", "namespace", "account")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			var t api.Traffic
			if err := c.Do(ctx, http.MethodGet, "/api/v1/usage/traffic", api.Given(map[string]string{"place": string(c.Place.Name), "days": strconv.Itoa(days), "by": by}), nil, &t); err != nil {
				return err
			}
			return c.Tell(t, func() {
				if len(t.Lines) == 0 {
					c.T.Say("Nothing went in or out within %d days.", days)
					return
				}
				w := c.T.Table(map[string]string{"day": "Day", "namespace": "Namespace", "account": "Account"}[by], "Pulls", "Out", "Pushes", "In", "Cost of out")
				w.Right("Pulls", "Out", "Pushes", "In", "Cost of out")
				for _, l := range t.Lines {
					name := l.Name
					if l.Day != nil {
						name = l.Day.Format(time.DateOnly)
					}
					w.Row(term.OrDash(name), l.Pulls, term.Size(l.BytesOut), l.Pushes, term.Size(l.BytesIn), costOf(l.Cost))
				}
				w.Draw()
			})
		},
	}
}

func labelsOf() site.Command {
	return site.Command{
		Name: "list", Short: "Sum up what namespaces hold by the value of one of their labels", On: site.OnRegistry, Args: []site.Arg{{Name: "LABEL"}}, Facts: api.LabelSums{},
		Example: "  warthesis usage list localhost:7070 team",
		Run: func(ctx context.Context, c *site.Call) error {
			var s api.LabelSums
			if err := c.Do(ctx, http.MethodGet, "/api/v1/usage/labels", url.Values{"label": {c.Args[0]}}, nil, &s); err != nil {
				return err
			}
			return c.Tell(s, func() {
				w := c.T.Table(c.Args[0], "Namespaces", "Own", "Seen", "Waiting", "Out, 30 days", "Cost a month")
				w.Right("Namespaces", "Own", "Seen", "Waiting", "Out, 30 days", "Cost a month")
				for _, l := range s.Sums {
					w.Row(term.OrDash(l.Value), l.Namespaces, term.Size(l.Own), term.Size(l.Seen), term.Size(l.Waiting), term.Size(l.BytesOut), costOf(l.Cost))
				}
				w.Draw()
			})
		},
	}
}

func quotaCommands() site.Command {
	return site.Command{
		Name: "quota", Group: term.GroupRun, Short: "Bound what namespaces and accounts hold, and how many tags repositories have",
		Long: "A quota of a namespace or of an account bounds distinct bytes with a holding, also of what was removed and is not swept yet; one of a repository bounds\n" +
			"its tags. Beyond four fifths pushes are told; beyond the quota they are refused. Bringing back what was removed never is.",
		Under: []site.Command{listQuotas(), setQuota(), removeQuota()},
	}
}

func listQuotas() site.Command {
	return site.Command{
		Name: "list", Short: "List quotas with what is used of them, the fullest first", On: site.OnRegistry, Facts: []api.Quota{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.QuotaList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/quotas", nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Quotas, func() {
				if len(list.Quotas) == 0 {
					c.T.Say("%s has no quotas", c.Registry)
					c.T.Hint("To set one:  %s", c.Self("quota", "set", c.Registry+"/timetable", "20GiB", "--reason", "…"))
					return
				}
				w := c.T.Table("Of", "Name", "Used", "Allowed", "")
				w.Right("Used", "Allowed", "")
				for _, q := range list.Quotas {
					used, most := term.Size(q.Used), term.Size(q.Quota)
					if q.Of == "repository" {
						used, most = fmt.Sprintf("%d tags", q.Used), fmt.Sprintf("%d tags", q.Quota)
					}
					w.Row(q.Of, q.Name, used, most, fmt.Sprintf("%d %%", q.Used*100/q.Quota))
				}
				w.Draw()
			})
		},
	}
}

// bound says of what a quota is.
type bound struct{ account, reason string }

func (b *bound) addTo(f *pflag.FlagSet) {
	f.StringVar(&b.account, "account", "", "of this account; name the registry alone then")
	f.StringVar(&b.reason, "reason", "", "why, for the audit log")
}

// of returns the quota to be set, without how much it is.
func (b *bound) of(c *site.Call) (api.SetQuota, string, error) {
	if err := needsReason(b.reason); err != nil {
		return api.SetQuota{}, "", err
	}
	set := api.SetQuota{Account: b.account, Reason: b.reason}
	switch {
	case b.account != "" && c.Place.Name != "":
		return set, "", term.Usage("--account has no effect on a place; name the registry alone, as in %s", c.Registry)
	case b.account != "":
		return set, "the account " + b.account, nil
	case c.Place.Name == "":
		return set, "", term.Usage("name a namespace or a repository, or an account with --account")
	}
	set.Place = c.Place.Name
	return set, c.Place.String(), nil
}

func setQuota() site.Command {
	var of bound
	return site.Command{
		Name: "set", Short: "Set the quota of a namespace, an account or a repository", On: site.OnPlace, Args: []site.Arg{{Name: "QUOTA"}}, Facts: api.SetQuota{},
		Long:    "Sets a quota, which takes a registry admin: in bytes of a namespace or an account, in tags of a repository.",
		Example: "  warthesis quota set localhost:7070/timetable 20GiB --reason \"as agreed\"\n  warthesis quota set localhost:7070/timetable/planner 500 --reason \"builds pile up\"\n  warthesis quota set localhost:7070 5GiB --account ci-berths --reason \"as agreed\"",
		Flags:   of.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			set, is, err := of.of(c)
			if err != nil {
				return err
			}
			said := c.Args[0]
			if set.Account == "" && !c.Place.IsNamespace() {
				if set.Quota, err = strconv.ParseInt(said, 10, 64); err != nil || set.Quota < 1 {
					return term.Usage("%q is no number of tags, as the quota of a repository is; write a whole number, 1 or more", said)
				}
				said += " tags"
			} else {
				size, err := rule.ParseSize(said)
				if err != nil {
					return term.Usage("%w", err)
				}
				set.Quota = int64(size)
			}
			if err := c.SetQuota(ctx, set); err != nil {
				return err
			}
			return c.Tell(set, func() { c.T.Say("The quota of %s is %s", is, said) })
		},
	}
}

func removeQuota() site.Command {
	var of bound
	return site.Command{
		Name: "remove", Short: "Remove the quota of a namespace, an account or a repository", On: site.OnPlace, Facts: api.SetQuota{}, Flags: of.addTo, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			set, is, err := of.of(c)
			if err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the quota of %s? It may hold what it likes then. Set it again to get it back.", is)); err != nil {
				return err
			}
			if err := c.SetQuota(ctx, set); err != nil {
				return err
			}
			return c.Tell(set, func() { c.T.Say("%s has no quota any more", is) })
		},
	}
}

func dropRemovals() site.Command {
	var reason string
	return site.Command{
		Name: "drop", Short: "End restore windows early, so that a sweep can take what went", On: site.OnRegistry, Args: []site.Arg{{Name: "REMOVAL", Many: true}}, Facts: api.EndWindows{}, Asks: true,
		Long:    "Ends the restore windows of removals early, which takes an owner of their places: what went by them cannot be brought back any more, and goes with the\nnext sweep. It is how a full namespace makes room at once.",
		Example: "  warthesis removal drop localhost:7070 41 42 --reason \"the namespace is full\"",
		Flags:   func(f *pflag.FlagSet) { f.StringVar(&reason, "reason", "", "why, for the audit log") },
		Run: func(ctx context.Context, c *site.Call) error {
			if err := needsReason(reason); err != nil {
				return err
			}
			end := api.EndWindows{Reason: reason}
			for _, arg := range c.Args {
				id, err := strconv.ParseInt(arg, 10, 64)
				if err != nil || id < 1 {
					return term.Usage("%q is no number of a removal; they are listed by  %s", arg, c.Self("removal", "list", c.Registry))
				}
				end.Removals = append(end.Removals, id)
			}
			what := term.Count(int64(len(end.Removals)), "removal", "removals")
			if err := c.Confirm(ctx, fmt.Sprintf("End the restore windows of %s for good? What went by them cannot be brought back any more.", what)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPost, "/api/v1/removals/end", nil, end, nil); err != nil {
				return err
			}
			return c.Tell(end, func() {
				c.T.Say("Ended the restore windows of %s", what)
				c.T.Hint("What went by them goes with the next sweep:  %s", c.Self("sweep", "run", c.Registry+"/NAMESPACE"))
			})
		},
	}
}
