package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/inspect"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/usage"
	"warthesis/internal/registry/touches"
)

// Manifest returns a live manifest by tag or digest as the records have it. It
// fails with CodeManifestUnknown, or CodeNameUnknown for an unknown repository.
func (r *Registry) Manifest(ctx context.Context, name oci.Name, target string) (record.Manifest, error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return record.Manifest{}, err
	}
	digest, err := r.resolve(ctx, found, target)
	if err != nil {
		return record.Manifest{}, err
	}
	m, err := r.records.Manifest(ctx, found.ID, digest)
	if errors.Is(err, record.ErrNotFound) {
		return m, oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no manifest %s", name, target)
	}
	return m, err
}

// resolve returns the digest that a tag or a digest names.
func (r *Registry) resolve(ctx context.Context, found record.Repository, target string) (oci.Digest, error) {
	if strings.Contains(target, ":") {
		return oci.ParseDigest(target)
	}
	tag, err := oci.ParseTag(target)
	if err != nil {
		return "", err
	}
	digest, err := r.records.TagTarget(ctx, found.ID, tag)
	if errors.Is(err, record.ErrNotFound) {
		return "", oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no tag %s", found.Name, tag)
	}
	return digest, err
}

// ShowManifest is StatManifest for those who would not push: the file is not looked at
// again within a second.
func (r *Registry) ShowManifest(m record.Manifest) error {
	now := r.clock.Served()
	if looked, ok := r.looked.Get(m.Digest); ok && now-looked < time.Second {
		return nil
	}
	err := r.StatManifest(m)
	if err == nil {
		r.looked.Add(m.Digest, now)
	}
	return err
}

// StatManifest fails with CodeManifestUnknown where the file of a manifest is gone or
// not what the records say, so that whoever asks before pushing sends it again and
// mends it.
func (r *Registry) StatManifest(m record.Manifest) error {
	if whole, err := r.isWhole(m.Document()); err != nil || whole {
		return err
	}
	return oci.Errorf(oci.CodeManifestUnknown, "the registry's copy of %s is damaged; push it again", m.Digest)
}

// VouchManifest is StatManifest for a caller who may push, and who relies on the answer: an
// image that is not kept by a tag, or was asked for by its digest alone, stays for the
// grace.
func (r *Registry) VouchManifest(ctx context.Context, name oci.Name, m record.Manifest) error {
	r.touches.Say(touches.Key{Repository: m.RepositoryID, Digest: m.Digest}, r.clock.Served(), r.limits.Grace)
	// Asked again then: what was being deleted is not there any longer.
	now, err := r.Manifest(ctx, name, m.Digest.String())
	if err != nil {
		return err
	}
	return r.StatManifest(now)
}

// ManifestBytes returns the bytes of a manifest as they were pushed. They are
// shared: the caller does not change them.
func (r *Registry) ManifestBytes(ctx context.Context, m record.Manifest) ([]byte, error) {
	if raw, ok := r.raw.Get(m.Digest); ok {
		return raw, nil
	}
	f, _, err := r.openContent(ctx, m.Document())
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw := make([]byte, m.Size)
	if _, err := io.ReadFull(f, raw); err != nil {
		slog.Error("a manifest on the disk can't be read", "digest", m.Digest, "error", err)
		r.foundDamaged(ctx, m.Document(), hurts.Unreadable, 0)
		return nil, damaged(m.Digest)
	}
	if oci.DigestOf(m.Digest.Algorithm(), raw) != m.Digest {
		r.foundDamaged(ctx, m.Document(), hurts.Rotten, m.Size)
		return nil, damaged(m.Digest)
	}
	if len(raw) <= rawCacheLimit {
		r.raw.Add(m.Digest, raw)
	}
	return raw, nil
}

// ManifestPush is a manifest as it comes in.
type ManifestPush struct {
	Name oci.Name
	// Tags are pointed at the manifest, in the same change.
	Tags []oci.Tag
	// If is what each tag has to be, unless it points at the manifest already.
	If If
	// Digest is what the sender says it is; empty where it does not say.
	Digest oci.Digest
	// MediaType is what it was sent as; empty where the document says it alone.
	MediaType string
	Raw       []byte
	// Origin is the peer from which it comes, "" for a push.
	Origin record.Origin
}

