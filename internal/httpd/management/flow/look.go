package flow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/inspect"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/rule"
)

// peerRefusal translates what a peer refused: that it does not let us in is not that the
// caller is not let in here.
func peerRefusal(is peers.Peer, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeBlobUnknown):
		return huma.Error404NotFound(fmt.Sprintf("the peer %s: %v", is.Name, err))
	case errors.Is(err, oci.CodeTagMoved):
		return huma.Error412PreconditionFailed(fmt.Sprintf("the peer %s: %v", is.Name, err))
	case errors.Is(err, context.Canceled):
		return desk.Refusal(err)
	}
	return huma.Error502BadGateway(fmt.Sprintf("the peer %s: %v", is.Name, err))
}

// sight is what a caller may see of a peer: all of it, or what one namespace uses.
type sight struct {
	all bool
	// namespace is what uses the peer; a name there stands behind the prefix, and here
	// behind the namespace, unless names are the same on both sides.
	namespace, prefix string
	same              bool
	// patterns are asked of names here; none is any.
	patterns rule.Patterns
}

// here returns what a name below the peer's own prefix is called here.
func (s sight) here(name string) (oci.Name, bool) {
	if s.same {
		return oci.Name(name), strings.HasPrefix(name, s.namespace+"/")
	}
	if s.prefix != "" {
		below, is := strings.CutPrefix(name, s.prefix+"/")
		if !is {
			return "", false
		}
		name = below
	}
	return oci.Name(s.namespace + "/" + name), true
}

// repository reports whether a repository is in sight.
func (s sight) repository(name string) bool {
	here, is := s.here(name)
	return s.all || is && (len(s.patterns) == 0 || slices.ContainsFunc(s.patterns, func(p rule.Pattern) bool { return rule.MatchText(p.Repository(), string(here)) }))
}

// tag reports whether a tag of a repository is in sight. Digests are where their
// repository is.
func (s sight) tag(name, target string) bool {
	here, is := s.here(name)
	switch {
	case s.all:
		return true
	case !is || !s.repository(name):
		return false
	case len(s.patterns) == 0 || strings.Contains(target, ":"):
		return true
	}
	return s.patterns.Match(rule.Name{Repository: here, Tag: oci.Tag(target)})
}

// sights are several, of which one is enough.
type sights []sight

func (all sights) repository(name string) bool {
	return slices.ContainsFunc(all, func(s sight) bool { return s.repository(name) })
}

func (all sights) tag(name, target string) bool {
	return slices.ContainsFunc(all, func(s sight) bool { return s.tag(name, target) })
}

// into returns a peer into which the caller may look, a client of it, and what of it the
// caller may see. repository, where it is given, is what is looked at.
func (d *door) into(ctx context.Context, name, repository string) (is peers.Peer, client *peer.Client, seen sights, err error) {
	c := callers.From(ctx)
	is, err = d.Records.View(ctx).Peers().Get(name)
	if err == nil {
		seen, err = d.sights(ctx, c, is)
	}
	if err != nil && !errors.Is(err, peers.ErrNone) {
		return is, nil, nil, desk.Refusal(err)
	}
	if len(seen) == 0 {
		// Whoever may look into no peer learns nothing of which there are.
		if err := d.Access.Admin(c, "look into peers that no namespace of theirs uses"); err != nil {
			return is, nil, nil, desk.Refusal(err)
		}
	}
	if err != nil {
		return is, nil, nil, refusal(err)
	}
	if repository != "" && !seen.repository(repository) {
		return is, nil, nil, desk.Refusal(oci.Errorf(oci.CodeDenied, "no namespace of yours uses %s of the peer %s: you may look at what one of them follows or is copied to", repository, name))
	}
	if client, err = d.Peers.Client(is); err != nil {
		return is, nil, nil, peerRefusal(is, err)
	}
	return is, client, seen, nil
}

