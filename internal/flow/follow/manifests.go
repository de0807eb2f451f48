package follow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/follows"
	"warthesis/internal/registry"
)

// Served is how a question was answered.
type Served struct {
	// Stale says why what is here is served though it may have changed, "" where it is not.
	Stale string
}

// Tag makes a tag of a repository as fresh as is wanted, where its namespace follows peers.
// It fails, with oci.CodeUnavailable, where nothing is here and no peer answers.
func (f *Follower) Tag(ctx context.Context, name oci.Name, tag oci.Tag, by Asker) (s Served, err error) {
	of := f.of(name)
	if of == nil || registry.Hidden(ctx) {
		return s, nil
	}
	here, row, asks, err := f.lookTag(ctx, of, name, tag)
	if err != nil || !asks {
		return s, err
	}
	what := by.names(string(name) + ":" + string(tag))
	if here == "" && f.isAbsent(what) {
		return s, nil
	}
	among, err := f.candidates(ctx, of, name, tag, by)
	if err != nil || len(among) == 0 {
		return s, err
	}
	end, err := f.wait(by.Who)
	if err != nil && here != "" {
		return Served{err.Error()}, nil
	}
	if err != nil {
		return s, err
	}
	defer end()
	asked := f.together(what, by, func(asking context.Context) (string, error) {
		return f.refresh(asking, among, what, name, tag, here, row)
	})
	// Who has something waits no longer than that is worth.
	var enough <-chan time.Time
	if here != "" {
		timer := time.NewTimer(patienceHere + patienceHere/10)
		defer timer.Stop()
		enough = timer.C
	}
	select {
	case done := <-asked:
		stale, _ := done.Val.(string)
		return Served{stale}, done.Err
	case <-enough:
		return Served{"the peer takes long to answer; this is what it had"}, nil
	case <-ctx.Done():
		return s, ctx.Err()
	}
}

// names tells what is asked by those without a login, who may ask fewer peers, from the rest.
func (a Asker) names(what string) string {
	if a.Anonymous {
		return "without a login: " + what
	}
	return what
}

func (f *Follower) via(by Asker) []string { return append(slices.Clone(by.Via), "1.1 "+f.self) }

// lookTag returns what a tag points to here, "" for nothing, what is remembered of it, and
// whether peers are to be asked.
func (f *Follower) lookTag(ctx context.Context, of *following, name oci.Name, tag oci.Tag) (here oci.Digest, row *follows.Tag, asks bool, err error) {
	in, err := f.records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil, true, nil
	}
	if err != nil {
		return "", nil, false, err
	}
	here, err = f.records.TagTarget(ctx, in.ID, tag)
	if errors.Is(err, record.ErrNotFound) {
		return "", nil, true, nil
	}
	if err != nil {
		return "", nil, false, err
	}
	found, err := f.records.View(ctx).Follows().Tag(in.ID, tag)
	switch {
	case errors.Is(err, follows.ErrNone):
		// It was pushed here.
		return here, nil, false, nil
	case err != nil:
		return here, nil, false, err
	}
	return here, &found, found.CheckedServed+int64(of.FreshFor) <= f.served(), nil
}

// errNowhere: no peer has it.
var errNowhere = errors.New("no peer has it")

// refresh asks peers for a tag, and takes what they have of it. It says why what is here is
// served as it is, where it may have changed.
func (f *Follower) refresh(ctx context.Context, among []candidate, what string, name oci.Name, tag oci.Tag, here oci.Digest, row *follows.Tag) (stale string, err error) {
	within, asking := patienceNot, ctx
	if here != "" {
		var end context.CancelFunc
		within = patienceHere
		// All of them together take no longer.
		asking, end = context.WithTimeout(ctx, patienceHere)
		defer end()
	}
	from, found, err := ask(asking, f, among, within, func(ctx context.Context, client *peer.Client, c candidate) (oci.Descriptor, error) {
		return client.Resolve(ctx, c.there, string(tag))
	})
	switch {
	case errors.Is(err, errNowhere) && here == "":
		f.noteAbsent(what)
		return "", nil
	case errors.Is(err, errNowhere):
		return "", f.note(ctx, name, tag, func(tx *record.Tx, row *follows.Tag) {
			if row.GoneAt == 0 {
				row.GoneAt = tx.Now()
			}
		})
	case err != nil && here != "":
		since := time.Duration(f.served() - row.CheckedServed).Round(time.Second)
		return fmt.Sprintf("%v; this is what it had %s ago", told(err), since), nil
	case err != nil:
		return "", told(err)
	case found.Digest == here:
		return "", f.note(ctx, name, tag, func(_ *record.Tx, row *follows.Tag) {
			row.PeerID, row.Digest, row.GoneAt, row.Conflict = from.ID, here, 0, ""
		})
	}
	if err = f.take(ctx, from, name, tag, found); err == nil {
		return "", nil
	}
	slog.Warn("what a peer has of a tag cannot be taken", "repository", name, "tag", tag, "peer", from.Name, "digest", found.Digest, "error", err)
	if here == "" {
		return "", told(err)
	}
	return fmt.Sprintf("%v; this is what was here before", told(err)), nil
}

