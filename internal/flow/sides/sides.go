// Package sides lists what two registries have between which something travels: this one, and
// a peer.
package sides

import (
	"context"
	"errors"
	"strings"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/taglist"
	"warthesis/internal/registry"
)

// Side is a registry as it is listed.
type Side interface {
	// Names visits the repositories.
	Names(ctx context.Context, visit func(oci.Name) error) error
	// Tags lists those of a repository, none where there is no such repository. Where asking
	// for the digests of all takes no more, they are known: asked is false then.
	Tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error)
	// Digest is what a tag points to, "" for no such tag.
	Digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error)
}

// Here is this registry.
type Here struct{ Records *record.Store }

// PageHere is how much is read of the records at a time.
const PageHere = 1000

// Each reads a list of the records page by page, behind the key of the last row, and visits
// its rows.
func Each[Row any](read func(after string) ([]Row, error), visit func(Row) (key string, err error)) error {
	for after := ""; ; {
		page, err := read(after)
		if err != nil {
			return err
		}
		for _, row := range page {
			if after, err = visit(row); err != nil {
				return err
			}
		}
		if len(page) < PageHere {
			return nil
		}
	}
}

func (h Here) Names(ctx context.Context, visit func(oci.Name) error) error {
	return Each(func(after string) ([]oci.Name, error) {
		return h.Records.RepositoryNames(ctx, after, PageHere, record.Seen{Everything: true})
	}, func(name oci.Name) (string, error) { return string(name), visit(name) })
}

func (h Here) Tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error) {
	found, err := h.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	err = Each(func(after string) ([]taglist.Digest, error) {
		return h.Records.View(ctx).TagDigests(found.ID, after, PageHere)
	}, func(t taglist.Digest) (string, error) {
		all = append(all, peer.TagDigest(t))
		return string(t.Name), nil
	})
	return all, false, err
}

func (h Here) Digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	found, err := h.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	digest, err := h.Records.TagTarget(ctx, found.ID, tag)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil
	}
	return digest, err
}

// There is a peer; names are below its prefix.
type There struct {
	Client *peer.Client
	Is     peers.Peer
}

func (t There) Names(ctx context.Context, visit func(oci.Name) error) error {
	within := ""
	if t.Is.Prefix != "" {
		within = string(t.Is.Prefix) + "/"
	}
	count := 0
	for after := within; ; {
		page, next, err := t.Client.Repositories(ctx, after)
		if err != nil {
			return err
		}
		for _, text := range page {
			below, meant := strings.CutPrefix(text, within)
			name, err := oci.ParseName(below)
			if !meant || err != nil {
				continue
			}
			if err := visit(name); err != nil {
				return err
			}
		}
		if count += len(page); count > mostNames {
			return oci.Errorf(oci.CodeUnsupported, "the peer %s lists more than %d repositories; name those that are meant", t.Is.Name, mostNames)
		}
		if next == "" || within != "" && next > within && !strings.HasPrefix(next, within) {
			return nil
		}
		if next <= after {
			return oci.Errorf(oci.CodeUnsupported, "the peer %s lists the same repositories again and again", t.Is.Name)
		}
		after = next
	}
}

// mostTags is how many tags of one repository are compared, mostNames how many repositories
// are looked through.
const (
	mostTags  = 1_000_000
	mostNames = 1_000_000
)

func (t There) Tags(ctx context.Context, name oci.Name) (all []peer.TagDigest, asked bool, err error) {
	at := t.Is.Repository(name)
	for after := ""; ; {
		var next string
		if t.Is.Can.Digests {
			var page []peer.TagDigest
			page, next, err = t.Client.Digests(ctx, at, after)
			for _, one := range page {
				_, noTag := oci.ParseTag(string(one.Name))
				_, noDigest := oci.ParseDigest(one.Digest.String())
				if noTag == nil && noDigest == nil {
					all = append(all, one)
				}
			}
		} else {
			var page []string
			page, next, err = t.Client.Tags(ctx, at, after)
			for _, text := range page {
				// What lists referrers is no tag of anybody's.
				if tag, err := oci.ParseTag(text); err == nil && !peer.IsReferrersTag(tag) {
					all = append(all, peer.TagDigest{Name: tag})
				}
			}
		}
		switch {
		case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown):
			return nil, false, nil
		case err != nil:
			return nil, false, err
		case next == "":
			return all, !t.Is.Can.Digests, nil
		case next == after || len(all) > mostTags:
			return nil, false, oci.Errorf(oci.CodeUnsupported, "the peer %s lists the tags of %s without end", t.Is.Name, at)
		}
		after = next
	}
}

func (t There) Digest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	return t.Client.TagDigest(ctx, t.Is.Repository(name), tag)
}

// questionsAtOnce is how many tags of a peer are asked for at the same time.
const questionsAtOnce = 16

// Digests asks for what tags point to, some at a time.
func Digests(ctx context.Context, of Side, names []At) (all []oci.Digest, err error) {
	all = make([]oci.Digest, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(questionsAtOnce)
	for i, at := range names {
		group.Go(func() (err error) {
			all[i], err = of.Digest(ctx, at.Name, at.Tag)
			return err
		})
	}
	return all, group.Wait()
}

// HoldHere lets a repository hold a blob that another one here has, without transfer, once the
// peer, by its number, said that it has it in the repository that is copied, and has sent all
// its bytes before: neither knowing a digest nor saying so is a right. It reports whether it is
// held.
func HoldHere(ctx context.Context, reg *registry.Registry, client *peer.Client, of int64, from, to oci.Name, d oci.Descriptor) (bool, error) {
	if !reg.HasContent(ctx, d.Digest, d.Size) {
		return false, nil
	}
	if may, err := reg.MayHoldHere(ctx, of, d.Digest, record.Seen{Nothing: true}); err != nil || !may {
		return false, err
	}
	if has, err := client.HasBlob(ctx, from, d); err != nil || !has {
		return false, err
	}
	return reg.HoldHere(ctx, to, d.Digest, d.Size)
}

// At is a tag of a repository.
type At struct {
	Name oci.Name
	Tag  oci.Tag
}