// sights returns what of a peer the caller may see: all for admins, and what namespaces use
// that the caller owns.
func (d *door) sights(ctx context.Context, c access.Caller, is peers.Peer) (all sights, err error) {
	if c.Account.Admin && c.Whole() {
		return sights{{all: true}}, nil
	}
	owns := func(namespace string) bool {
		if c.Nobody() {
			return false
		}
		v, failed := d.Access.Verdict(ctx, c, oci.Name(namespace+"/"), access.Manage)
		err = errors.Join(err, failed)
		return failed == nil && v.Allowed
	}
	patterns := func(texts []string) (read rule.Patterns) {
		for _, text := range texts {
			p, failed := rule.ParsePattern(text)
			err = errors.Join(err, failed)
			read = append(read, p)
		}
		return read
	}
	view := d.Records.View(ctx)
	followed, failed := view.Follows().All()
	if failed != nil {
		return nil, failed
	}
	for _, f := range followed {
		n, there := d.Records.Rights().NamespaceByID(f.NamespaceID)
		for _, s := range f.Sources {
			if there && s.PeerID == is.ID && owns(n.Name) {
				all = append(all, sight{namespace: n.Name, prefix: string(s.Prefix), patterns: patterns(s.Patterns)})
			}
		}
	}
	rules, failed := view.Replication().All()
	for _, row := range rules {
		// Under which other names a rule copies is not told by its namespace.
		if row.PeerID != is.ID || row.Inward || row.Spec.As != "" {
			continue
		}
		for _, pattern := range patterns(row.Spec.Copy) {
			namespace, _, _ := strings.Cut(pattern.Repository(), "/")
			if !strings.Contains(namespace, "*") && owns(namespace) {
				all = append(all, sight{namespace: namespace, same: true, patterns: rule.Patterns{pattern}})
			}
		}
	}
	return all, errors.Join(err, failed)
}

func (d *door) peerRepositories(ctx context.Context, in *struct {
	PeerInput
	After string `query:"after" maxLength:"255" doc:"The next of the page before"`
}) (*desk.Reply[api.PeerNames], error) {
	is, client, seen, err := d.into(ctx, in.Name, "")
	if err != nil {
		return nil, err
	}
	page := api.PeerNames{Names: []string{}}
	after, within := in.After, ""
	if is.Prefix != "" {
		within = string(is.Prefix) + "/"
		after = within + in.After
	}
	// What stands before those that are meant is passed over, some pages at most.
	for range 20 {
		names, next, err := client.Repositories(ctx, after)
		if err != nil {
			return nil, peerRefusal(is, err)
		}
		for _, name := range names {
			if below, meant := strings.CutPrefix(name, within); meant && seen.repository(below) {
				page.Names = append(page.Names, below)
			}
		}
		if page.Next = ""; next == "" || within != "" && next > within && !strings.HasPrefix(next, within) {
			break
		}
		if next == after {
			return nil, huma.Error502BadGateway(fmt.Sprintf("the peer %s lists the same page again and again", is.Name))
		}
		page.Next, after = strings.TrimPrefix(next, within), next
		if len(page.Names) > 0 {
			break
		}
	}
	return desk.OK(page, nil)
}

func (d *door) peerTags(ctx context.Context, in *struct {
	PeerInput
	Repository string `query:"repository" required:"true" maxLength:"255"`
	After      string `query:"after" maxLength:"255" doc:"The next of the page before"`
}) (*desk.Reply[api.PeerNames], error) {
	is, client, seen, err := d.into(ctx, in.Name, in.Repository)
	if err != nil {
		return nil, err
	}
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	page := api.PeerNames{Names: []string{}, Next: in.After}
	// Pages without a tag in sight are passed over, some at most.
	for range 20 {
		names, next, err := client.Tags(ctx, is.Repository(name), page.Next)
		if err != nil {
			return nil, peerRefusal(is, err)
		}
		for _, tag := range names {
			if seen.tag(in.Repository, tag) {
				page.Names = append(page.Names, tag)
			}
		}
		if page.Next == next && next != "" {
			return nil, huma.Error502BadGateway(fmt.Sprintf("the peer %s lists the same page again and again", is.Name))
		}
		if page.Next = next; next == "" || len(page.Names) > 0 {
			break
		}
	}
	return desk.OK(page, nil)
}

