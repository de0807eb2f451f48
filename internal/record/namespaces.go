package record

import (
	"context"
	"errors"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/seals"
)

// ErrTaken: the name belongs to something else already.
var ErrTaken = errors.New("the name is taken")

// MakeNamespace records a namespace. It fails with ErrTaken.
func (tx *Tx) MakeNamespace(n Namespace) (Namespace, error) {
	n.CreatedAt = tx.Now()
	n.Labels, n.NewLabels = orEmpty(n.Labels), orEmpty(n.NewLabels)
	err := taken(tx.db.Create(&n).Error)
	tx.touched.namespaces = append(tx.touched.namespaces, n.ID)
	return n, err
}

// MakeRepository records a repository. It fails with ErrTaken.
func (tx *Tx) MakeRepository(r Repository) (Repository, error) {
	r.CreatedAt, r.PushedAt, r.PushedServed = tx.Now(), tx.Now(), tx.Served()
	r.Labels = orEmpty(r.Labels)
	err := taken(tx.db.Create(&r).Error)
	if r.Visibility != VisibilityInherited {
		tx.touched.repositories = append(tx.touched.repositories, r.ID)
	}
	return r, err
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

// NamespaceColumn is what can be changed of a namespace, its name aside.
type NamespaceColumn string

// The columns of namespaces that can be changed.
const (
	NamespaceDescription    NamespaceColumn = "description"
	NamespaceLabels         NamespaceColumn = "labels"
	NamespaceOpen           NamespaceColumn = "open"
	NamespacePushMakes      NamespaceColumn = "push_makes"
	NamespaceNewDescription NamespaceColumn = "new_description"
	NamespaceNewLabels      NamespaceColumn = "new_labels"
	NamespaceLogPulls       NamespaceColumn = "log_pulls"
	NamespaceRestoreWindow  NamespaceColumn = "restore_window"
)

// SaveNamespace records the columns named of a namespace; all others stay.
func (tx *Tx) SaveNamespace(n Namespace, columns ...NamespaceColumn) error {
	tx.touched.namespaces = append(tx.touched.namespaces, n.ID)
	return saveColumns(tx, &n, columns)
}

// RepositoryColumn is what can be changed of a repository, its name aside.
type RepositoryColumn string

// The columns of repositories that can be changed.
const (
	RepositoryDescription RepositoryColumn = "description"
	RepositoryLabels      RepositoryColumn = "labels"
	RepositoryVisibility  RepositoryColumn = "visibility"
)

// SaveRepository records the columns named of a repository; all others stay.
func (tx *Tx) SaveRepository(r Repository, columns ...RepositoryColumn) error {
	tx.repositoryMoves(r)
	return saveColumns(tx, &r, columns)
}

// repositoryMoves notes that what a repository's name means changes.
func (tx *Tx) repositoryMoves(r Repository) {
	tx.touched.repositories = append(tx.touched.repositories, r.ID)
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Remove(r.Name) })
}

// namespaceMoves notes that what the names of a namespace and of all its
// repositories mean changes.
func (tx *Tx) namespaceMoves(n Namespace) error {
	tx.touched.namespaces = append(tx.touched.namespaces, n.ID)
	var ids []int64
	err := tx.db.Model(&Repository{}).Where("namespace_id = ?", n.ID).Where(ownRights).Pluck("id", &ids).Error
	tx.touched.repositories = append(tx.touched.repositories, ids...)
	tx.forget = append(tx.forget, func(c *cache) { c.repositories.Purge() })
	return err
}

// RenameNamespace gives a namespace, and with it all its repositories, another
// name. It fails with ErrTaken, with oci.CodeNameInvalid where the name of a
// repository would get too long, and as mayLeave does: whatever is called as it was could
// have other images under sealed tags.
func (tx *Tx) RenameNamespace(n Namespace, name string, l seals.Leave) error {
	if err := tx.mayLeave(Repository{NamespaceID: n.ID}, l); err != nil {
		return err
	}
	longest, err := one[Repository](tx.db.Where("namespace_id = ?", n.ID).Order("length(name) DESC"))
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if length := len(longest.Name) - len(n.Name) + len(name); err == nil && length > oci.MaxNameLength {
		return oci.Errorf(oci.CodeNameInvalid, "the repository %s would have a name of %d characters, and at most %d are allowed; take a shorter name, or rename that repository first",
			longest.Name, length, oci.MaxNameLength)
	}
	if err := tx.namespaceMoves(n); err != nil {
		return err
	}
	if err := taken(tx.db.Model(&Namespace{}).Where("id = ?", n.ID).Update("name", name).Error); err != nil {
		return err
	}
	return tx.db.Model(&Repository{}).Where("namespace_id = ?", n.ID).
		Update("name", gorm.Expr("? || substr(name, ?)", name, len(n.Name)+1)).Error
}

