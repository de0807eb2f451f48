package bring

import (
	"context"
	"encoding/json"
	"io"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/taglog"
	"warthesis/internal/registry"
)

// repository compares one repository and, where it is to, brings what differs.
func (r *bringing) repository(ctx context.Context, p pair, brings bool) Repository {
	found := Repository{From: p.from, To: p.to}
	fails := func(err error) Repository {
		found.Why = err.Error()
		return found
	}
	there, asked, err := r.src.Tags(ctx, p.from)
	if err != nil {
		return fails(err)
	}
	if asked {
		if err := r.ask(ctx, p.from, there); err != nil {
			return fails(err)
		}
	}
	mine, _, err := r.here.Tags(ctx, p.to)
	if err != nil {
		return fails(err)
	}
	has := map[oci.Tag]oci.Digest{}
	for _, t := range mine {
		has[t.Name] = t.Digest
	}
	var items []packing.Item
	for _, t := range there {
		if t.Digest == "" {
			// It went since it was listed.
			delete(has, t.Name)
			continue
		}
		found.Tags++
		found.tagOf = t.Name
		is, known := has[t.Name]
		delete(has, t.Name)
		differs := Tag{Repository: p.to, Tag: t.Name, There: t.Digest, Here: is}
		switch {
		case is == t.Digest:
			found.Equal++
			if !brings || r.is.NoReferrers {
				continue
			}
			whole, err := r.hasReferrers(ctx, p, t.Digest)
			if err != nil {
				return fails(err)
			}
			if whole {
				continue
			}
		case !known:
			found.Lacks++
			differs.State = IsLacking
		default:
			ours, err := r.isOurs(ctx, p.to, t.Name)
			if err != nil {
				return fails(err)
			}
			if ours && !r.is.Overwrites {
				found.Ours++
				differs.State = IsOurs
				found.differs = append(found.differs, differs)
				continue
			}
			found.Behind++
			differs.State = IsBehind
		}
		if brings {
			items = append(items, packing.Item{Ref: oci.Reference{Registry: r.peer.Address, Name: p.from, Tag: t.Name, Digest: t.Digest}, Name: p.to, Tag: t.Name})
			continue
		}
		found.differs = append(found.differs, differs)
	}
	for tag, digest := range has {
		found.Extra++
		found.differs = append(found.differs, Tag{Repository: p.to, Tag: tag, State: IsExtra, Here: digest})
	}
	if len(items) > 0 {
		if err := r.carry(ctx, p, items, &found); err != nil {
			return fails(err)
		}
	}
	return found
}

// ask asks for what tags point to that were listed without it.
func (r *bringing) ask(ctx context.Context, name oci.Name, tags []peer.TagDigest) error {
	at := make([]sides.At, len(tags))
	for i, t := range tags {
		at[i] = sides.At{Name: name, Tag: t.Name}
	}
	digests, err := sides.Digests(ctx, r.src, at)
	for i := range digests {
		tags[i].Digest = digests[i]
	}
	return err
}

// isOurs reports whether a tag was last moved by somebody here, and not by what came from the
// peer.
func (r *bringing) isOurs(ctx context.Context, name oci.Name, tag oci.Tag) (bool, error) {
	at, err := r.b.records.Repository(ctx, name)
	if err != nil {
		return false, err
	}
	rows, err := r.b.records.View(ctx).TagLog(at.ID).Read(tag, 0, 1)
	return err == nil && len(rows) > 0 && rows[0].Origin != taglog.Origin(r.peer.Name), err
}

