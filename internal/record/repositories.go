package record

import (
	"context"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// ErrNotFound: the records know nothing of what was asked for.
var ErrNotFound = errors.New("not in the records")

// Labels are names with values, given by people.
type Labels map[string]string

// Namespace is the first component of repository names.
type Namespace struct {
	ID          int64
	Name        string
	Description string
	Labels      Labels `gorm:"serializer:json"`
	// Open lets anybody pull.
	Open bool
	// PushMakes is the least role whose pushes make repositories, NoRole for none.
	PushMakes Role
	// NewDescription and NewLabels are given to repositories that a push makes.
	NewDescription string
	NewLabels      Labels `gorm:"serializer:json"`
	// LogPulls writes each pull into the audit log.
	LogPulls  bool
	CreatedAt Stamp
	RemovedAt Stamp
	RemovedBy string
}

// Visibility is who may pull from a repository.
type Visibility string

// The visibilities: of its own, or as the namespace has it.
const (
	VisibilityInherited Visibility = ""
	VisibilityOpen      Visibility = "open"
	VisibilityClosed    Visibility = "closed"
)

// Repository is a repository as recorded.
type Repository struct {
	ID          int64
	NamespaceID int64
	Name        oci.Name
	Description string
	Labels      Labels `gorm:"serializer:json"`
	Visibility  Visibility
	CreatedAt   Stamp
	// PushedAt is when a manifest or a tag last came.
	PushedAt Stamp
	// PulledAt and Pulls follow with a delay of a few seconds.
	PulledAt  Stamp
	Pulls     int64
	RemovedAt Stamp
	RemovedBy string
}

// Repository returns a repository by name, or ErrNotFound.
func (s *Store) Repository(ctx context.Context, name oci.Name) (Repository, error) {
	return cached(s.cache, s.cache.repositories, name, func() (Repository, error) {
		return s.View(ctx).Repository(name)
	})
}

// Repository returns a repository by name, or ErrNotFound.
func (v View) Repository(name oci.Name) (Repository, error) {
	return one[Repository](v.db.Table("live_repositories").Where("name = ?", name))
}

// Namespace returns a namespace by name, or ErrNotFound.
func (v View) Namespace(name string) (Namespace, error) {
	return one[Namespace](v.db.Where("name = ? AND removed_at = 0", name))
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
	found, err := tx.Repository(name)
	if !errors.Is(err, ErrNotFound) {
		return found, err
	}
	namespace, err := tx.Namespace(name.Namespace())
	if errors.Is(err, ErrNotFound) {
		// What was removed while something was on its way in is not made again by it.
		if _, gone := one[Namespace](tx.db.Where("name = ?", name.Namespace())); gone == nil {
			return found, oci.Errorf(oci.CodeNameUnknown, "the namespace %s was removed; a registry admin can restore it", name.Namespace())
		}
		namespace, err = tx.MakeNamespace(Namespace{Name: name.Namespace(), PushMakes: Writer})
	}
	if err != nil {
		return found, err
	}
	return tx.MakeRepository(Repository{
		NamespaceID: namespace.ID, Name: name, Description: namespace.NewDescription, Labels: namespace.NewLabels,
	})
}

// touchRepository notes that something came.
func (tx *Tx) touchRepository(r Repository) error {
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Remove(r.Name) })
	return tx.db.Model(&Repository{}).Where("id = ?", r.ID).Update("pushed_at", tx.Now()).Error
}