// RenameRepository gives a repository another name, in the namespace that the name
// begins with. It fails with ErrTaken, with ErrNotFound where there is no such
// namespace, with *quota.Exceeded, and as mayLeave does.
func (tx *Tx) RenameRepository(r Repository, name oci.Name, l seals.Leave) error {
	if err := tx.mayLeave(r, l); err != nil {
		return err
	}
	namespace, err := tx.Namespace(name.Namespace())
	if err != nil {
		return err
	}
	if err := tx.Bans().CheckRepository(r.ID, namespace.ID); err != nil {
		return err
	}
	tx.repositoryMoves(r)
	err = taken(tx.db.Model(&r).Select("name", "namespace_id").Updates(&Repository{Name: name, NamespaceID: namespace.ID}).Error)
	return tx.refused(Repository{NamespaceID: namespace.ID}, Actor{}, 0, err)
}

// RemoveNamespace takes a namespace with all its repositories out of sight. It fails as
// mayLeave does.
func (tx *Tx) RemoveNamespace(n Namespace, by Actor, l seals.Leave) (removal int64, err error) {
	if err := tx.mayLeave(Repository{NamespaceID: n.ID}, l); err != nil {
		return 0, err
	}
	removal, err = tx.BeginRemoval(RemovalOfNamespace, Repository{NamespaceID: n.ID}, n.Name, by)
	if err := errors.Join(err, tx.namespaceMoves(n)); err != nil {
		return 0, err
	}
	return removal, tx.db.Model(&n).Updates(map[string]any{"removed_at": tx.Now(), "removal_id": removal}).Error
}

// RemoveRepository takes a repository with all it holds out of sight. It fails as mayLeave
// does.
func (tx *Tx) RemoveRepository(r Repository, by Actor, l seals.Leave) (removal int64, err error) {
	if err := tx.mayLeave(r, l); err != nil {
		return 0, err
	}
	tx.repositoryMoves(r)
	removal, err = tx.BeginRemoval(RemovalOfRepository, r, string(r.Name), by)
	if err != nil {
		return 0, err
	}
	return removal, tx.db.Model(&r).Updates(map[string]any{"removed_at": tx.Now(), "removal_id": removal}).Error
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

// namespaceRow counts what a caller may see: its condition on repositories stands in
// each of the three places.
const namespaceRow = `namespaces.*,
	(SELECT count(*) FROM repositories WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0 AND (?)) AS repositories,
	(SELECT coalesce(sum(blobs.size), 0) FROM repositories JOIN holdings ON holdings.repository_id = repositories.id AND holdings.ended_at = 0
		JOIN blobs ON blobs.content_id = holdings.content_id WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0 AND (?)) AS size,
	(SELECT coalesce(max(repositories.pushed_at), 0) FROM repositories WHERE repositories.namespace_id = namespaces.id AND repositories.removed_at = 0 AND (?)) AS pushed_at`

// namespaceRows returns the namespaces that are seen: those that are open or in
// which the caller has a role, and those with a repository that is seen.
func (s *Store) namespaceRows(ctx context.Context, seen Seen) *gorm.DB {
	condition := seen.Condition()
	query := s.read.WithContext(ctx).Table("namespaces").Where("namespaces.removed_at = 0").Select(namespaceRow, condition, condition, condition)
	if seen.Everything && len(seen.Globs) == 0 {
		return query
	}
	within := s.read.WithContext(ctx).Table("repositories").Select("1").Where("repositories.namespace_id = namespaces.id AND repositories.removed_at = 0").Where(condition)
	if len(seen.Globs) > 0 || seen.Nothing {
		return query.Where("EXISTS (?)", within)
	}
	return query.Where("(namespaces.open OR namespaces.id IN (?) OR EXISTS (?))", seen.Granted(s.read.WithContext(ctx), "namespace_id"), within)
}

// Namespaces returns a page of the namespaces that are seen.
func (s *Store) Namespaces(ctx context.Context, p Page) ([]NamespaceRow, error) {
	var rows []NamespaceRow
	return rows, p.On(s.namespaceRows(ctx, p.Seen), "namespaces.name", "namespaces.created_at").Find(&rows).Error
}

// NamespaceRow returns one namespace where it is seen, or ErrNotFound.
func (s *Store) NamespaceRow(ctx context.Context, name string, seen Seen) (NamespaceRow, error) {
	return one[NamespaceRow](s.namespaceRows(ctx, seen).Where("namespaces.name = ?", name))
}