// hasReferrers reports whether what refers to an image, and to its children, at the peer is
// here as well.
func (r *bringing) hasReferrers(ctx context.Context, p pair, digest oci.Digest) (bool, error) {
	to := r.into(p)
	documents := []oci.Digest{digest}
	m, err := r.b.registry.Manifest(ctx, p.to, digest.String())
	if err != nil {
		return false, err
	}
	raw, err := r.b.registry.ManifestBytes(ctx, m)
	if err != nil {
		return false, err
	}
	if parsed, err := oci.ParseManifest(m.MediaType, raw); err == nil {
		for _, child := range parsed.Children {
			documents = append(documents, child.Digest)
		}
	}
	for _, d := range documents {
		all, err := r.src.Client.Referrers(ctx, r.peer.Repository(p.from), d)
		if err != nil {
			return false, err
		}
		for _, one := range all {
			if has, err := to.HasManifest(ctx, p.to, one.Digest); err != nil || !has {
				return false, err
			}
		}
	}
	return true, nil
}

// carry brings images by the engine of copies.
func (r *bringing) carry(ctx context.Context, p pair, items []packing.Item, found *Repository) error {
	c := carry.New(carry.Options{
		From: func(string) (carry.From, error) { return from{r}, nil }, To: r.into(p), NoReferrers: r.is.NoReferrers, Conditions: true, Called: "the peer " + r.peer.Name,
	})
	plan, err := c.Look(ctx, items)
	if err != nil {
		return err
	}
	found.Bytes = plan.New
	if err := c.Copy(ctx, plan); err != nil {
		return err
	}
	if err := c.Verify(ctx, plan); err != nil {
		return err
	}
	for _, i := range plan.Images {
		found.Sent += i.Sent
		switch {
		case i.State == carry.Copied:
			found.Brought++
		case i.Lacks():
			found.Failed++
			found.differs = append(found.differs, Tag{Repository: p.to, Tag: i.Item.Tag, State: IsFailed, There: i.Item.Ref.Digest, Here: i.Was, Why: i.Err.Error()})
		}
	}
	return nil
}

// from is the peer as a source: names are below its prefix.
type from struct{ r *bringing }

func (f from) name(name oci.Name) oci.Name { return f.r.peer.Repository(name) }

func (f from) Manifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error) {
	return f.r.src.Client.Manifest(ctx, f.name(name), target)
}

func (f from) OpenBlob(ctx context.Context, name oci.Name, d oci.Descriptor, offset int64) (io.ReadCloser, int64, error) {
	return f.r.src.Client.OpenBlob(ctx, f.name(name), d, offset)
}

func (f from) Referrers(ctx context.Context, name oci.Name, digest oci.Digest) ([]oci.Descriptor, error) {
	return f.r.src.Client.Referrers(ctx, f.name(name), digest)
}

func (f from) Tags(ctx context.Context, name oci.Name, after string) ([]string, string, error) {
	return f.r.src.Client.Tags(ctx, f.name(name), after)
}

// into is this registry as a destination.
type into struct {
	r *bringing
	p pair
}

func (r *bringing) into(p pair) into { return into{r, p} }

func (t into) HasBlob(ctx context.Context, name oci.Name, d oci.Descriptor) (bool, error) {
	size, err := t.r.b.registry.StatBlob(ctx, name, d.Digest)
	if carry.IsGone(err) {
		return false, nil
	}
	return err == nil && size == d.Size, err
}

func (t into) HasManifest(ctx context.Context, name oci.Name, digest oci.Digest) (bool, error) {
	m, err := t.r.b.registry.Manifest(ctx, name, digest.String())
	if carry.IsGone(err) {
		return false, nil
	}
	return err == nil && m.Missing == 0, err
}

func (t into) TagDigest(ctx context.Context, name oci.Name, tag oci.Tag) (oci.Digest, error) {
	return t.r.here.Digest(ctx, name, tag)
}

// PushBlobFrom takes a blob in. What another repository here holds is held without transfer,
// once the peer said that it has it in the one that is brought.
func (t into) PushBlobFrom(ctx context.Context, name, _ oci.Name, d oci.Descriptor, content io.ReaderAt, told func(n int)) (peer.Outcome, error) {
	reg := t.r.b.registry
	if held, err := sides.HoldHere(ctx, reg, t.r.src.Client, t.r.peer.ID, t.r.peer.Repository(t.p.from), name, d); err != nil || held {
		return peer.Mounted, err
	}
	fetch, err := reg.BeginFetch(ctx, t.r.peer.ID, name, d.Digest, d.Size)
	if err != nil {
		return "", err
	}
	if _, err := fetch.ReadFrom(&counting{io.NewSectionReader(content, 0, d.Size), told}); err != nil {
		fetch.Abandon()
		return "", err
	}
	return peer.Sent, fetch.Finish(ctx, d.Digest)
}

