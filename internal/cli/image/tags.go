package image

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func tagCommands() site.Command {
	return site.Command{
		Name: "tag", Group: term.GroupImages, Short: "Add, move, rename, remove and seal tags, and see what they were",
		Under: []site.Command{addTags(), moveTag(), renameTag(), removeTags(), sealTag(), unsealTag(), logTags()},
	}
}

// onlyIf is the digest that tags have to point to, as --if gives it.
type onlyIf struct{ digest string }

func (o *onlyIf) addTo(f *pflag.FlagSet) {
	f.StringVar(&o.digest, "if", "", "only where the tag points to this digest; otherwise nothing is changed, and the exit code is 5")
}

func (o *onlyIf) read() (oci.Digest, error) {
	if o.digest == "" {
		return "", nil
	}
	digest, err := oci.ParseDigest(o.digest)
	if err != nil {
		return "", term.Usage("--if is %q, which is no whole digest, as identify prints it", o.digest)
	}
	return digest, nil
}

// changing changes the tag that the call names, where it is what it has to be.
func (o *onlyIf) changing(make func(c *site.Call, tag oci.Tag) (api.TagChange, error)) func(context.Context, *site.Call) error {
	return func(ctx context.Context, c *site.Call) error {
		tag, err := ofTag(c.Image)
		if err != nil {
			return err
		}
		change, err := make(c, tag)
		if err != nil {
			return err
		}
		if change.If, err = o.read(); err != nil {
			return err
		}
		return changeTags(ctx, c, []api.TagChange{change}, "")
	}
}

// readTags reads names of tags, each once.
func readTags(names ...string) ([]oci.Tag, error) {
	var tags []oci.Tag
	seen := map[string]bool{}
	for _, name := range names {
		tag, err := oci.ParseTag(name)
		if err != nil {
			return nil, term.Usage("%w", err)
		}
		if seen[name] {
			return nil, term.Usage("the tag %s is named twice", name)
		}
		seen[name] = true
		tags = append(tags, tag)
	}
	return tags, nil
}

// ofTag is the tag that a reference names.
func ofTag(ref oci.Reference) (oci.Tag, error) {
	if ref.Tag == "" || ref.Digest != "" {
		return "", term.Usage("%s names no tag; a digest stays what it is", ref)
	}
	return ref.Tag, nil
}

func addTags() site.Command {
	var only onlyIf
	var move bool
	return site.Command{
		Name: "add", Short: "Give an image that is there more tags",
		Long: "Gives an image that a repository has more tags, all or none; nothing is sent again. Where there is a tag of the name already, it\n" +
			"must point to this image, unless --move says that it may be moved.",
		Example: "  warthesis tag add localhost:7070/timetable/planner:2.4.1 stable 2.4\n  warthesis tag add --move localhost:7070/timetable/planner@sha256:… stable",
		On:      site.OnImage, Args: []site.Arg{{Name: "NAME", Many: true}}, Facts: api.TagsChanged{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&move, "move", false, "move tags that are there already")
			only.addTo(f)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			tags, err := readTags(c.Args...)
			if err != nil {
				return err
			}
			is, err := only.read()
			if err == nil && is != "" && !move {
				err = term.Usage("--if speaks of tags that are there; it goes with --move")
			}
			if err != nil {
				return err
			}
			found, err := tagsNow(ctx, c, tags)
			if err != nil {
				return err
			}
			changes := make([]api.TagChange, len(tags))
			for i, tag := range tags {
				changes[i] = api.TagChange{Act: "add", Tag: tag, To: c.Image.Target(), If: is}
				if move && found[tag] != "" {
					changes[i].Act = "move"
				}
			}
			return changeTags(ctx, c, changes, "")
		},
	}
}