// PushManifest keeps a manifest byte for byte and points the tags at it, in one
// change that sees every blob and child it names (distribution-spec, "Pushing
// Manifests"). It fails with CodeManifestInvalid, CodeDigestInvalid, CodeTagMoved,
// CodeManifestBlobUnknown, which names all that is missing, and CodeDenied where a tag is
// sealed and points to something else.
func (r *Registry) PushManifest(ctx context.Context, p ManifestPush) (record.Manifest, error) {
	if int64(len(p.Raw)) > r.limits.ManifestBytes {
		return record.Manifest{}, oci.Errorf(oci.CodeManifestTooLarge, "the manifest is larger than the %d KiB that this registry takes", r.limits.ManifestBytes>>10)
	}
	parsed, err := oci.ParseManifest(p.MediaType, p.Raw)
	if err != nil {
		return record.Manifest{}, err
	}
	digest, err := checkedDigest(p)
	if err != nil {
		return record.Manifest{}, err
	}
	to, err := r.target(ctx, p.Name)
	if err != nil {
		return record.Manifest{}, err
	}
	row := record.Manifest{
		Digest: digest, MediaType: parsed.MediaType, ArtifactType: parsed.ArtifactType,
		Size: int64(len(p.Raw)), Annotations: parsed.Annotations, PushedBy: callerOf(ctx).AccountID,
	}
	if parsed.Subject != nil {
		row.Subject = parsed.Subject.Digest
	}
	// Asked here first so that a manifest that is refused leaves no file; what
	// counts is the same question inside the change.
	if row.ContentSize, err = contentSize(r.records.View(ctx), to.id, parsed, row.Size); err != nil {
		return record.Manifest{}, err
	}
	if err := r.checkSeals(ctx, to, p.Tags, digest); err != nil {
		return record.Manifest{}, err
	}
	other, err := r.otherDigest(ctx, p.Name, digest, func(by oci.Algorithm) (oci.Digest, error) { return oci.DigestOf(by, p.Raw), nil })
	if err != nil {
		return record.Manifest{}, err
	}
	var unpacked []oci.Digest
	row.Platforms, row.Labels, unpacked = r.readConfig(ctx, p.Name, parsed)
	err = r.arrive(ctx, arrival{
		// A manifest is small enough to be read each time that it comes.
		kind: "push-manifest", digest: digest, size: row.Size, isWhole: r.isRight,
		place: func() (blob.Place, error) { return r.blobs.PlaceBytes(newID(), digest, p.Raw) }, drop: func() {},
		accept: func(tx *record.Tx, document record.Blob) (err error) {
			if row, err = acceptManifest(ctx, tx, to, p, parsed, row, document); err != nil {
				return err
			}
			in, err := tx.LiveRepository(row.RepositoryID)
			if err == nil {
				err = errors.Join(checkOther(tx, in.NamespaceID, other), tx.Bans().CheckUnpacked(in.NamespaceID, unpacked...))
			}
			if err != nil || len(unpacked) == 0 {
				return err
			}
			return tx.DiffIDs().Keep(row.RepositoryID, parsed.Config.Digest, unpacked)
		},
	})
	if err == nil {
		r.CountTraffic(callerOf(ctx).AccountID, p.Name, usage.Traffic{Pushes: 1, BytesIn: row.Size})
	}
	return row, r.inWords(ctx, record.Repository{ID: to.id, Name: p.Name}, err)
}

func acceptManifest(ctx context.Context, tx *record.Tx, to target, p ManifestPush, parsed oci.Manifest, row record.Manifest, document record.Blob) (record.Manifest, error) {
	repository, err := to.in(ctx, tx)
	if err != nil {
		return row, err
	}
	if row.ContentSize, err = contentSize(tx.View, repository.ID, parsed, row.Size); err != nil {
		return row, err
	}
	kept, err := tx.KeepManifest(repository, row, document, parsed.Edges())
	if err != nil {
		return row, err
	}
	pushed := event(ctx, record.EventManifestPushed, repository)
	pushed.Digest = kept.Digest
	if err := tx.Log(pushed); err != nil {
		return row, err
	}
	if len(p.Tags) == 0 {
		if err := tx.SettleTags(kept); err != nil {
			return row, err
		}
	}
	by := actor(ctx)
	by.Origin = p.Origin
	for _, tag := range p.Tags {
		if err := p.checkTag(tx, repository, tag, kept.Digest); err != nil {
			return row, err
		}
		if err := moveTag(ctx, tx, repository, tag, kept, by, record.EventTagMoved); err != nil {
			return row, err
		}
	}
	return kept, nil
}

// checkTag fails with CodeTagMoved where a tag is neither as it has to be nor where the
// push puts it.
func (p ManifestPush) checkTag(tx *record.Tx, in record.Repository, tag oci.Tag, to oci.Digest) error {
	if p.If == (If{}) {
		return nil
	}
	is, err := tx.TagTarget(in.ID, tag)
	if err != nil || is == to {
		return err
	}
	return p.If.check(in, tag, is)
}

func checkedDigest(p ManifestPush) (oci.Digest, error) {
	if p.Digest == "" {
		return oci.DigestOf(oci.SHA256, p.Raw), nil
	}
	if actual := oci.DigestOf(p.Digest.Algorithm(), p.Raw); actual != p.Digest {
		return "", oci.Errorf(oci.CodeDigestInvalid, "the manifest was sent as %s and its digest is %s; its bytes were changed on the way or the digest is another manifest's", p.Digest, actual)
	}
	return p.Digest, nil
}

