package record

import (
	"context"
	"errors"
	"fmt"
	"time"

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
	LogPulls bool
	// RestoreWindow is for how long, in served time, removals can be undone; 0 for as long
	// as the registry has it, which is also the most.
	RestoreWindow time.Duration
	CreatedAt     Stamp
	RemovedAt     Stamp
	RemovalID     int64
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
	// PushedAt is when a manifest or a tag last came. What ends in Served is served
	// time in nanoseconds.
	PushedAt     Stamp
	PushedServed int64
	// PulledAt and Pulls follow with a delay of a few seconds.
	PulledAt     Stamp
	PulledServed int64
	Pulls        int64
	RemovedAt    Stamp
	RemovalID    int64
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

// LiveRepository returns a repository that is not removed, or ErrNotFound.
func (v View) LiveRepository(id int64) (Repository, error) {
	return one[Repository](v.db.Table("live_repositories").Where("id = ?", id))
}

// RepositoriesIn returns up to limit live repositories: one or, with 0, those of a
// namespace or, with 0 too, all.
func (v View) RepositoriesIn(namespace, repository int64, limit int) (rows []Repository, err error) {
	query := v.db.Table("live_repositories").Order("name").Limit(limit)
	if namespace != 0 {
		query = query.Where("namespace_id = ?", namespace)
	}
	if repository != 0 {
		query = query.Where("id = ?", repository)
	}
	return rows, query.Find(&rows).Error
}

// LiveNamespace returns a namespace that is not removed, or ErrNotFound.
func (v View) LiveNamespace(id int64) (Namespace, error) {
	return one[Namespace](v.db.Where("id = ? AND removed_at = 0", id))
}

// LastNamespace returns the namespace that has a name or, where there is none, the
// one that had it last, or ErrNotFound.
func (v View) LastNamespace(name string) (Namespace, error) {
	return one[Namespace](v.db.Where("name = ?", name).Order("removed_at = 0 DESC, removed_at DESC"))
}

// Maker is for whom a push makes what is missing. The zero value makes a repository
// in a namespace that is there.
type Maker struct {
	// Namespace lets it make a namespace, which was missing when that was asked.
	Namespace bool
	// Account becomes the owner of such a namespace; 0 for none, as a registry admin
	// needs no role.
	Account int64
	// By is the account's name.
	By string
}

// Ensured is a repository that is there now.
type Ensured struct {
	Repository
	// NewNamespace tells that its namespace was made with it.
	NewNamespace bool
}

// EnsureRepository returns the repository, and makes it where it is missing, and
// with it the namespace where the maker may. It fails with oci.CodeNameUnknown.
func (tx *Tx) EnsureRepository(name oci.Name, m Maker) (Ensured, error) {
	found, err := tx.Repository(name)
	if !errors.Is(err, ErrNotFound) {
		return Ensured{found, false}, err
	}
	namespace, made, err := tx.ensureNamespace(name.Namespace(), m)
	if err != nil {
		return Ensured{}, err
	}
	found, err = tx.MakeRepository(Repository{
		NamespaceID: namespace.ID, Name: name, Description: namespace.NewDescription, Labels: namespace.NewLabels,
	})
	return Ensured{found, made}, err
}

func (tx *Tx) ensureNamespace(name string, m Maker) (n Namespace, made bool, err error) {
	n, err = tx.Namespace(name)
	switch {
	case errors.Is(err, ErrNotFound) && !m.Namespace:
		return n, false, oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here any more; a registry admin can make or restore it", name)
	case errors.Is(err, ErrNotFound):
		if n, err = tx.MakeNamespace(Namespace{Name: name, PushMakes: Writer}); err != nil || m.Account == 0 {
			return n, true, err
		}
		return n, true, tx.Give(Grant{GrantKey: GrantKey{AccountID: m.Account, NamespaceID: n.ID}, Role: Owner, GrantedBy: m.By})
	case err == nil && m.Namespace && m.Account != 0:
		// It was missing when the right was asked: only who made it meanwhile goes on.
		if own, err := tx.HasRole(m.Account, n.ID, Owner); err != nil || !own {
			return n, false, errors.Join(err, oci.Errorf(oci.CodeDenied, "the namespace %s was made by somebody else a moment ago; its owner can give a role there", name))
		}
	}
	return n, false, err
}

// touchRepository notes that something came.
func (tx *Tx) touchRepository(r Repository) error {
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Remove(r.Name) })
	return tx.db.Model(&Repository{}).Where("id = ?", r.ID).Updates(map[string]any{"pushed_at": tx.Now(), "pushed_served": tx.Served()}).Error
}