func moveTag() site.Command {
	var only onlyIf
	return site.Command{
		Name: "move", Short: "Point a tag at another image of its repository",
		Long:    "Points a tag at another image of its repository, named by a tag or a digest. What it pointed to stays, and is in the tag's log.",
		Example: "  warthesis tag move localhost:7070/timetable/planner:stable 2.4.0",
		On:      site.OnImage, Args: []site.Arg{{Name: "TO"}}, Facts: api.TagsChanged{}, Checks: true, Flags: only.addTo,
		Run: only.changing(func(c *site.Call, tag oci.Tag) (api.TagChange, error) {
			to, err := targetIn(c, c.Args[0])
			return api.TagChange{Act: "move", Tag: tag, To: to}, err
		}),
	}
}

// targetIn reads what is named in the repository of the call: a tag, a digest, or a whole
// reference there.
func targetIn(c *site.Call, given string) (string, error) {
	if _, err := oci.ParseTag(given); err == nil {
		return given, nil
	}
	if digest, err := oci.ParseDigest(given); err == nil {
		return digest.String(), nil
	}
	ref, err := c.R.Target(given)
	if err != nil {
		return "", term.Usage("%q is neither a tag nor a digest of %s", given, c.Place)
	}
	if ref.Registry != c.Registry || ref.Name != c.Place.Name {
		return "", term.Usage("%s is in another repository than %s; a tag points within its own", given, c.Place)
	}
	return ref.Target(), nil
}

func renameTag() site.Command {
	var only onlyIf
	return site.Command{
		Name: "rename", Short: "Give a tag another name",
		Example: "  warthesis tag rename localhost:7070/timetable/planner:stabel stable",
		On:      site.OnImage, Args: []site.Arg{{Name: "NAME"}}, Facts: api.TagsChanged{}, Checks: true, Flags: only.addTo,
		Run: only.changing(func(c *site.Call, tag oci.Tag) (api.TagChange, error) {
			both, err := readTags(string(tag), c.Args[0])
			if err != nil {
				return api.TagChange{}, err
			}
			return api.TagChange{Act: "rename", Tag: tag, Name: both[1]}, nil
		}),
	}
}

func removeTags() site.Command {
	var only onlyIf
	var reason string
	return site.Command{
		Name: "remove", Short: "Remove tags; the images stay; it can be undone",
		Long:    "Removes one or more tags of a repository, all or none; what they point to stays, and can be reached by its digest. Each must still point to what was shown.",
		Example: "  warthesis tag remove localhost:7070/timetable/planner:2.4.0-rc.1 2.4.0-rc.2",
		On:      site.OnImage, Args: []site.Arg{{Name: "NAME", Optional: true, Many: true}}, Facts: api.TagsChanged{}, Asks: true, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			only.addTo(f)
			f.StringVar(&reason, "reason", "", "why, for the list of removals")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			tag, err := ofTag(c.Image)
			if err != nil {
				return err
			}
			tags, err := readTags(append([]string{string(tag)}, c.Args...)...)
			if err != nil {
				return err
			}
			is, err := only.read()
			if err != nil {
				return err
			}
			found, err := tagsNow(ctx, c, tags)
			if err != nil {
				return err
			}
			changes := make([]api.TagChange, len(tags))
			said := make([]string, len(tags))
			for i, tag := range tags {
				if found[tag] == "" {
					return oci.Errorf(oci.CodeManifestUnknown, "there is no tag %s in %s; list its tags with %s", tag, c.Place, c.Self("list", c.Place.String()))
				}
				changes[i] = api.TagChange{Act: "remove", Tag: tag, If: found[tag]}
				if is != "" {
					changes[i].If = is
				}
				said[i] = fmt.Sprintf("%s (%s)", tag, term.Short(found[tag]))
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove from %s: %s? The images stay.", c.Place, strings.Join(said, ", "))); err != nil {
				return err
			}
			return changeTags(ctx, c, changes, reason)
		},
	}
}

