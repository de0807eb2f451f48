package record

import (
	"context"
	"errors"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// ErrTaken: the name belongs to something else already.
var ErrTaken = errors.New("the name is taken")

// MakeNamespace records a namespace. It fails with ErrTaken.
func (tx *Tx) MakeNamespace(n Namespace) (Namespace, error) {
	n.CreatedAt = tx.Now()
	n.Labels, n.NewLabels = orEmpty(n.Labels), orEmpty(n.NewLabels)
	tx.rightsChange()
	return n, taken(tx.db.Create(&n).Error)
}

// MakeRepository records a repository. It fails with ErrTaken.
func (tx *Tx) MakeRepository(r Repository) (Repository, error) {
	r.CreatedAt, r.PushedAt = tx.Now(), tx.Now()
	r.Labels = orEmpty(r.Labels)
	if r.Visibility != VisibilityInherited {
		tx.rightsChange()
	}
	return r, taken(tx.db.Create(&r).Error)
}

func orEmpty(l Labels) Labels {
	if l == nil {
		return Labels{}
	}
	return l
}

func taken(err error) error {
	if err != nil && strings.Contains(err.Error(), "UNIQUE constraint failed") {
		return ErrTaken
	}
	return err
}

// SaveNamespace records what is to be changed of a namespace, its name aside.
func (tx *Tx) SaveNamespace(n Namespace) error {
	tx.rightsChange()
	return tx.db.Model(&n).Select("description", "labels", "open", "push_makes", "new_description", "new_labels", "log_pulls").Updates(&n).Error
}

// SaveRepository records what is to be changed of a repository, its name aside.
func (tx *Tx) SaveRepository(r Repository) error {
	tx.rightsChange()
	tx.forgetRepositories()
	return tx.db.Model(&r).Select("description", "labels", "visibility").Updates(&r).Error
}

// RenameNamespace gives a namespace, and with it all its repositories, another
// name. It fails with ErrTaken.
func (tx *Tx) RenameNamespace(n Namespace, name string) error {
	tx.rightsChange()
	tx.forgetRepositories()
	if err := taken(tx.db.Model(&Namespace{}).Where("id = ?", n.ID).Update("name", name).Error); err != nil {
		return err
	}
	return tx.db.Model(&Repository{}).Where("namespace_id = ?", n.ID).
		Update("name", gorm.Expr("? || substr(name, ?)", name, len(n.Name)+1)).Error
}

// RenameRepository gives a repository another name, in the namespace that the name
// begins with. It fails with ErrTaken, and with ErrNotFound where there is no such
// namespace.
func (tx *Tx) RenameRepository(r Repository, name oci.Name) error {
	namespace, err := tx.Namespace(name.Namespace())
	if err != nil {
		return err
	}
	tx.rightsChange()
	tx.forgetRepositories()
	return taken(tx.db.Model(&r).Updates(map[string]any{"name": name, "namespace_id": namespace.ID}).Error)
}

// RemoveNamespace takes a namespace with all its repositories out of sight.
func (tx *Tx) RemoveNamespace(n Namespace, by string) error {
	tx.rightsChange()
	tx.forgetRepositories()
	return tx.db.Model(&n).Updates(map[string]any{"removed_at": tx.Now(), "removed_by": by}).Error
}

// RemoveRepository takes a repository with all it holds out of sight.
func (tx *Tx) RemoveRepository(r Repository, by string) error {
	tx.rightsChange()
	tx.forgetRepositories()
	return tx.db.Model(&r).Updates(map[string]any{"removed_at": tx.Now(), "removed_by": by}).Error
}

// RestoreNamespace brings back the namespace of the name that was removed last.
// It fails with ErrNotFound, and with ErrTaken where another one has the name.
func (tx *Tx) RestoreNamespace(name string) (Namespace, error) {
	n, err := one[Namespace](tx.db.Where("name = ? AND removed_at <> 0", name).Order("removed_at DESC"))
	if err != nil {
		return n, err
	}
	tx.rightsChange()
	tx.forgetRepositories()
	return n, taken(tx.db.Model(&n).Updates(map[string]any{"removed_at": 0, "removed_by": ""}).Error)
}

// RestoreRepository brings back the repository of the name that was removed last.
// It fails with ErrNotFound, and with ErrTaken where another one has the name.
func (tx *Tx) RestoreRepository(name oci.Name) (Repository, error) {
	r, err := one[Repository](tx.db.Where("name = ? AND removed_at <> 0", name).
		Where("namespace_id IN (SELECT id FROM namespaces WHERE removed_at = 0)").Order("removed_at DESC"))
	if err != nil {
		return r, err
	}
	tx.rightsChange()
	tx.forgetRepositories()
	return r, taken(tx.db.Model(&r).Updates(map[string]any{"removed_at": 0, "removed_by": ""}).Error)
}

// forgetRepositories drops every cached repository: names may mean others now.
func (tx *Tx) forgetRepositories() {
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Purge() })
}

