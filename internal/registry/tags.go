package registry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/taglog"
)

// If is what a tag has to be for a change of it. The zero value asks nothing.
type If struct {
	// Digest is what the tag has to point to, "" for anything.
	Digest oci.Digest
	// There asks that there is the tag, New that there is none.
	There, New bool
}

// TagMoved is the detail of a refusal with CodeTagMoved.
type TagMoved struct {
	Tag oci.Tag `json:"tag"`
	// Digest is what the tag points to, "" where there is none.
	Digest oci.Digest `json:"digest"`
}

// check fails with CodeTagMoved where the tag is not as it has to be.
func (i If) check(in record.Repository, tag oci.Tag, is oci.Digest) error {
	var said string
	switch {
	case i.New && is != "":
		said = fmt.Sprintf("there is a tag %s in %s already; it points to %s", tag, in.Name, is)
	case (i.There || i.Digest != "") && is == "":
		said = fmt.Sprintf("there is no tag %s in %s now", tag, in.Name)
	case i.Digest != "" && is != i.Digest:
		said = fmt.Sprintf("the tag %s of %s points to %s now, not to %s", tag, in.Name, is, i.Digest)
	default:
		return nil
	}
	return &oci.Error{Code: oci.CodeTagMoved, Message: said + "; nothing was changed", Detail: TagMoved{tag, is}}
}

// Act is what a change does to a tag.
type Act string

// The acts.
const (
	// ActAdd makes a tag that is not there; one that is there at the same digest is left.
	ActAdd Act = "add"
	// ActMove points a tag that is there at something else.
	ActMove Act = "move"
	// ActRename gives a tag a name that is free.
	ActRename Act = "rename"
	ActRemove Act = "remove"
)

// TagChange is one change of a tag by hand.
type TagChange struct {
	Act Act
	Tag oci.Tag
	// To is the tag or digest to point at, of ActAdd and ActMove.
	To string
	// Name is the new name, of ActRename.
	Name oci.Tag
	If   If
}

// TagChanged is what a change did: what the tag pointed to before and after, "" for no
// such tag.
type TagChanged struct {
	TagChange
	Before, After oci.Digest
	// Removal is that by which a tag went; all tags of one call go by one.
	Removal int64
}

// ChangeTags changes tags of a repository one after the other, all or none. It fails
// with CodeTagMoved where a tag is not as its change says, with CodeManifestUnknown
// where there is not what is named, with CodeInUse where a name is taken, and with
// CodeDenied where a tag is sealed. The reason is for removals, "" for none.
func (r *Registry) ChangeTags(ctx context.Context, name oci.Name, changes []TagChange, reason string) ([]TagChanged, error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return nil, err
	}
	done := make([]TagChanged, len(changes))
	err = r.inLive(ctx, found, "change-tags", func(tx *record.Tx, found record.Repository) (err error) {
		removal := int64(0)
		for i, change := range changes {
			if change.Act == ActRemove && removal == 0 {
				by := actor(ctx)
				by.Reason = reason
				if removal, err = tx.BeginRemoval(record.RemovalOfTag, found, namesOfRemoved(changes), by); err != nil {
					return err
				}
			}
			if done[i], err = changeTag(ctx, tx, found, change, removal); err != nil {
				return err
			}
		}
		return nil
	})
	return done, r.inWords(ctx, found, err)
}

// namesOfRemoved names the tags that changes remove.
func namesOfRemoved(changes []TagChange) string {
	const most = 3
	var said []string
	more := 0
	for _, c := range changes {
		switch {
		case c.Act != ActRemove:
		case len(said) < most:
			said = append(said, string(c.Tag))
		default:
			more++
		}
	}
	if more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(said, ", "), more)
	}
	return strings.Join(said, ", ")
}

func changeTag(ctx context.Context, tx *record.Tx, in record.Repository, change TagChange, removal int64) (TagChanged, error) {
	done := TagChanged{TagChange: change}
	var err error
	if done.Before, err = tx.TagTarget(in.ID, change.Tag); err != nil {
		return done, err
	}
	if err := change.If.check(in, change.Tag, done.Before); err != nil {
		return done, err
	}
	if done.Before == "" && change.Act != ActAdd {
		return done, noTag(in.Name, change.Tag)
	}
	by := actor(ctx)
	by.Origin = taglog.OriginHand
	switch change.Act {
	case ActRename:
		done.After = done.Before
		return done, renameTag(ctx, tx, in, change, done.Before, by)
	case ActRemove:
		done.Removal = removal
		return done, removeTag(ctx, tx, in, change.Tag, removal, by)
	}
	to, err := tagOrDigest(tx, in, change.To)
	if err == nil && to.Missing > 0 {
		err = oci.Errorf(oci.CodeInUse, "%s of %s came from a peer, and %d of what it names did not yet; pull it whole first, then give it a tag of this registry's own", to.Digest, in.Name, to.Missing)
	}
	if err != nil {
		return done, err
	}
	if done.After = to.Digest; change.Act == ActAdd && done.Before != "" && done.Before != done.After {
		return done, oci.Errorf(oci.CodeInUse, "there is a tag %s in %s already, which points to %s; move it, or take another name", change.Tag, in.Name, done.Before)
	}
	kind := record.EventTagAdded
	if done.Before != "" {
		kind = record.EventTagMovedByHand
	}
	return done, moveTag(ctx, tx, in, change.Tag, to, by, kind)
}