type counting struct {
	io.Reader
	told func(int)
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.told(n)
	return n, err
}

func (t into) PushManifest(ctx context.Context, name oci.Name, d oci.Descriptor, raw []byte, tags []oci.Tag) error {
	_, err := t.r.b.registry.PushManifest(ctx, registry.ManifestPush{Name: name, Digest: d.Digest, MediaType: d.MediaType, Raw: raw, Tags: tags, Origin: record.Origin(t.r.peer.Name)})
	return err
}

func (t into) PlaceTag(ctx context.Context, name oci.Name, tag oci.Tag, d oci.Descriptor, raw []byte, was oci.Digest, _ bool) error {
	_, err := t.r.b.registry.PushManifest(ctx, registry.ManifestPush{
		Name: name, Digest: d.Digest, MediaType: d.MediaType, Raw: raw, Tags: []oci.Tag{tag}, If: registry.If{Digest: was, New: was == ""}, Origin: record.Origin(t.r.peer.Name),
	})
	return err
}

func (t into) Referrers(ctx context.Context, name oci.Name, digest oci.Digest) (all []oci.Descriptor, err error) {
	for after := oci.Digest(""); ; {
		page, more, err := t.r.b.registry.Referrers(ctx, name, digest, "", after)
		if err != nil {
			return nil, err
		}
		all = append(all, page...)
		if !more || len(page) == 0 {
			return all, nil
		}
		after = page[len(page)-1].Digest
	}
}

// propose says which namespaces the import makes, or made, and what may be said of them: what
// the newest image of one of their repositories says of itself.
func (r *bringing) propose(ctx context.Context) {
	const most = 50
	r.mu.Lock()
	defer r.mu.Unlock()
	at := map[string]int{}
	var group errgroup.Group
	group.SetLimit(repositoriesAtOnce)
	for _, one := range r.report.Repositories {
		name := one.To.Namespace()
		n, known := at[name]
		if !known {
			n = len(r.report.Namespaces)
			at[name] = n
			_, there := r.b.records.Rights().Namespace(name)
			r.report.Namespaces = append(r.report.Namespaces, Namespace{Name: name, There: there})
		}
		r.report.Namespaces[n].Repositories++
	}
	for n := range r.report.Namespaces {
		if n == most || !r.o.Preview {
			break
		}
		space := &r.report.Namespaces[n]
		for _, one := range r.report.Repositories {
			if one.To.Namespace() == space.Name && len(one.tagOf) > 0 {
				group.Go(func() error {
					space.Description = r.describes(ctx, one)
					return nil
				})
				break
			}
		}
	}
	// What an image does not say is left out.
	_ = group.Wait()
}

// mostDescription is the longest description that is proposed, in bytes.
const mostDescription = 300

// describes is what an image says of itself (image-spec, "Pre-Defined Annotation Keys").
func (r *bringing) describes(ctx context.Context, one Repository) string {
	name := r.peer.Repository(one.From)
	d, raw, err := r.src.Client.Manifest(ctx, name, string(one.tagOf))
	if err != nil {
		return ""
	}
	m, err := oci.ParseManifest(d.MediaType, raw)
	if err != nil {
		return ""
	}
	said := m.Annotations[v1.AnnotationDescription]
	if said == "" && m.Config != nil && oci.IsImageConfig(m.Config.MediaType) {
		var config v1.Image
		if raw, err := r.src.Client.SmallBlob(ctx, name, *m.Config); err == nil && json.Unmarshal(raw, &config) == nil {
			said = config.Config.Labels[v1.AnnotationDescription]
		}
	}
	return oci.Cut(said, mostDescription)
}
