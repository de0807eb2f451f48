package record

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// ErrNotFound: the records know nothing of what was asked for.
var ErrNotFound = errors.New("not in the records")

// Namespace is the first component of repository names.
type Namespace struct {
	ID        int64
	Name      string
	CreatedAt Stamp
}

// Repository is a repository as recorded.
type Repository struct {
	ID          int64
	NamespaceID int64
	Name        oci.Name
	CreatedAt   Stamp
	// PushedAt is when a manifest or a tag last came.
	PushedAt Stamp
	// PulledAt and Pulls follow with a delay of a few seconds.
	PulledAt Stamp
	Pulls    int64
}

// Repository returns a repository by name, or ErrNotFound.
func (s *Store) Repository(ctx context.Context, name oci.Name) (Repository, error) {
	return cached(s.cache, s.cache.repositories, name, func() (Repository, error) {
		return one[Repository](s.read.WithContext(ctx).Where("name = ?", name))
	})
}

// one returns the one row that a query finds, or ErrNotFound.
func one[T any](query *gorm.DB) (T, error) {
	var found []T
	var none T
	if err := query.Limit(1).Find(&found).Error; err != nil {
		return none, fmt.Errorf("read the records: %w", err)
	}
	if len(found) == 0 {
		return none, ErrNotFound
	}
	return found[0], nil
}

// EnsureRepository returns the repository, and makes it and its namespace where
// they are missing.
func (tx *Tx) EnsureRepository(name oci.Name) (Repository, error) {
	found, err := one[Repository](tx.db.Where("name = ?", name))
	if !errors.Is(err, ErrNotFound) {
		return found, err
	}
	namespace := Namespace{Name: name.Namespace(), CreatedAt: tx.Now()}
	if err := tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&namespace).Error; err != nil {
		return found, err
	}
	if namespace, err = one[Namespace](tx.db.Where("name = ?", name.Namespace())); err != nil {
		return found, err
	}
	made := Repository{NamespaceID: namespace.ID, Name: name, CreatedAt: tx.Now(), PushedAt: tx.Now()}
	return made, tx.db.Create(&made).Error
}

// touchRepository notes that something came.
func (tx *Tx) touchRepository(r Repository) error {
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Remove(r.Name) })
	return tx.db.Model(&Repository{}).Where("id = ?", r.ID).Update("pushed_at", tx.Now()).Error
}