// mostPlatforms is how many images of an index are looked into.
const mostPlatforms = 64

func (d *door) peerImage(ctx context.Context, in *struct {
	PeerInput
	Repository string `query:"repository" required:"true" maxLength:"255"`
	Reference  string `query:"reference" required:"true" maxLength:"256" doc:"A tag or a digest"`
}) (*desk.Reply[api.Image], error) {
	is, client, seen, err := d.into(ctx, in.Name, in.Repository)
	if err != nil {
		return nil, err
	}
	below, err := oci.ParseName(in.Repository)
	if err == nil {
		err = oci.CheckTarget(in.Reference)
	}
	if err == nil && !seen.tag(in.Repository, in.Reference) {
		err = outOfSight(in.Repository, in.Reference, is.Name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	name := is.Repository(below)
	found, raw, err := client.Manifest(ctx, name, in.Reference)
	if err != nil {
		return nil, peerRefusal(is, err)
	}
	parsed, err := oci.ParseManifest(found.MediaType, raw)
	if err != nil {
		return nil, peerRefusal(is, err)
	}
	shown := api.Image{
		Repository: below, Digest: found.Digest, MediaType: parsed.MediaType, ArtifactType: parsed.ArtifactType, Size: found.Size, Tags: []oci.Tag{},
		Annotations: desk.OrEmpty(parsed.Annotations), Raw: string(raw), Platforms: []api.PlatformImage{},
	}
	if parsed.Subject != nil {
		shown.Subject = parsed.Subject.Digest
	}
	if !parsed.IsIndex() {
		one := platformOf(ctx, client, name, found, parsed, nil)
		shown.ContentSize, shown.Platforms = one.ContentSize, append(shown.Platforms, one)
		return desk.OK(shown, nil)
	}
	shown.ContentSize = found.Size
	for _, child := range parsed.Children[:min(len(parsed.Children), mostPlatforms)] {
		one := childOf(ctx, client, name, child)
		shown.ContentSize, shown.Platforms = shown.ContentSize+one.ContentSize, append(shown.Platforms, one)
	}
	return desk.OK(shown, nil)
}

// childOf looks into one entry of an index. What cannot be looked into is shown as the
// index has it.
func childOf(ctx context.Context, client *peer.Client, name oci.Name, entry oci.Descriptor) api.PlatformImage {
	bare := api.PlatformImage{Platform: oci.PlatformString(entry.Platform), Digest: entry.Digest, MediaType: entry.MediaType, ContentSize: entry.Size, Layers: []api.Layer{}}
	found, raw, err := client.Manifest(ctx, name, entry.Digest.String())
	if err != nil {
		return bare
	}
	parsed, err := oci.ParseManifest(found.MediaType, raw)
	if err != nil || parsed.IsIndex() {
		return bare
	}
	return platformOf(ctx, client, name, found, parsed, entry.Platform)
}

func platformOf(ctx context.Context, client *peer.Client, name oci.Name, found oci.Descriptor, parsed oci.Manifest, platform *oci.Platform) api.PlatformImage {
	config, err := configOf(ctx, client, name, parsed)
	if err != nil {
		slog.Debug("the configuration of a peer's image cannot be read", "repository", name, "digest", found.Digest, "error", err)
	}
	shown := desk.PlatformImage(parsed, platform, config, err == nil)
	shown.Digest, shown.MediaType, shown.ContentSize = found.Digest, parsed.MediaType, found.Size
	if parsed.Config != nil {
		shown.ContentSize += parsed.Config.Size
	}
	for _, l := range parsed.Layers {
		shown.ContentSize += l.Size
	}
	return shown
}

func configOf(ctx context.Context, client *peer.Client, name oci.Name, parsed oci.Manifest) (inspect.Config, error) {
	if parsed.Config == nil || !oci.IsImageConfig(parsed.Config.MediaType) || parsed.Config.Size > inspect.ConfigLimit {
		return inspect.Config{}, errors.New("there is none")
	}
	raw, err := client.SmallBlob(ctx, name, *parsed.Config)
	if err != nil {
		return inspect.Config{}, err
	}
	return inspect.ReadConfig(raw)
}

func outOfSight(repository, target, peer string) error {
	return oci.Errorf(oci.CodeDenied, "no namespace of yours uses %.300s of %s at the peer %s: you may look at what one of them follows or is copied to", target, repository, peer)
}

// mayChangeTags refuses whoever may not change tags at a peer with the registry's login: that
// takes a registry admin, or an account to which an admin gave that right at this peer. A
// bounded credential is not enough.
func (d *door) mayChangeTags(c access.Caller, is peers.Peer) error {
	if !c.Nobody() && c.Whole() && slices.Contains(is.TagAccounts, c.Account.ID) {
		return nil
	}
	return d.Access.Admin(c, "change tags at the peer "+is.Name+" (an admin can let an account do so: warthesis peer change "+is.Name+" --tag-accounts)")
}

func (d *door) changePeerTag(ctx context.Context, in *struct {
	PeerInput
	Repository string `query:"repository" required:"true" maxLength:"255"`
	Body       api.PeerTag
}) (*desk.None, error) {
	is, client, seen, err := d.into(ctx, in.Name, in.Repository)
	if err != nil {
		return nil, err
	}
	if err := d.mayChangeTags(callers.From(ctx), is); err != nil {
		return nil, desk.Refusal(err)
	}
	below, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	name, b := is.Repository(below), in.Body
	for _, target := range []string{string(b.Tag), b.To, string(b.Rename)} {
		if target != "" && !seen.tag(in.Repository, target) {
			return nil, desk.Refusal(outOfSight(in.Repository, target, is.Name))
		}
	}
	for _, tag := range []oci.Tag{b.Tag, b.Rename} {
		if _, err := oci.ParseTag(string(tag)); err != nil && tag != "" || b.Tag == "" {
			return nil, desk.Refusal(errors.Join(err, oci.Errorf(oci.CodeTagInvalid, "name the tag")))
		}
	}
	if b.To != "" && b.Rename != "" {
		return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "a tag is pointed somewhere or renamed; do one after the other"))
	}
	what, err := changeTag(ctx, client, name, b)
	if err != nil {
		return nil, peerRefusal(is, err)
	}
	c := callers.From(ctx)
	e := c.Event(record.EventPeerTag)
	e.Subject, e.Detail = "peer "+is.Name, fmt.Sprintf("%s of %s %s", b.Tag, name, what)
	return desk.Done(d.Records.Update(ctx, "peer-tag", func(tx *record.Tx) error { return tx.Log(e) }))
}

