package image

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func findCommand() site.Command {
	return site.Command{
		Name: "find", Group: term.GroupLook, Short: "Tell what a hash or a name is: index, image, config, layer, tag",
		Long: "Tells where a name stands, or a digest or its beginning: as an index or an image, as a config (what engines call an image's ID), as a layer,\n" +
			"also as a layer is unpacked, of what, and under which tags. A whole reference may be pasted.",
		Example: "  warthesis find 9f3a1e0c\n  warthesis find localhost:7070 sha256:…",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "HASH|NAME"}}, Facts: api.FindResult{},
		Run: func(ctx context.Context, c *site.Call) error {
			found, err := c.Find(ctx, c.Args[0])
			if errors.Is(err, api.ErrOtherMake) {
				return oci.Errorf(oci.CodeUnsupported, "%s is no Warthesis registry: it does not tell where a digest stands", c.Registry)
			}
			if err != nil {
				return err
			}
			if err := c.Tell(found, func() { drawFound(c, found) }); err != nil {
				return err
			}
			if len(found.Places) == 0 {
				return oci.Errorf(oci.CodeNameUnknown, "nothing at %s that you may see is %s; of a hash at least 6 digits are needed", c.Registry, c.Args[0])
			}
			return nil
		},
	}
}

func drawFound(c *site.Call, found api.FindResult) {
	if len(found.Places) == 0 {
		return
	}
	w := c.T.Table("What", "Digest", "Of", "Tags", "Since", "")
	for _, p := range found.Places {
		of := string(p.Repository)
		if p.Holder != "" && p.Holder != p.Digest {
			of += "@" + term.Short(p.Holder)
		}
		if p.Tag != "" {
			of += ":" + string(p.Tag)
		}
		w.Row(whatIs(p), shortOrNone(p.Digest), of, term.OrDash(strings.Join(p.Tags, ", ")), since(p), aboutPlace(p))
	}
	w.Draw()
	if found.More {
		c.T.Hint("There is more; write more of the name or the digest")
	}
}

func since(p api.Place) string {
	if p.Since == nil {
		return "-"
	}
	return term.When(p.Since)
}

// whatIs says what was found.
func whatIs(p api.Place) string {
	switch p.Relation {
	case "manifest":
		return kindOfManifest(p.MediaType)
	case "config":
		return "config (image ID)"
	case "child":
		return "named by an index"
	case "subject":
		return "referred to"
	case "diff_id":
		return "layer, unpacked"
	}
	return p.Relation
}

func kindOfManifest(mediaType string) string {
	if oci.IsIndex(mediaType) {
		return "index"
	}
	return "image"
}

func aboutPlace(p api.Place) string {
	about := strings.Join(p.Platforms, ", ")
	if about == "" {
		about = p.ArtifactType
	}
	if p.Layer != "" {
		about += " layer " + term.Short(p.Layer)
	}
	for _, t := range p.Twins {
		about += fmt.Sprintf("; same content as %s@%s, other manifest", t.Repository, term.Short(t.Digest))
	}
	return strings.TrimPrefix(about, "; ")
}
