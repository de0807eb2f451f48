package upkeep

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func removalCommands() site.Command {
	return site.Command{
		Name: "removal", Group: term.GroupNames, Short: "List what was removed, and undo it",
		Under: []site.Command{listRemovals(), showRemoval(), undoRemoval(), dropRemovals()},
	}
}

func listRemovals() site.Command {
	var limit, run int
	var undone bool
	return site.Command{
		Name: "list", Short: "List removals that you may undo, the last first",
		Long: "Lists removals: tags, images, repositories and namespaces, who removed them and why, and until about when each can be undone. The time runs\n" +
			"while the service does.",
		Example: "  warthesis removal list localhost:7070/timetable",
		On:      site.OnWhere, Facts: []api.Removal{},
		Flags: func(f *pflag.FlagSet) {
			term.Number(f, &limit, "limit", 50, 1, 1000, "how many removals")
			f.BoolVar(&undone, "undone", false, "also those that were undone")
			term.Number(f, &run, "run", 0, 0, math.MaxInt32, "only those by this run of retention rules")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"place": string(c.Place.Name), "limit": strconv.Itoa(limit)})
			if undone {
				query.Set("undone", "true")
			}
			if run != 0 {
				query.Set("run", strconv.Itoa(run))
			}
			list, err := c.Removals(ctx, query)
			if err != nil {
				return err
			}
			return c.Tell(list.Removals, func() {
				if len(list.Removals) == 0 {
					c.T.Say("Nothing was removed in %s that you may undo", c.Place)
					return
				}
				w := c.T.Table("Removal", "When", "What", "In", "By", "Until about", "Why")
				w.Right("Removal")
				for _, r := range list.Removals {
					w.Row(r.ID, term.When(&r.At), whatWent(r), term.OrDash(placeOf(r)), byOf(r), untilOf(r), r.Reason)
				}
				w.Draw()
				if list.Next != 0 {
					c.T.Hint("There are older removals; show more of them with --limit")
				}
				for _, r := range list.Removals {
					if r.Until != nil {
						c.T.Hint("\nTo undo one:  %s", c.Self("removal", "undo", c.Registry, strconv.FormatInt(r.ID, 10)))
						return
					}
				}
			})
		},
	}
}

// byOf says who removed something.
func byOf(r api.Removal) string {
	if r.Run != 0 {
		return "a rule"
	}
	return term.OrDash(r.By)
}

// whatWent says what a removal took.
func whatWent(r api.Removal) string {
	switch r.Kind {
	case "tag":
		return term.Count(int64(strings.Count(r.Name, ",")+1), "tag", "tags") + " " + r.Name
	case "manifest", "blob":
		what := map[string]string{"manifest": "image", "blob": "blob"}[r.Kind] + " " + shortOf(r.Name)
		if r.Tags > 0 || r.Images > 1 {
			what += fmt.Sprintf(" (%s, %s)", term.Count(r.Images, "image", "images"), term.Count(r.Tags, "tag", "tags"))
		}
		return what
	}
	return r.Kind + " " + r.Name
}

func shortOf(digest string) string {
	d, err := oci.ParseDigest(digest)
	if err != nil {
		return digest
	}
	return term.Short(d)
}

func placeOf(r api.Removal) string {
	if r.Kind == "namespace" || r.Kind == "repository" {
		return r.Namespace
	}
	return string(r.Repository)
}

func untilOf(r api.Removal) string {
	switch {
	case r.UndoneAt != nil:
		return "undone " + term.When(r.UndoneAt)
	case r.Until == nil:
		return "over"
	}
	return term.When(r.Until)
}

func removalPath(number string) (string, int64, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil || id < 1 {
		return "", 0, term.Usage("%q is no removal; removals have numbers, which the list of removals shows", number)
	}
	return fmt.Sprintf("/api/v1/removals/%d", id), id, nil
}