// NamespaceRow is a namespace with what lists show of it.
type NamespaceRow struct {
	Namespace    `gorm:"embedded"`
	Repositories int64
	// Size is that of the content its repositories hold, shared content counted
	// in each, in bytes.
	Size     int64
	PushedAt Stamp
}

const namespaceRow = `namespaces.*,
	(SELECT count(*) FROM repositories WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0) AS repositories,
	(SELECT coalesce(sum(blobs.size), 0) FROM repositories JOIN holdings ON holdings.repository_id = repositories.id AND holdings.ended_at = 0
		JOIN blobs ON blobs.id = holdings.blob_id WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0) AS size,
	(SELECT coalesce(max(repositories.pushed_at), 0) FROM repositories WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0) AS pushed_at`

// namespaceRows returns the namespaces that are seen: those seen whole, and those
// with a repository that is.
func (s *Store) namespaceRows(ctx context.Context, seen Seen) *gorm.DB {
	query := s.read.WithContext(ctx).Table("namespaces").Where("namespaces.removed_at = 0").Select(namespaceRow)
	if len(seen.Globs) > 0 {
		within := seen.on(s.read.WithContext(ctx).Table("live_repositories AS repositories").Select("repositories.namespace_id"))
		return query.Where("namespaces.id IN (?)", within)
	}
	if seen.All {
		return query
	}
	return query.Where("(namespaces.id IN ? OR namespaces.id IN (SELECT namespace_id FROM repositories WHERE id IN ?))",
		orNone(seen.Namespaces), orNone(seen.Repositories))
}

// Namespaces returns a page of the namespaces that are seen.
func (s *Store) Namespaces(ctx context.Context, p Page) ([]NamespaceRow, error) {
	var rows []NamespaceRow
	return rows, p.on(s.namespaceRows(ctx, p.Seen), "namespaces.name", "namespaces.created_at").Find(&rows).Error
}

// NamespaceRow returns one namespace where it is seen, or ErrNotFound.
func (s *Store) NamespaceRow(ctx context.Context, name string, seen Seen) (NamespaceRow, error) {
	return one[NamespaceRow](s.namespaceRows(ctx, seen).Where("namespaces.name = ?", name))
}

// Removed is a namespace or a repository that was removed and can be restored.
type Removed struct {
	// Repository tells it from a namespace.
	Repository bool
	Name       string
	RemovedAt  Stamp
	RemovedBy  string
}

// RemovedPlaces returns what was removed, the last first.
func (s *Store) RemovedPlaces(ctx context.Context, limit int) ([]Removed, error) {
	var rows []Removed
	return rows, s.read.WithContext(ctx).Raw(`SELECT 0 AS repository, name, removed_at, removed_by FROM namespaces WHERE removed_at <> 0
		UNION ALL SELECT 1, name, removed_at, removed_by FROM repositories WHERE removed_at <> 0 ORDER BY removed_at DESC LIMIT ?`, limit).Scan(&rows).Error
}