// changeTag does to a tag at a peer what was asked, and says what that was.
func changeTag(ctx context.Context, client *peer.Client, name oci.Name, b api.PeerTag) (what string, err error) {
	if b.To == "" && b.Rename == "" {
		return "was removed", client.DeleteTag(ctx, name, b.Tag, b.Is)
	}
	from, to, what := b.To, b.Tag, "points to "+b.To
	if b.Rename != "" {
		from, to, what = string(b.Tag), b.Rename, "is called "+string(b.Rename)
	}
	if err := oci.CheckTarget(from); err != nil {
		return "", err
	}
	d, raw, err := client.Manifest(ctx, name, from)
	if err != nil {
		return "", err
	}
	if b.Rename == "" {
		return what, client.MoveTag(ctx, name, to, d, raw, b.Is)
	}
	if b.Is != "" && b.Is != d.Digest {
		return "", oci.Errorf(oci.CodeTagMoved, "the tag %s of %s points to %s now, not to %s; nothing was changed", b.Tag, name, d.Digest, b.Is)
	}
	if _, err := client.Resolve(ctx, name, string(to)); err == nil {
		return "", oci.Errorf(oci.CodeTagMoved, "there is a tag %s in %s already; remove it first, or take another name", to, name)
	}
	if err := client.MoveTag(ctx, name, to, d, raw, ""); err != nil {
		return "", err
	}
	return what, client.DeleteTag(ctx, name, b.Tag, d.Digest)
}
