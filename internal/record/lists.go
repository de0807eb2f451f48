package record

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/chains"
	"warthesis/internal/record/edges"
	"warthesis/internal/record/find"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/seen"
	"warthesis/internal/rule"
)

// Order is how a list is sorted.
type Order string

// The orders of lists. Names are sorted byte by byte.
const (
	ByName Order = "name"
	// ByChange puts what changed last first.
	ByChange Order = "change"
	// ByVersion puts the newest version first and, behind all versions, the other tags
	// with the highest numbers in them first. It is for tags alone.
	ByVersion Order = "version"
)

// Page asks for a part of a list. Lists page by key: After and AfterAt are the
// name and, in ByChange, the time of the last row before the page.
type Page struct {
	Order   Order
	After   string
	AfterAt Stamp
	// Contains keeps the rows whose name has this text in it, in any case.
	Contains string
	// Prefix keeps the rows whose name begins with this.
	Prefix string
	// Pattern keeps the tags that its place for a tag means; the zero value all.
	Pattern rule.Pattern
	// Limit is the most rows to return.
	Limit int
	// Seen keeps what the caller may see.
	Seen Seen
}

// Seen is which repositories a caller may see.
type Seen = seen.Seen

// on puts the page's order, key and limit to a query over the two columns.
func (p Page) on(query *gorm.DB, name, at string) *gorm.DB {
	if p.Contains != "" {
		query = query.Where("instr(lower("+name+"), ?) > 0", strings.ToLower(p.Contains))
	}
	if p.Prefix != "" {
		query = query.Where(name+" >= ? AND "+name+" < ?", p.Prefix, p.Prefix+nameEnd)
	}
	switch p.Order {
	case ByVersion:
		if p.After != "" {
			// Right behind a parenthesis the mapper takes bytes for a list.
			query = query.Where("(tags.order_key, "+name+") < ( ?, ?)", rule.OrderKey(p.After), p.After)
		}
		return query.Order("tags.order_key DESC, " + name + " DESC").Limit(p.Limit)
	case ByChange:
		if p.AfterAt != 0 {
			query = query.Where("("+at+", "+name+") < (?, ?)", p.AfterAt, p.After)
		}
		return query.Order(at + " DESC, " + name + " DESC").Limit(p.Limit)
	}
	if p.After != "" {
		query = query.Where(name+" > ?", p.After)
	}
	return query.Order(name).Limit(p.Limit)
}

// RepositoryRow is a repository with what lists show of it.
type RepositoryRow struct {
	Repository `gorm:"embedded"`
	// Tags and Manifests count the live ones.
	Tags      int64
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
	return rows, p.on(query, "repositories.name", "repositories.pushed_at").Find(&rows).Error
}

// RepositoryRow returns one repository as lists show it, or ErrNotFound.
func (s *Store) RepositoryRow(ctx context.Context, name oci.Name) (RepositoryRow, error) {
	return one[RepositoryRow](s.read.WithContext(ctx).Table("live_repositories AS repositories").Select(repositoryRow).Where("name = ?", name))
}

// TagRow is a tag with what it points to.
type TagRow struct {
	Name         oci.Tag
	Digest       oci.Digest
	MediaType    string
	ArtifactType string
	Platforms    string
	ContentSize  int64
	MovedAt      Stamp
	MovedBy      int64
	PulledAt     Stamp
	Pulls        int64
	FirstServed  int64
	SealedAt     int64
	SealedBy     int64
	SealReason   string
}

// Seal returns what seals ask of the tag.
func (t TagRow) Seal() seals.Tag {
	return seals.Tag{Name: t.Name, Digest: t.Digest, FirstServed: t.FirstServed, SealedAt: t.SealedAt, SealedBy: t.SealedBy, SealReason: t.SealReason}
}

// Tags returns a page of the tags of a repository with what they point to.
func (s *Store) Tags(ctx context.Context, repository int64, p Page) ([]TagRow, error) {
	glob, whole := p.Pattern.Tags()
	if whole {
		return s.tags(ctx, repository, p, glob)
	}
	// What SQL cannot tell is told here, of many rows at a time.
	var kept []TagRow
	limit := p.Limit
	for p.Limit = max(limit, tagsAtOnce); ; {
		rows, err := s.tags(ctx, repository, p, glob)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if p.Pattern.MeansTag(row.Name) {
				if kept = append(kept, row); len(kept) == limit {
					return kept, nil
				}
			}
		}
		if len(rows) < p.Limit {
			return kept, nil
		}
		last := rows[len(rows)-1]
		p.After, p.AfterAt = string(last.Name), last.MovedAt
	}
}

// mustBe is what holds of all tags of a kind, as far as SQL can tell: a release has no
// dash, and a commit ends in seven hex digits.
var mustBe = map[string]string{
	"<version>": "tags.order_key >= x'01'", "<release>": "tags.order_key >= x'01' AND instr(tags.name, '-') = 0", "<none>": "0",
	"<commit>": "tags.name GLOB '*" + strings.Repeat("[0-9a-f]", 7) + "'",
}

// tagsAtOnce is how many tags are read at a time where each is looked at.
const tagsAtOnce = 2000

func (s *Store) tags(ctx context.Context, repository int64, p Page, glob string) ([]TagRow, error) {
	var rows []TagRow
	query := s.read.WithContext(ctx).Table("tags").
		Select("tags.name, tags.moved_at, tags.moved_by, tags.pulled_at, tags.pulls, tags.first_served, tags.sealed_at, tags.sealed_by, tags.seal_reason, "+
			"manifests.digest, manifests.media_type, manifests.artifact_type, manifests.platforms, manifests.content_size").
		Joins("JOIN manifests ON manifests.id = tags.manifest_id").
		Where("tags.repository_id = ? AND "+liveTags, repository)
	if glob != "" {
		query = query.Where("tags.name GLOB ?", glob)
	}
	if must := mustBe[p.Pattern.Kind()]; must != "" {
		query = query.Where(must)
	}
	return rows, p.on(query, "tags.name", "tags.moved_at").Find(&rows).Error
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

// nameEnd sorts behind every character of names, tags and digests.
const nameEnd = "~"

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