// Missing is the detail of a refusal: one thing that a manifest names and the
// repository lacks.
type Missing struct {
	Relation oci.Relation `json:"relation"`
	Digest   oci.Digest   `json:"digest"`
}

// contentSize checks that the repository has all that a manifest names, and
// returns the size in bytes of all that a full pull brings. A child of an index
// is looked for among manifests, then among blobs: build caches put blobs in
// indexes.
func contentSize(view record.View, repository int64, m oci.Manifest, size int64) (int64, error) {
	needed := slices.DeleteFunc(m.Edges(), func(e oci.Edge) bool {
		return e.Relation == oci.RelationSubject || oci.IsNonDistributable(e.MediaType)
	})
	digests := make([]oci.Digest, len(needed))
	for i, e := range needed {
		digests[i] = e.Digest
	}
	held, err := view.Held(repository, digests)
	if err != nil {
		return 0, err
	}
	children := map[oci.Digest]record.Manifest{}
	if m.IsIndex() {
		if children, err = view.Manifests(repository, digests); err != nil {
			return 0, err
		}
	}
	total := size
	counted := make(map[oci.Digest]bool, len(needed))
	var missing []Missing
	for _, e := range needed {
		there, ok := held[e.Digest]
		brings := there
		if child, isChild := children[e.Digest]; isChild && child.Missing == 0 {
			there, brings, ok = child.Size, child.ContentSize, true
		}
		switch {
		case !ok:
			missing = append(missing, Missing{e.Relation, e.Digest})
		case there != e.Size:
			return 0, oci.Errorf(oci.CodeManifestInvalid, "the manifest says that its %s %s has %d bytes; the one here has %d", e.Relation, e.Digest, e.Size, there)
		case !counted[e.Digest]:
			counted[e.Digest] = true
			total += brings
		}
	}
	if len(missing) > 0 {
		return 0, whyMissing(view, repository, missing)
	}
	return total, nil
}

// whyMissing says that what is banned will not come, and of all else that it lacks.
func whyMissing(view record.View, repository int64, missing []Missing) error {
	in, err := view.LiveRepository(repository)
	if err != nil && !errors.Is(err, record.ErrNotFound) {
		return err
	}
	digests := make([]oci.Digest, len(missing))
	for i, m := range missing {
		digests[i] = m.Digest
	}
	if err := view.Bans().Check(in.NamespaceID, digests...); err != nil {
		return err
	}
	return missingError(missing)
}

func missingError(missing []Missing) error {
	named := make([]string, 0, 3)
	for _, m := range missing[:min(3, len(missing))] {
		named = append(named, fmt.Sprintf("%s %s", m.Relation, m.Digest))
	}
	more := ""
	if len(missing) > len(named) {
		more = fmt.Sprintf(" and %d more", len(missing)-len(named))
	}
	return &oci.Error{
		Code:    oci.CodeManifestBlobUnknown,
		Message: fmt.Sprintf("the manifest names what this repository does not have: %s%s; push that first", strings.Join(named, ", "), more),
		Detail:  missing,
	}
}

// readConfig returns what the manifest runs on, for lists, its labels, for rules, and the
// digests of its layers unpacked, for searches: an index says the first itself, an image both in its config. It is
// a help for readers, so that a config that cannot be read is no error.
func (r *Registry) readConfig(ctx context.Context, name oci.Name, m oci.Manifest) (platforms string, labels record.Labels, unpacked []oci.Digest) {
	if m.IsIndex() {
		var all []string
		for _, child := range m.Children {
			if s := oci.PlatformString(child.Platform); s != "" && s != "unknown/unknown" && !slices.Contains(all, s) {
				all = append(all, s)
			}
		}
		return strings.Join(all, " "), nil, nil
	}
	config, err := r.ImageConfig(ctx, name, m)
	if err != nil {
		return "", nil, nil
	}
	return oci.PlatformString(inspect.Platform(config)), inspect.Labels(config), inspect.DiffIDs(config)
}

// ImageConfig reads the config of a container image that the repository holds.
func (r *Registry) ImageConfig(ctx context.Context, name oci.Name, m oci.Manifest) (inspect.Config, error) {
	if m.Config == nil || !oci.IsImageConfig(m.Config.MediaType) || m.Config.Size > inspect.ConfigLimit {
		return inspect.Config{}, oci.Errorf(oci.CodeUnsupported, "the manifest has no image configuration")
	}
	f, size, err := r.OpenBlob(ctx, name, m.Config.Digest)
	if err != nil {
		return inspect.Config{}, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, min(size, inspect.ConfigLimit)))
	if err != nil {
		return inspect.Config{}, err
	}
	return inspect.ReadConfig(raw)
}
