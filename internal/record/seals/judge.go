package seals

import (
	"errors"
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// Leave is why a place may go or be called otherwise although tags in it could be sealed:
// because it was found that none is, or because an admin said so.
type Leave struct {
	Judged Judged
	// Over is the reason of an admin who goes over seals, "" for nobody.
	Over string
}

// Judged is what was found of the seals in a namespace or a repository.
type Judged struct {
	// Sealed are the first tags that are sealed; Count is how many there are.
	Sealed []*Sealed
	Count  int

	repositories []place
	lists        []int64
	lastMove     int64
	served       int64
}

type place struct {
	ID   int64
	Name oci.Name
}

// ErrJudgeAgain: since the seals of a place were looked at, rules or repositories there
// were changed.
var ErrJudgeAgain = errors.New("what seals there was changed meanwhile")

const (
	// judgedGood is how long, in served time, what was found is gone by.
	judgedGood = 30 * time.Second
	// sealedShown is how many sealed tags are named.
	sealedShown = 5
	// judgedAtOnce is how many tags are read at a time.
	judgedAtOnce = 5000
)

// inPlace keeps the live repositories of a namespace or, of the ID, one.
const inPlace = "removed_at = 0 AND (? <> 0 AND id = ? OR ? = 0 AND namespace_id = ?)"

func (s Seals) begin() (j Judged, err error) {
	j.served = s.Served
	db := s.Lists.DB
	if err := db.Raw("SELECT coalesce(max(id), 0) FROM tag_moves").Scan(&j.lastMove).Error; err != nil {
		return j, err
	}
	if err := db.Raw("SELECT id, name FROM repositories WHERE "+inPlace+" ORDER BY id", s.RepositoryID, s.RepositoryID, s.RepositoryID, s.NamespaceID).Scan(&j.repositories).Error; err != nil {
		return j, err
	}
	return j, db.Raw(`SELECT version FROM rule_lists WHERE kind = ? AND name = '' AND (namespace_id IN (0, ?) AND repository_id = 0
		OR repository_id IN (SELECT id FROM repositories WHERE `+inPlace+`)) ORDER BY id`,
		rule.Immutability.Name, s.NamespaceID, s.RepositoryID, s.RepositoryID, s.RepositoryID, s.NamespaceID).Scan(&j.lists).Error
}

// of returns the seals of a repository of the place.
func (s Seals) of(p place) Seals {
	s.RepositoryID, s.Repository = p.ID, p.Name
	return s
}

// Judge looks which tags are sealed in the repository or, with the ID 0, in all of the
// namespace. It reads in pieces: what moves meanwhile is looked at again by the change
// that goes by it.
func (s Seals) Judge() (Judged, error) {
	j, err := s.begin()
	if err != nil {
		return j, err
	}
	for _, repository := range j.repositories {
		there := s.of(repository)
		around, err := there.Around()
		if err != nil {
			return j, err
		}
		err = there.EachTag(func(t Tag) error {
			if sealed := there.By(around.Lists, t); sealed != nil {
				if j.Count++; len(j.Sealed) < sealedShown {
					j.Sealed = append(j.Sealed, sealed)
				}
			}
			return nil
		})
		if err != nil {
			return j, err
		}
	}
	return j, nil
}

// EachTag calls each for the tags of the repository, in the order of their names, as they
// are read.
func (s Seals) EachTag(each func(Tag) error) error {
	for after := oci.Tag(""); ; {
		var rows []Tag
		if err := s.Lists.DB.Table("tags").Select("tags.name, manifests.digest, tags.first_served, tags.sealed_at, tags.sealed_by, tags.seal_reason").
			Joins("JOIN manifests ON manifests.id = tags.manifest_id").
			Where("tags.repository_id = ? AND tags.name > ? AND tags.removal_id = 0", s.RepositoryID, after).Order("tags.name").Limit(judgedAtOnce).Scan(&rows).Error; err != nil {
			return err
		}
		for _, t := range rows {
			if err := each(t); err != nil {
				return err
			}
		}
		if len(rows) < judgedAtOnce {
			return nil
		}
		after = rows[len(rows)-1].Name
	}
}

// MayLeave fails with *Sealed where a tag of the place is sealed and nobody goes over that,
// and with ErrJudgeAgain where what was found does not hold any more. It looks only at what
// moved since.
func (s Seals) MayLeave(l Leave) error {
	if l.Over != "" {
		return nil
	}
	if l.Judged.Count > 0 {
		return l.Judged.Sealed[0]
	}
	now, err := s.begin()
	if err != nil {
		return err
	}
	if !slices.Equal(now.lists, l.Judged.lists) || !slices.Equal(now.repositories, l.Judged.repositories) || s.Served-l.Judged.served > int64(judgedGood) {
		return ErrJudgeAgain
	}
	var rows []struct {
		RepositoryID int64
		Tag
	}
	// In this order, whatever the planner thinks: from the few that are new.
	if err := s.Lists.DB.Raw(`SELECT tags.repository_id, tags.name, manifests.digest, tags.first_served, tags.sealed_at, tags.sealed_by, tags.seal_reason
		FROM (SELECT tag_moves.repository_id, tag_moves.tag FROM tag_moves CROSS JOIN repositories ON repositories.id = tag_moves.repository_id AND repositories.namespace_id = ?
				WHERE tag_moves.id > ? AND (? = 0 OR repositories.id = ?)
			UNION SELECT tags.repository_id, tags.name FROM repositories CROSS JOIN tags INDEXED BY tags_sealed ON repositories.id = tags.repository_id AND repositories.namespace_id = ?
				WHERE tags.sealed_at <> 0 AND tags.removal_id = 0 AND (? = 0 OR repositories.id = ?)) AS news
		CROSS JOIN tags ON tags.repository_id = news.repository_id AND tags.name = news.tag AND tags.removal_id = 0
		CROSS JOIN manifests ON manifests.id = tags.manifest_id LIMIT ?`,
		s.NamespaceID, l.Judged.lastMove, s.RepositoryID, s.RepositoryID, s.NamespaceID, s.RepositoryID, s.RepositoryID, judgedAtOnce).Scan(&rows).Error; err != nil {
		return err
	}
	if len(rows) == judgedAtOnce {
		return ErrJudgeAgain
	}
	for _, row := range rows {
		at := slices.IndexFunc(now.repositories, func(p place) bool { return p.ID == row.RepositoryID })
		if at < 0 {
			continue
		}
		if err := s.of(now.repositories[at]).Check(row.Tag); err != nil {
			return err
		}
	}
	return nil
}
