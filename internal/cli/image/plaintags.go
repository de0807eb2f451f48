package image

import (
	"context"
	"errors"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// tagsNow returns what tags of the call's repository point to, by the standard's
// protocol: "" for those that are not there.
func tagsNow(ctx context.Context, c *site.Call, tags []oci.Tag) (map[oci.Tag]oci.Digest, error) {
	client, err := c.R.Peer(c.Registry)
	if err != nil {
		return nil, err
	}
	found := map[oci.Tag]oci.Digest{}
	for _, tag := range tags {
		d, err := client.Resolve(ctx, c.Place.Name, string(tag))
		if err != nil && !errors.Is(err, oci.CodeManifestUnknown) {
			return nil, err
		}
		found[tag] = d.Digest
	}
	return found, nil
}

// changeByStandard changes tags at a registry of another make, as far as the standard
// goes: one after the other, by pushing manifests again. It returns what was done when it
// fails in the middle.
func changeByStandard(ctx context.Context, c *site.Call, changes []api.TagChange) (done []api.TagChanged, err error) {
	client, err := c.R.Peer(c.Registry)
	if err != nil {
		return nil, err
	}
	for _, change := range changes {
		now, err := tagsNow(ctx, c, []oci.Tag{change.Tag})
		if err != nil {
			return done, err
		}
		changed := api.TagChanged{TagChange: change, Before: now[change.Tag]}
		if changed.After, err = changeOneByStandard(ctx, c, client, changed); err != nil {
			return done, err
		}
		done = append(done, changed)
	}
	c.T.Warn("%s is no Warthesis registry: the changes were made one after the other, and a change that somebody else makes in the same moment may be lost", c.Registry)
	return done, nil
}

func changeOneByStandard(ctx context.Context, c *site.Call, client *peer.Client, change api.TagChanged) (oci.Digest, error) {
	name := c.Place.Name
	switch {
	case change.Act != "add" && change.Before == "":
		return "", oci.Errorf(oci.CodeManifestUnknown, "there is no tag %s in %s", change.Tag, c.Place)
	case change.If != "" && change.If != change.Before:
		return "", oci.Errorf(oci.CodeTagMoved, "the tag %s of %s points to %s now, not to %s; it was not changed", change.Tag, c.Place, change.Before, change.If)
	case change.Act == "remove":
		return "", client.DeleteTag(ctx, name, change.Tag, change.Before)
	}
	tag, target := change.Tag, change.To
	if change.Act == "rename" {
		tag, target = change.Name, string(change.Tag)
		there, err := tagsNow(ctx, c, []oci.Tag{tag})
		if err != nil {
			return "", err
		}
		if there[tag] != "" {
			return "", oci.Errorf(oci.CodeInUse, "there is a tag %s in %s already; take another name", tag, c.Place)
		}
	}
	d, raw, err := client.Manifest(ctx, name, target)
	if err != nil {
		return "", err
	}
	is := change.Before
	switch {
	case change.Act == "add" && is != "" && is != d.Digest:
		return "", oci.Errorf(oci.CodeInUse, "there is a tag %s in %s already, which points to %s; --move moves it", tag, c.Place, is)
	case change.Act == "add" && is == d.Digest:
		return d.Digest, nil
	case change.Act == "rename":
		is = ""
	}
	if err := client.MoveTag(ctx, name, tag, d, raw, is); err != nil || change.Act != "rename" {
		return d.Digest, err
	}
	if err := client.DeleteTag(ctx, name, change.Tag, change.Before); err != nil {
		said := strings.TrimSuffix(err.Error(), ".")
		return "", oci.Errorf(oci.CodeUnsupported, "%s has the tag %s now as well, and %s stays: %s", c.Place, tag, change.Tag, said)
	}
	return d.Digest, nil
}
