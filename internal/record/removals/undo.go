package removals

import (
	"errors"
	"fmt"
	"maps"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record/taglog"
	"warthesis/internal/record/tagnames"
	"warthesis/internal/rule"
)

// TakenError: names are taken meanwhile that what was removed had.
type TakenError struct {
	// Tags have what their names point to now.
	Tags []Tag
	// Name is that of a namespace or a repository.
	Name string
}

func (e *TakenError) Error() string { return "names are taken meanwhile" }

// Back brings content of one repository back, in a change.
type Back struct {
	Records
	RepositoryID int64
	// By writes who brings it back, and when, into the tag log.
	By taglog.Move
}

// Undo brings back all that went by a removal, with all that this names, or nothing: tags
// under the names that they have then. Tags get other names by as. What is there again is
// left out. It fails with *TakenError, *GoneError, ErrClosure and *tagnames.HeldError.
func (b Back) Undo(removal int64, as map[oci.Tag]oci.Tag) (tags []Tag, images []Image, err error) {
	if tags, err = b.Tags(removal, MostInClosure+1); err != nil {
		return nil, nil, err
	}
	if len(tags) > MostInClosure {
		return nil, nil, ErrClosure
	}
	if images, err = b.Images(removal, MostInClosure+1); err != nil {
		return nil, nil, err
	}
	if tags, err = b.name(tags, as); err != nil {
		return nil, nil, err
	}
	c := NewClosure()
	for _, m := range images {
		if err := b.Add(c, b.RepositoryID, m.ID); err != nil {
			return nil, nil, err
		}
	}
	for _, t := range tags {
		err := b.Add(c, b.RepositoryID, t.ManifestID)
		var gone *GoneError
		if errors.As(err, &gone) && gone.Digest == "" {
			gone.Digest = t.Digest
		}
		if err != nil {
			return nil, nil, err
		}
	}
	return tags, c.Manifests, errors.Join(b.manifests(c.Manifests), b.holdings(c.Contents, removal), b.tags(tags), b.forgetTags(removal))
}

// forgetTags deletes the rows of tags that the deletion has left once it is undone: tags
// that exist again. Their pull counts go to the tags of today. A row that pointed to an
// undone deletion would keep its image for ever.
func (b Back) forgetTags(removal int64) error {
	if err := b.DB.Exec(`UPDATE tags SET pulls = tags.pulls + gone.pulls, pulled_at = max(tags.pulled_at, gone.pulled_at), pulled_served = max(tags.pulled_served, gone.pulled_served)
		FROM tags AS gone WHERE gone.removal_id = ? AND gone.removal_id <> 0 AND tags.repository_id = gone.repository_id AND tags.name = gone.name AND tags.removal_id = 0`, removal).Error; err != nil {
		return err
	}
	return b.DB.Exec("DELETE FROM tags WHERE removal_id = ? AND removal_id <> 0", removal).Error
}

// name gives tags the names under which they come back, and leaves out those that are
// there again.
func (b Back) name(tags []Tag, as map[oci.Tag]oci.Tag) ([]Tag, error) {
	taken := &TakenError{}
	used := map[oci.Tag]bool{}
	others := maps.Clone(as)
	kept := tags[:0]
	for _, t := range tags {
		was := t
		if other, given := others[t.Name]; given {
			delete(others, t.Name)
			t.Name = other
			var err error
			if t.Now, err = b.target(other); err != nil {
				return nil, err
			}
		}
		switch {
		case used[t.Name]:
			return nil, oci.Errorf(oci.CodeQueryInvalid, "two tags cannot both be called %s", t.Name)
		case t.Now != "" && t.Now == t.Digest && t.Name == was.Name:
			continue
		case t.Now != "":
			taken.Tags = append(taken.Tags, t)
		}
		used[t.Name] = true
		kept = append(kept, t)
	}
	for name := range others {
		return nil, oci.Errorf(oci.CodeQueryInvalid, "no tag %s went by this removal", name)
	}
	if len(taken.Tags) > 0 {
		return nil, taken
	}
	return kept, nil
}

func (b Back) target(name oci.Tag) (digest oci.Digest, err error) {
	return digest, b.DB.Raw("SELECT manifests.digest FROM tags JOIN manifests ON manifests.id = tags.manifest_id WHERE tags.repository_id = ? AND tags.name = ? AND tags.removal_id = 0",
		b.RepositoryID, name).Scan(&digest).Error
}

