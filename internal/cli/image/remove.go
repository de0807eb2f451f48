package image

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func removeCommand() site.Command {
	var whole bool
	var reason string
	return site.Command{
		Name: "remove", Group: term.GroupImages, Short: "Remove an image with all its tags; it can be undone",
		Long: "Removes an image, named by a tag or a digest, with all tags that point to it. It says first what goes and what stays. With --whole also the\n" +
			"children of an index that nothing else names go, and what refers to all that goes, such as signatures. To remove a tag alone: tag remove.",
		Example: "  warthesis remove localhost:7070/timetable/planner:2.4.0-rc.1\n  warthesis remove localhost:7070/timetable/planner@sha256:… --whole --reason \"built by mistake\"",
		On:      site.OnImage, Facts: api.RemovedBy{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&whole, "whole", false, "also children that nothing else names, and what refers to all that goes")
			f.StringVar(&reason, "reason", "", "why, for the list of removals")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := url.Values{"repository": {string(c.Place.Name)}, "reference": {c.Image.Target()}}
			if whole {
				query.Set("whole", "true")
			}
			var plan api.RemovalPlan
			err := c.Do(ctx, http.MethodGet, "/api/v1/removal-plan", query, nil, &plan)
			if errors.Is(err, api.ErrOtherMake) {
				return oci.Errorf(oci.CodeUnsupported, "%s is no Warthesis registry: it cannot say what would go, nor bring it back; remove a tag there with  %s", c.Registry, c.Self("tag", "remove", c.Image.String()))
			}
			if err != nil {
				return err
			}
			if len(plan.Sealed) > 0 {
				return oci.Errorf(oci.CodeDenied, "%s", strings.Join(plan.Sealed, "; "))
			}
			if !c.JSON() {
				drawPlan(c, plan)
			}
			question := fmt.Sprintf("Remove %s with %s?", term.Count(plan.ImageCount, "image", "images"), term.Count(plan.TagCount, "tag", "tags"))
			if err := c.Confirm(ctx, question); err != nil {
				return err
			}
			query = api.Given(map[string]string{"repository": string(c.Place.Name), "digest": plan.Images[0].Digest.String(), "reason": reason})
			if whole {
				query.Set("whole", "true")
			}
			var done api.RemovedBy
			if err := c.Do(ctx, http.MethodDelete, "/api/v1/image", query, nil, &done); err != nil {
				return err
			}
			return c.Tell(done, func() {
				c.T.Say("Removed %s", c.Image)
				sayUndo(c, done.Removal)
			})
		},
	}
}

// sayUndo tells how a removal is undone.
func sayUndo(c *site.Call, removal int64) {
	c.T.Hint("\nTo undo it:  %s", c.Self("removal", "undo", c.Registry, strconv.FormatInt(removal, 10)))
}

func drawPlan(c *site.Call, plan api.RemovalPlan) {
	w := c.T.Table("", "What", "Digest", "")
	for _, t := range plan.Tags {
		w.Row("goes", "tag "+string(t.Tag), term.Short(t.Digest), "")
	}
	for _, m := range plan.Images {
		w.Row("goes", "image", term.Short(m.Digest), aboutImage(m))
	}
	for _, k := range plan.Kept {
		what := "child"
		if k.Relation == "subject" {
			what = "what refers to it"
		}
		w.Row("stays", what, term.Short(k.Digest), k.Why)
	}
	w.Draw()
	c.T.Say("It can be undone for about %s; then %s become free.", term.Left(plan.Until), term.Size(plan.Freed))
}

func aboutImage(m api.GoneImage) string {
	if len(m.Platforms) > 0 {
		return strings.Join(m.Platforms, ", ")
	}
	return m.ArtifactType
}

func sealTag() site.Command {
	var reason string
	return site.Command{
		Name: "seal", Short: "Seal a tag by hand: it neither moves nor goes", Example: "  warthesis tag seal localhost:7070/timetable/planner:2.4.1 --reason \"the winter timetable runs on it\"",
		On: site.OnImage, Facts: api.RuleExplanation{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&reason, "reason", "", "why; whoever is refused is told")
		},
		Run: func(ctx context.Context, c *site.Call) error { return changeSeal(ctx, c, true, reason) },
	}
}

func unsealTag() site.Command {
	var reason string
	return site.Command{
		Name: "unseal", Short: "Take the seal that somebody put on a tag away; it takes an owner", On: site.OnImage, Facts: api.RuleExplanation{}, Asks: true,
		Flags: func(f *pflag.FlagSet) { f.StringVar(&reason, "reason", "", "why, for the audit log") },
		Run:   func(ctx context.Context, c *site.Call) error { return changeSeal(ctx, c, false, reason) },
	}
}

func changeSeal(ctx context.Context, c *site.Call, seal bool, reason string) error {
	tag, err := ofTag(c.Image)
	if err != nil {
		return err
	}
	if strings.TrimSpace(reason) == "" {
		return term.Usage("say why with --reason")
	}
	if !seal {
		if err := c.Confirm(ctx, fmt.Sprintf("Unseal %s? It can be moved and removed from then on.", c.Image)); err != nil {
			return err
		}
	}
	if err := c.ChangeSeal(ctx, c.Place.Name, api.SealChange{Tag: tag, Seal: seal, Reason: reason}); err != nil {
		return err
	}
	now, err := c.ExplainRules(ctx, c.Place.Name, tag)
	if err != nil {
		return err
	}
	return c.Tell(now, func() {
		if now.Seal != nil {
			c.T.Say("%s is sealed at %s: %s", c.Image, now.Digest, now.Seal.Why)
			return
		}
		c.T.Say("%s is not sealed any more", c.Image)
	})
}