func showRemoval() site.Command {
	return site.Command{
		Name: "show", Short: "Show all that went by a removal", On: site.OnRegistry, Args: []site.Arg{{Name: "REMOVAL"}}, Facts: api.RemovalContents{},
		Run: func(ctx context.Context, c *site.Call) error {
			path, id, err := removalPath(c.Args[0])
			if err != nil {
				return err
			}
			var r api.RemovalContents
			if err := c.Do(ctx, http.MethodGet, path, nil, nil, &r); err != nil {
				return err
			}
			return c.Tell(r, func() {
				c.T.Fields(fmt.Sprintf("Removal %d", id), whatWent(r.Removal), [2]string{"In", placeOf(r.Removal)}, [2]string{"When", term.When(&r.At)}, [2]string{"By", r.By},
					[2]string{"Why", r.Reason}, [2]string{"Until about", untilOf(r.Removal)})
				if len(r.TagList)+len(r.ImageList) == 0 {
					return
				}
				c.T.Say("")
				w := c.T.Table("What went", "Digest", "")
				for _, t := range r.TagList {
					note := ""
					if t.Now != "" && t.Now != t.Digest {
						note = fmt.Sprintf("the name points to %s now", term.Short(t.Now))
					}
					w.Row("tag "+string(t.Tag), term.Short(t.Digest), note)
				}
				for _, m := range r.ImageList {
					about := strings.Join(m.Platforms, ", ")
					if about == "" {
						about = m.ArtifactType
					}
					w.Row("image", term.Short(m.Digest), about)
				}
				w.Draw()
			})
		},
	}
}

func undoRemoval() site.Command {
	var as []string
	return site.Command{
		Name: "undo", Short: "Bring back all that went by a removal, or nothing",
		Long: "Brings back all that went by one removal, with all that it needs, or nothing. Where a tag's name is taken meanwhile, give another name with\n" +
			"--as TAG=NAME; a repository gets another name with --as NAMESPACE/NAME.",
		Example: "  warthesis removal undo 12\n  warthesis removal undo 12 --as stable=stable-restored",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "REMOVAL"}}, Facts: api.RemovalUndone{},
		Flags: func(f *pflag.FlagSet) { term.Texts(f, &as, "as", "another name: TAG=NAME, or that of a repository") },
		Run: func(ctx context.Context, c *site.Call) error {
			_, id, err := removalPath(c.Args[0])
			if err != nil {
				return err
			}
			how := api.UndoRemoval{As: map[oci.Tag]oci.Tag{}}
			for _, one := range as {
				was, is, pair := strings.Cut(one, "=")
				switch {
				case pair:
					if how.As[oci.Tag(was)], err = oci.ParseTag(is); err != nil {
						return term.Usage("--as: %w", err)
					}
				case how.Name != "":
					return term.Usage("--as names two repositories, %s and %s", how.Name, one)
				default:
					how.Name = strings.TrimPrefix(one, c.Registry+"/")
				}
			}
			done, err := c.Undo(ctx, id, how)
			if err != nil {
				var refused *oci.Error
				if errors.As(err, &refused) && errors.Is(err, oci.CodeInUse) {
					c.T.Hint("What is in the way:  %s", c.Self("removal", "show", c.Registry, c.Args[0]))
				}
				return err
			}
			return c.Tell(done, func() {
				c.T.Say("Undone: %s of %s", whatWent(done.Removal), term.OrDash(placeOf(done.Removal)))
				for _, t := range done.TagList {
					c.T.Say("  tag %s points to %s", t.Tag, term.Short(t.Digest))
				}
				if n := len(done.ImageList); n > 0 {
					c.T.Say("  %s can be pulled again", term.Count(int64(n), "image", "images"))
				}
				if done.Removal.Run != 0 {
					c.T.Warn("A retention rule removed it, and takes it again with its next run, unless a tag is sealed or a rule keeps it.")
				}
			})
		},
	}
}
