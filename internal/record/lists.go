package record

import (
	"context"
	"warthesis/internal/oci"
	"warthesis/internal/record/chains"
	"warthesis/internal/record/edges"
	"warthesis/internal/record/find"
	"warthesis/internal/record/page"
	"warthesis/internal/record/seen"
	"warthesis/internal/record/taglist"
)

// Page asks for a part of a list, in an Order.
type (
	Page  = page.Page
	Order = page.Order
)

// The orders of lists.
const (
	ByName    = page.ByName
	ByChange  = page.ByChange
	ByVersion = page.ByVersion
)

// Seen is which repositories a caller may see.
type Seen = seen.Seen

// RepositoryRow is a repository with what lists show of it.
type RepositoryRow struct {
	Repository `gorm:"embedded"`
	// Tags and Manifests count the live ones; TagQuota is how many tags there may be, 0 for
	// no bound.
	Tags      int64
	TagQuota  int64
	Manifests int64
	// Size is that of the distinct content the repository holds, in bytes.
	Size int64
}

const repositoryRow = `repositories.*,
	(SELECT count(*) FROM tags WHERE tags.repository_id = repositories.id AND tags.removal_id = 0) AS tags,
	(SELECT count(*) FROM manifests WHERE manifests.repository_id = repositories.id AND manifests.state = 'live') AS manifests,
	(SELECT coalesce(sum(blobs.size), 0) FROM holdings JOIN blobs ON blobs.content_id = holdings.content_id
		WHERE holdings.repository_id = repositories.id AND holdings.ended_at = 0) +
	(SELECT coalesce(sum(size), 0) FROM manifests WHERE manifests.repository_id = repositories.id AND manifests.state = 'live') AS size`

// Repositories returns a page of the repositories, of one namespace or, with an
// empty one, of all.
func (s *Store) Repositories(ctx context.Context, namespace string, p Page) ([]RepositoryRow, error) {
	query := p.Seen.On(s.read.WithContext(ctx).Table("live_repositories AS repositories").Select(repositoryRow))
	if namespace != "" {
		query = query.Where("namespace_id = (SELECT id FROM namespaces WHERE name = ? AND removed_at = 0)", namespace)
	}
	var rows []RepositoryRow
	return rows, p.On(query, "repositories.name", "repositories.pushed_at").Find(&rows).Error
}

// RepositoryRow returns one repository as lists show it, or ErrNotFound.
func (s *Store) RepositoryRow(ctx context.Context, name oci.Name) (RepositoryRow, error) {
	return one[RepositoryRow](s.read.WithContext(ctx).Table("live_repositories AS repositories").Select(repositoryRow).Where("name = ?", name))
}

// TagRow is a tag with what it points to.
type TagRow = taglist.Row

// Tags returns a page of the tags of a repository with what they point to.
func (s *Store) Tags(ctx context.Context, repository int64, p Page) ([]TagRow, error) {
	return taglist.Of(s.read.WithContext(ctx), repository, p)
}

// TagDigests returns up to limit tags behind after, in order, with what they point to.
func (v View) TagDigests(repository int64, after string, limit int) ([]taglist.Digest, error) {
	return taglist.Digests(v.db, repository, after, limit)
}

// TagNames returns up to limit names of tags behind after, in order.
func (s *Store) TagNames(ctx context.Context, repository int64, after string, limit int) ([]oci.Tag, error) {
	var names []oci.Tag
	return names, s.read.WithContext(ctx).Model(&tag{}).
		Where("repository_id = ? AND name > ? AND "+liveTags, repository, after).Order("name").Limit(limit).Pluck("name", &names).Error
}

// TagsOf returns the tags that point to a manifest, in order.
func (s *Store) TagsOf(ctx context.Context, manifest int64) ([]oci.Tag, error) {
	var names []oci.Tag
	return names, s.read.WithContext(ctx).Model(&tag{}).Where("manifest_id = ? AND "+liveTags, manifest).Order("name").Pluck("name", &names).Error
}

// Find looks for what somebody may see.
func (v View) Find(seen Seen) find.Finder {
	return find.Finder{DB: v.db, Seen: seen.Condition(), Everything: seen.Everything, Relation: edges.SQL}
}

// Referrers returns up to limit live manifests of the repository that refer to
// the subject, in the order of their digests behind after, with what a descriptor
// has of them. With an artifact type only those of that type.
func (s *Store) Referrers(ctx context.Context, repository int64, subject oci.Digest, artifactType string, after oci.Digest, limit int) ([]Manifest, error) {
	query := s.read.WithContext(ctx).Select("media_type", "digest", "size", "artifact_type", "annotations").
		Where("repository_id = ? AND subject = ? AND subject <> '' AND digest > ? AND state = ?", repository, subject, after, StateLive)
	if artifactType != "" {
		query = query.Where("artifact_type = ?", artifactType)
	}
	var rows []Manifest
	return rows, query.Order("digest").Limit(limit).Find(&rows).Error
}

// RepositoryNames returns up to limit names of repositories behind after, in order.
func (s *Store) RepositoryNames(ctx context.Context, after string, limit int, seen Seen) ([]oci.Name, error) {
	var names []oci.Name
	return names, seen.On(s.read.WithContext(ctx).Table("live_repositories AS repositories")).
		Where("name > ?", after).Order("name").Limit(limit).Pluck("name", &names).Error
}

// Chains tell why content is here, as far as it is seen.
func (v View) Chains(seen Seen) chains.Records {
	return chains.Records{DB: v.db, Seen: seen.Condition(), Everything: seen.Everything && len(seen.Globs) == 0, Relation: edges.SQL}
}