// note changes what is remembered of a tag that is still followed.
func (f *Follower) note(ctx context.Context, name oci.Name, tag oci.Tag, change func(*record.Tx, *follows.Tag)) error {
	return f.records.Update(ctx, "follow-tag", func(tx *record.Tx) error {
		in, err := tx.Repository(name)
		if errors.Is(err, record.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		row, err := tx.Follows().Tag(in.ID, tag)
		if errors.Is(err, follows.ErrNone) {
			return nil
		}
		if err != nil {
			return err
		}
		row.CheckedAt, row.CheckedServed = tx.Now(), tx.Served()
		change(tx, &row)
		return tx.Follows().Note(row)
	})
}

// take keeps the manifest that a peer has under a tag or, with "", by its digest.
func (f *Follower) take(ctx context.Context, from candidate, name oci.Name, tag oci.Tag, found oci.Descriptor) error {
	if err := f.banned(ctx, name, found.Digest); err != nil {
		return err
	}
	mediaType, raw, err := f.document(ctx, from, name, found)
	if err != nil {
		return err
	}
	known := registry.Known{Name: name, Tag: tag, Digest: found.Digest, MediaType: mediaType, Raw: raw, Origin: record.Origin(from.Name)}
	known.Ask = func(tx *record.Tx, in record.Repository) (bool, error) {
		now, err := tx.TagTarget(in.ID, tag)
		if err != nil || now == "" {
			return err == nil, err
		}
		// Somebody may have pushed it meanwhile: then it is not the peer's any more.
		_, err = tx.Follows().Tag(in.ID, tag)
		if errors.Is(err, follows.ErrNone) {
			return false, nil
		}
		return err == nil, err
	}
	if tag != "" {
		known.Note = func(tx *record.Tx, in record.Repository) error {
			if now, err := tx.TagTarget(in.ID, tag); err != nil || now != found.Digest {
				return err
			}
			return tx.Follows().Note(follows.Tag{RepositoryID: in.ID, Tag: tag, PeerID: from.ID, Digest: found.Digest, CheckedAt: tx.Now(), CheckedServed: tx.Served()})
		}
	}
	_, err = f.registry.KeepKnown(ctx, known)
	var banned bans.Refusal
	if tag != "" && errors.Is(err, oci.CodeDenied) && !errors.As(err, &banned) {
		slog.Warn("a peer's tag is kept out", "repository", name, "tag", tag, "peer", from.Name, "digest", found.Digest, "reason", err)
		return f.note(ctx, name, tag, func(_ *record.Tx, row *follows.Tag) { row.PeerID, row.GoneAt, row.Conflict = from.ID, 0, found.Digest })
	}
	return err
}

// banned fails, with a bans.Refusal, where a digest is kept out of the namespace of a
// repository.
func (f *Follower) banned(ctx context.Context, name oci.Name, digest oci.Digest) error {
	of := f.of(name)
	if of == nil {
		return nil
	}
	return f.records.View(ctx).Bans().Check(of.NamespaceID, digest)
}

// document returns the bytes of a manifest: those that are here in this repository, or the
// peer's.
func (f *Follower) document(ctx context.Context, from candidate, name oci.Name, found oci.Descriptor) (mediaType string, raw []byte, err error) {
	if m, err := f.registry.Manifest(ctx, name, found.Digest.String()); err == nil {
		raw, err := f.registry.ManifestBytes(ctx, m)
		return m.MediaType, raw, err
	}
	client, err := f.peers.Once(from.Peer)
	if err != nil {
		return "", nil, err
	}
	d, raw, err := client.Manifest(ctx, from.there, found.Digest.String())
	return d.MediaType, raw, f.health.judge(from.Peer, err)
}

// Manifest brings a manifest by its digest, where it is not here and a namespace follows
// peers. It fails with oci.CodeUnavailable.
func (f *Follower) Manifest(ctx context.Context, name oci.Name, digest oci.Digest, by Asker) error {
	of := f.of(name)
	if of == nil || registry.Hidden(ctx) {
		return nil
	}
	if _, err := f.registry.Manifest(ctx, name, digest.String()); err == nil {
		return nil
	}
	what := by.names(string(name) + "@" + digest.String())
	if f.isAbsent(what) {
		return nil
	}
	if err := f.banned(ctx, name, digest); err != nil {
		return withoutReason(err)
	}
	among, err := f.candidates(ctx, of, name, "", by)
	if err != nil || len(among) == 0 {
		return err
	}
	end, err := f.wait(by.Who)
	if err != nil {
		return err
	}
	defer end()
	return answer(ctx, f.together(what, by, func(asking context.Context) (string, error) {
		from, found, err := ask(asking, f, among, patienceNot, func(ctx context.Context, client *peer.Client, c candidate) (oci.Descriptor, error) {
			return client.Resolve(ctx, c.there, digest.String())
		})
		if errors.Is(err, errNowhere) {
			f.noteAbsent(what)
			return "", nil
		}
		if err != nil {
			return "", told(err)
		}
		if err = f.take(asking, from, name, "", found); err != nil {
			slog.Warn("what a peer has cannot be taken", "repository", name, "peer", from.Name, "digest", found.Digest, "error", err)
		}
		return "", told(err)
	}))
}
