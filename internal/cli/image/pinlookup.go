package image

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/pin"
	"warthesis/internal/rule"
)

// pinsAtOnce is how many references are looked up at a time.
const pinsAtOnce = 8

// answer is what a registry says of a reference.
type answer struct {
	d     oci.Descriptor
	newer []string
	err   error
}

// tagged is the reference by tag that is looked up.
func tagged(ref oci.Reference) oci.Reference {
	if ref.Tag == "" {
		ref.Tag = pin.DefaultTag
	}
	ref.Digest = ""
	return ref
}

// resolve asks for each reference once, at the same time.
func (p *pinning) resolve(ctx context.Context) error {
	answers := map[oci.Reference]*answer{}
	for i := range p.all {
		one := &p.all[i]
		ref := one.found.Ref
		if one.State == isSkipped {
			continue
		}
		if ref.Tag == "" && ref.Digest != "" {
			one.State, one.Notes = isPinned, []string{"it names no tag, so that it cannot be refreshed"}
			continue
		}
		answers[tagged(ref)] = &answer{}
		if p.peers[ref.Registry] == nil {
			client, err := p.c.R.Peer(ref.Registry)
			if err != nil {
				return err
			}
			p.peers[ref.Registry] = client
		}
	}
	var group errgroup.Group
	group.SetLimit(pinsAtOnce)
	for ref, a := range answers {
		group.Go(func() error {
			client := p.peers[ref.Registry]
			a.d, a.err = client.Resolve(ctx, ref.Name, string(ref.Tag))
			if a.err == nil && p.newer {
				a.newer, a.err = newerOf(ctx, client, ref)
			}
			return nil
		})
	}
	// Each says for itself how it went.
	_ = group.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	for i := range p.all {
		if one := &p.all[i]; one.State == "" {
			p.judge(one, answers[tagged(one.found.Ref)])
		}
	}
	return p.ages(ctx)
}

// mostTagsListed bounds the tags that newer versions are looked for among.
const mostTagsListed = 100_000

func newerOf(ctx context.Context, client *peer.Client, ref oci.Reference) ([]string, error) {
	var names []string
	for after := ""; ; {
		page, next, err := client.Tags(ctx, ref.Name, after)
		if err != nil {
			return nil, err
		}
		names = append(names, page...)
		if next == "" || len(names) > mostTagsListed {
			return rule.Newer(string(ref.Tag), names), nil
		}
		after = next
	}
}

func (p *pinning) judge(one *pinned, a *answer) {
	is := one.found.Ref.Digest
	one.Newer = a.newer
	switch {
	case a.err != nil:
		one.State, one.Notes = isFailed, []string{term.OneLine(a.err.Error())}
		return
	case is == a.d.Digest:
		one.State = isPinned
		return
	case is == "":
		one.State = isUnpinned
	default:
		one.State = isStale
	}
	one.Pinned = one.found.Pinned(a.d.Digest)
}

// ages looks at both ends of each pin that is to be refreshed, each once: how old they are,
// and whether it was one platform of an index that was pinned.
func (p *pinning) ages(ctx context.Context) error {
	made := map[oci.Reference]func() (peer.Made, error){}
	look := func(ref oci.Reference, digest oci.Digest) func() (peer.Made, error) {
		ref.Tag, ref.Digest = "", digest
		if made[ref] == nil {
			made[ref] = sync.OnceValues(func() (peer.Made, error) {
				return p.peers[ref.Registry].Made(ctx, ref.Name, digest.String(), false)
			})
		}
		return made[ref]
	}
	var group errgroup.Group
	group.SetLimit(pinsAtOnce)
	for i := range p.all {
		one := &p.all[i]
		if one.State != isStale {
			continue
		}
		_, to, _ := strings.Cut(one.Pinned, "@")
		was, is := look(one.found.Ref, one.found.Ref.Digest), look(one.found.Ref, oci.Digest(to))
		group.Go(func() error {
			now, err := is()
			if err == nil && !now.At.IsZero() {
				one.Made = &now.At
			}
			before, err := was()
			switch {
			case errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeNameUnknown):
				one.Notes = append(one.Notes, "what was pinned is not there any more")
				return nil
			case err != nil:
				return nil
			case !before.At.IsZero():
				one.WasMade = &before.At
			}
			p.onePlatform(one, before, now)
			return nil
		})
	}
	_ = group.Wait()
	return ctx.Err()
}

// onePlatform warns of a pin to one image of an index.
func (p *pinning) onePlatform(one *pinned, was, is peer.Made) {
	if is.Children == nil || was.Children != nil {
		return
	}
	at := slices.IndexFunc(is.Children, func(d oci.Descriptor) bool { return d.Digest == was.Digest })
	if at < 0 {
		one.Notes = append(one.Notes, fmt.Sprintf("one platform alone was pinned; the tag names an index of %d", len(is.Children)))
		return
	}
	// It is what the tag means, for one platform: whoever wrote that may have meant it.
	one.State, one.Pinned = isPinned, ""
	platform := oci.PlatformString(is.Children[at].Platform)
	one.Notes = append(one.Notes, fmt.Sprintf("it is pinned to %s alone; for all platforms write %s", platform, one.found.Pinned(is.Digest)))
}