func (b Back) manifests(all []Image) error {
	for _, m := range all {
		if err := b.DB.Exec(`UPDATE manifests SET state = 'live', touched_served = ?, deleted_at = 0, deleted_served = 0, removal_id = 0 WHERE id = ?`, b.By.MovedServed, m.ID).Error; err != nil {
			return err
		}
		if err := b.DB.Exec(`UPDATE manifests SET untagged_at = ?, untagged_served = ? WHERE id = ? AND NOT EXISTS (SELECT 1 FROM tags WHERE tags.manifest_id = manifests.id AND tags.removal_id = 0)`,
			b.By.MovedAt, b.By.MovedServed, m.ID).Error; err != nil {
			return err
		}
	}
	return nil
}

// atOnce keeps lists of values well below what one statement may carry.
const atOnce = 500

// holdings revives those of contents, and those that ended by the removal.
func (b Back) holdings(contents []int64, removal int64) error {
	const revive = "UPDATE holdings SET touched_served = ?, ended_at = 0, ended_served = 0, removal_id = 0 WHERE repository_id = ? AND "
	for start := 0; start < len(contents); start += atOnce {
		if err := b.DB.Exec(revive+"content_id IN ?", b.By.MovedServed, b.RepositoryID, contents[start:min(start+atOnce, len(contents))]).Error; err != nil {
			return err
		}
	}
	var gone []oci.Digest
	if err := b.DB.Table("holdings").Joins("JOIN contents ON contents.id = holdings.content_id").
		Where("holdings.repository_id = ? AND holdings.removal_id = ? AND NOT EXISTS (SELECT 1 FROM blobs WHERE blobs.content_id = holdings.content_id)", b.RepositoryID, removal).
		Pluck("contents.digest", &gone).Error; err != nil {
		return err
	}
	if len(gone) > 0 {
		return &GoneError{Digest: gone[0]}
	}
	return b.DB.Exec(revive+"removal_id = ?", b.By.MovedServed, b.RepositoryID, removal).Error
}

func (b Back) tags(tags []Tag) error {
	names := tagnames.Names{DB: b.DB, RepositoryID: b.RepositoryID, Served: b.By.MovedServed}
	for _, t := range tags {
		first, err := names.Use(t.Name, b.By.MovedBy)
		if err != nil {
			return err
		}
		if err := b.DB.Exec("UPDATE tags SET removal_id = 0, name = ?, order_key = ?, first_served = ? WHERE id = ?", t.Name, rule.OrderKey(string(t.Name)), first, t.ID).Error; err != nil {
			return err
		}
		line := b.By
		line.Tag = t.Name
		if err := (taglog.Log{DB: b.DB, RepositoryID: b.RepositoryID}).Write(line, 0, t.ManifestID); err != nil {
			return err
		}
		if err := b.DB.Exec("UPDATE manifests SET untagged_at = 0, untagged_served = 0 WHERE id = ?", t.ManifestID).Error; err != nil {
			return err
		}
	}
	return nil
}

// Offer returns a name that is free in a repository, like one that is taken.
func (r Records) Offer(repository int64, name oci.Tag) (oci.Tag, error) {
	b := Back{Records: r, RepositoryID: repository}
	for i := 1; ; i++ {
		ending := "-restored"
		if i > 1 {
			ending = fmt.Sprintf("-restored-%d", i)
		}
		offer := oci.Tag(strings.TrimRight(string(name[:min(len(name), oci.MaxTagLength-len(ending))]), "-.") + ending)
		there, err := b.target(offer)
		if err != nil || there == "" || i == 100 {
			return offer, err
		}
	}
}

// Last returns the removal by which the namespace or, of a namespace's ID, the repository
// of a name went last and that stands still, or ErrNone.
func (r Records) Last(namespace int64, name string) (id int64, err error) {
	query := r.DB.Table("namespaces")
	if namespace != 0 {
		query = r.DB.Table("repositories").Where("namespace_id = ?", namespace)
	}
	found := query.Select("removal_id").Where("name = ? AND removed_at <> 0 AND removal_id <> 0", name).Order("removed_at DESC").Limit(1).Scan(&id)
	if found.Error == nil && found.RowsAffected == 0 {
		return 0, ErrNone
	}
	return id, found.Error
}
