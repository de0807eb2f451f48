package image

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

func listCommand() site.Command {
	var sort, contains, prefix, pattern string
	var wide, tags bool
	return site.Command{
		Name: "list", Group: term.GroupLook, Short: "List the repositories of a registry or a namespace, or the tags of a repository",
		Long: "Lists repositories, or the tags of a repository. --output json has all fields of either; of a registry of another make it has the names.\n" +
			"REGISTRY/NAMESPACE lists the repositories of the namespace; with --tags the tags of the repository that is called as the namespace is.",
		Example: "  warthesis list localhost:7070\n  warthesis list localhost:7070/timetable\n  warthesis list localhost:7070/timetable/planner --wide",
		On:      site.OnWhere, Facts: []api.Repository{}, Or: []api.Tag{},
		Flags: func(f *pflag.FlagSet) {
			term.Choice(f, &sort, "sort", "name", "name, or change for what changed last first, or of tags version for the newest version first", "name", "change", "version")
			f.StringVar(&contains, "contains", "", "only names with this text in them")
			f.StringVar(&prefix, "prefix", "", "of tags, only those that begin with this")
			f.StringVar(&pattern, "pattern", "", "of tags, only those that a pattern means: * is any text; <version>, <release> and <commit> are kinds")
			f.BoolVar(&wide, "wide", false, "of tags, also the address to copy, with the digest in it, and why each is sealed")
			f.BoolVar(&tags, "tags", false, "of REGISTRY/NAMESPACE: the tags of the repository of that name")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			page := api.List{Sort: sort, Contains: contains, Prefix: prefix, Pattern: pattern, Limit: site.PageSize}
			meant, err := rule.ParsePattern("*:" + pattern)
			if pattern != "" && err != nil {
				return term.Usage("--pattern: %w", err)
			}
			if !c.Place.IsNamespace() {
				if err := c.Idle("it is for REGISTRY/NAMESPACE", "tags"); err != nil {
					return err
				}
			}
			err = listBySelf(ctx, c, page, tags || strings.Contains(string(c.Place.Name), "/"), wide)
			if !errors.Is(err, api.ErrOtherMake) {
				return err
			}
			if err := c.Idle("only a Warthesis registry tells that", "sort", "wide", "tags"); err != nil {
				return err
			}
			return listByStandard(ctx, c, page, meant)
		},
	}
}

// listBySelf lists as a Warthesis registry can.
func listBySelf(ctx context.Context, c *site.Call, page api.List, tags, wide bool) error {
	if tags {
		return listTags(ctx, c, page, wide)
	}
	if err := c.Idle("it is for the tags of a repository", "wide", "prefix", "pattern"); err != nil {
		return err
	}
	if page.Sort == "version" {
		return term.Usage("--sort version is for the tags of a repository")
	}
	err := site.ListRepositories(ctx, c, page)
	if errors.Is(err, oci.CodeNameUnknown) && !errors.Is(err, api.ErrOtherMake) && c.Place.IsNamespace() {
		return oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s at %s, or none that you may see", c.Place.Name, c.Registry)
	}
	return err
}

// listByStandard lists what any registry can tell: names, by the distribution protocol
// alone (distribution-spec, "Listing Tags"), and repositories where there is a catalogue.
func listByStandard(ctx context.Context, c *site.Call, page api.List, meant rule.Pattern) error {
	client, err := c.R.Peer(c.Registry)
	if err != nil {
		return err
	}
	ask, what := client.Repositories, "repositories"
	if c.Place.Name != "" {
		what = "tags"
		ask = func(ctx context.Context, after string) ([]string, string, error) {
			return client.Tags(ctx, c.Place.Name, after)
		}
	}
	all, err := site.EveryPage(page, func(page api.List) ([]string, string, error) { return ask(ctx, page.After) })
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(name string) bool {
		return !strings.Contains(strings.ToLower(name), strings.ToLower(page.Contains)) || !strings.HasPrefix(name, page.Prefix) ||
			page.Pattern != "" && !meant.Matches(rule.Name{Repository: c.Place.Name, Tag: oci.Tag(name)})
	})
	return c.Tell(all, func() {
		for _, name := range all {
			c.T.Say("%s", term.OneLine(name))
		}
		c.T.Warn("%d %s. This is no Warthesis registry: digests, sizes and times of a list only that can tell. One digest:  %s", len(all), what, c.Self("identify", "REFERENCE"))
	})
}

func listTags(ctx context.Context, c *site.Call, page api.List, wide bool) error {
	all, err := site.EveryPage(page, func(page api.List) ([]api.Tag, string, error) {
		list, err := c.Tags(ctx, c.Place.Name, page)
		return list.Tags, list.Next, err
	})
	if err != nil {
		return err
	}
	return c.Tell(all, func() {
		if len(all) == 0 {
			c.T.Say("No tags%s in %s", site.Matching(page), c.Place)
			return
		}
		titles := []string{"Tag", "Digest", "Size", "Moved", "By", "Pulled", "Sealed", "Platforms"}
		inPart := slices.ContainsFunc(all, func(t api.Tag) bool { return t.Missing > 0 })
		if inPart {
			titles = append(titles, "Here")
		}
		if wide {
			titles = append(titles, "Address", "Sealed because")
		}
		w := c.T.Table(titles...)
		w.Right("Size")
		if wide {
			w.Whole()
		}
		for _, tag := range all {
			row := []any{tag.Name, term.Short(tag.Digest), term.Size(tag.Size), term.When(&tag.MovedAt), term.OrDash(tag.MovedBy), term.When(tag.PulledAt), sealOf(tag), platformsOrType(tag)}
			if inPart {
				row = append(row, hereOf(tag))
			}
			if wide {
				row = append(row, oci.Reference{Registry: c.Registry, Name: c.Place.Name, Tag: tag.Name, Digest: tag.Digest}, whySealed(tag))
			}
			w.Row(row...)
		}
		w.Draw()
		if inPart {
			c.T.Hint("\nWhat is here in part comes from the peer when it is pulled")
		}
		if !wide {
			c.T.Hint("\nThe addresses to copy, with the whole digest, and why tags are sealed: --wide; one digest alone:  %s", c.Self("identify", c.Place.String()+":"+string(all[0].Name)))
		}
	})
}

// hereOf says whether all of what a tag points to is here.
func hereOf(tag api.Tag) string {
	if tag.Missing == 0 {
		return "whole"
	}
	return fmt.Sprintf("all but %d", tag.Missing)
}

// sealOf says shortly why a tag is sealed.
func sealOf(tag api.Tag) string {
	switch {
	case tag.Seal == nil:
		return "-"
	case tag.Seal.Rule == "":
		return "by hand"
	}
	return "by rule"
}

// whySealed says in a sentence why a tag is sealed.
func whySealed(tag api.Tag) string {
	if tag.Seal == nil {
		return ""
	}
	return tag.Seal.Why
}

// platformsOrType says what a tag's image runs on, or what else it is.
func platformsOrType(tag api.Tag) string {
	if len(tag.Platforms) > 0 {
		return strings.Join(tag.Platforms, ", ")
	}
	return tag.ArtifactType
}