// changeTags changes tags and tells what they pointed to before and after.
func changeTags(ctx context.Context, c *site.Call, changes []api.TagChange, reason string) error {
	answer, err := c.ChangeTags(ctx, c.Place.Name, api.TagChanges{Changes: changes, Reason: reason})
	if errors.Is(err, api.ErrOtherMake) {
		answer.Changes, err = changeByStandard(ctx, c, changes)
	}
	done := answer.Changes
	if len(done) == 0 {
		return err
	}
	return errors.Join(c.Tell(answer, func() {
		w := c.T.Table("Tag", "Before", "After", "")
		for _, change := range done {
			w.Row(change.Tag, shortOrNone(change.Before), shortOrNone(change.After), wordsOf(change))
		}
		w.Draw()
		if answer.Removal != 0 {
			sayUndo(c, answer.Removal)
			return
		}
		if last := done[len(done)-1]; err == nil && last.Before != "" && last.Before != last.After {
			act := c.Self("tag", "move", c.Place.String()+":"+string(last.Tag), last.Before.String())
			if last.After == "" {
				act = c.Self("tag", "add", c.Place.String()+"@"+last.Before.String(), string(last.Tag))
			}
			c.T.Hint("\nTo put it back:  %s", act)
		}
	}), err)
}

func shortOrNone(d oci.Digest) string {
	if d == "" {
		return "-"
	}
	return term.Short(d)
}

func wordsOf(change api.TagChanged) string {
	switch {
	case change.Act == "rename":
		return "is called " + string(change.Name) + " now"
	case change.After == "":
		return "removed"
	case change.Before == "":
		return "added"
	case change.Before == change.After:
		return "was there already"
	}
	return "moved"
}

func logTags() site.Command {
	var limit int
	return site.Command{
		Name: "log", Short: "Show what a tag pointed to, when and by whom",
		Long:    "Shows what a tag pointed to, from when to when, who moved it and how, the newest first; also of a tag that is gone. Of a repository it\nshows the moves of all its tags.",
		Example: "  warthesis tag log localhost:7070/timetable/planner:stable\n  warthesis tag log localhost:7070/timetable/planner --limit 20",
		On:      site.OnTags, Facts: []api.TagMove{},
		Flags: func(f *pflag.FlagSet) { term.Number(f, &limit, "limit", 50, 1, 1000, "how many moves") },
		Run: func(ctx context.Context, c *site.Call) error {
			if c.Image.Digest != "" {
				return term.Usage("%s names a digest, which never moves; name a tag or the repository", c.Image)
			}
			list, err := c.TagLog(ctx, c.Place.Name, c.Image.Tag, 0, limit)
			if errors.Is(err, api.ErrOtherMake) {
				return oci.Errorf(oci.CodeUnsupported, "%s is no Warthesis registry: it does not tell what its tags pointed to before", c.Registry)
			}
			if err != nil {
				return err
			}
			return c.Tell(list.Moves, func() { drawLog(c, list) })
		},
	}
}

func drawLog(c *site.Call, list api.TagMoveList) {
	if len(list.Moves) == 0 {
		c.T.Say("%s never was a tag, and nothing is in its log", c.Image)
		return
	}
	w := c.T.Table("Since", "Tag", "Points to", "Until", "By", "How", "Still here")
	for _, m := range list.Moves {
		points, until, here := "removed", "-", ""
		if m.To != "" {
			points, until, here = term.Short(m.To), "still", term.YesNo(m.There)
		}
		if m.Until != nil {
			until = term.When(m.Until)
		}
		by := term.OrDash(m.By)
		if m.Token != "" {
			by += " by " + m.Token
		}
		w.Row(term.When(&m.At), m.Tag, points, until, by, m.Origin, here)
	}
	w.Draw()
	if list.Next != 0 {
		c.T.Hint("There are older moves; show more of them with --limit")
	}
	for _, m := range list.Moves {
		if m.Until != nil && m.There && m.To != list.Moves[0].To {
			act := c.Self("tag", "move", c.Place.String()+":"+string(m.Tag), m.To.String())
			if list.Moves[0].To == "" {
				act = c.Self("tag", "add", c.Place.String()+"@"+m.To.String(), string(m.Tag))
			}
			if c.Image.Tag != "" {
				c.T.Hint("\nTo put it back to what it was %s:  %s", term.When(&m.At), act)
			}
			return
		}
	}
}