func noTag(in oci.Name, tag oci.Tag) error {
	return oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no tag %s", in, tag)
}

// tagOrDigest returns the live manifest that a tag or a digest names in the change.
func tagOrDigest(tx *record.Tx, in record.Repository, target string) (record.Manifest, error) {
	digest, err := oci.ParseDigest(target)
	if !strings.Contains(target, ":") {
		var tag oci.Tag
		if tag, err = oci.ParseTag(target); err == nil {
			digest, err = tx.TagTarget(in.ID, tag)
		}
		if err == nil && digest == "" {
			err = noTag(in.Name, tag)
		}
	}
	if err != nil {
		return record.Manifest{}, err
	}
	there, err := tx.Manifests(in.ID, []oci.Digest{digest})
	if err != nil {
		return record.Manifest{}, err
	}
	m, ok := there[digest]
	if !ok {
		err = oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no manifest %s", in.Name, digest)
	}
	return m, err
}

// moveTag points a tag at a manifest, and logs it, as a kind of event, where that is a
// change.
func moveTag(ctx context.Context, tx *record.Tx, in record.Repository, tag oci.Tag, to record.Manifest, by record.Actor, kind record.EventKind) error {
	moved, err := tx.MoveTag(in, tag, to, by)
	if err == nil && (by.Origin == taglog.OriginPush || by.Origin == taglog.OriginHand) {
		// From here on it is this registry's own, whatever a peer has.
		err = tx.Follows().Forget(in.ID, tag)
	}
	if err != nil || !moved {
		return err
	}
	move := event(ctx, kind, in)
	move.Tag, move.Digest = tag, to.Digest
	return tx.Log(move)
}

func renameTag(ctx context.Context, tx *record.Tx, in record.Repository, change TagChange, digest oci.Digest, by record.Actor) error {
	err := tx.RenameTag(in, change.Tag, change.Name, by)
	if errors.Is(err, record.ErrTaken) {
		return oci.Errorf(oci.CodeInUse, "there is a tag %s in %s already; take another name for %s", change.Name, in.Name, change.Tag)
	}
	if err != nil {
		return err
	}
	went, came := event(ctx, record.EventTagDeleted, in), event(ctx, record.EventTagMovedByHand, in)
	went.Tag, went.Digest, went.Detail = change.Tag, digest, "renamed to "+string(change.Name)
	came.Tag, came.Digest, came.Detail = change.Name, digest, "renamed from "+string(change.Tag)
	return errors.Join(tx.Log(went), tx.Log(came))
}

func removeTag(ctx context.Context, tx *record.Tx, in record.Repository, tag oci.Tag, removal int64, by record.Actor) error {
	if err := tx.DeleteTag(in, tag, removal, by); err != nil {
		return err
	}
	return logTagDeleted(ctx, tx, in, tag)
}

// DeleteTag removes a tag; what it pointed to stays (distribution-spec, "Deleting
// tags"). It fails with CodeManifestUnknown where there is no such tag, with
// CodeTagMoved, and with CodeDenied where it is sealed.
func (r *Registry) DeleteTag(ctx context.Context, name oci.Name, tag oci.Tag, only If) error {
	_, err := r.ChangeTags(ctx, name, []TagChange{{Act: ActRemove, Tag: tag, If: only}}, "")
	return err
}

// RemoveTag removes a tag, where it points to a digest, for a reason. It fails as DeleteTag.
func (r *Registry) RemoveTag(ctx context.Context, name oci.Name, tag oci.Tag, is oci.Digest, reason string) error {
	_, err := r.ChangeTags(ctx, name, []TagChange{{Act: ActRemove, Tag: tag, If: If{Digest: is}}}, reason)
	return err
}

// TagLog returns up to limit lines of a tag's log before a line, or with 0 the newest,
// the newest first; of all tags of the repository with "". there tells which digests that
// they name can be pulled. It fails with CodeNameUnknown.
func (r *Registry) TagLog(ctx context.Context, name oci.Name, tag oci.Tag, before int64, limit int) (lines []taglog.Move, there map[oci.Digest]bool, err error) {
	found, err := r.repository(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	view := r.records.View(ctx)
	if lines, err = view.TagLog(found.ID).Read(tag, before, limit); err != nil {
		return nil, nil, err
	}
	there = map[oci.Digest]bool{"": false}
	for _, line := range lines {
		there[line.To] = false
	}
	live, err := view.Manifests(found.ID, slices.Collect(maps.Keys(there)))
	for digest := range live {
		there[digest] = true
	}
	return lines, there, err
}
