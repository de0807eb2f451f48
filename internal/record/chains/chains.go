// Package chains tells why content is here: which repositories hold it, and the chains of
// names that keep it there, from a tag by way of manifests down to it.
package chains

import (
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

const (
	mostHolders = 50
	mostChains  = 20
	mostNamers  = 50
	mostTags    = 5
	// deepest bounds how far up a chain goes: indexes may name indexes.
	deepest = 8
)

// Records are the records as of the last commit.
type Records struct {
	DB *gorm.DB
	// Seen keeps the repositories that somebody may see; Everything tells that it is all,
	// removed ones included.
	Seen       clause.Expr
	Everything bool
	// Relation gives the number of an edge its word, in SQL.
	Relation string
}

// Content is what is known of a digest. Times are in nanoseconds, of served time where
// they are called so.
type Content struct {
	ID     int64
	Digest oci.Digest
	// Here tells that there are bytes of it.
	Here          bool
	Size          int64
	State         string
	TouchedServed int64
}

// Content returns what is known of a digest, with the ID 0 for nothing.
func (r Records) Content(digest oci.Digest) (c Content, err error) {
	return c, r.DB.Raw(`SELECT contents.id, contents.digest, blobs.content_id IS NOT NULL AS here, coalesce(blobs.size, 0) AS size, coalesce(blobs.state, '') AS state,
		coalesce(blobs.touched_served, 0) AS touched_served FROM contents LEFT JOIN blobs ON blobs.content_id = contents.id WHERE contents.digest = ?`, digest).Scan(&c).Error
}

// Holder is a repository that has content.
type Holder struct {
	ID          int64
	NamespaceID int64
	Name        oci.Name
	// PlaceRemovalID is the removal of the repository or of its namespace, 0 where it is live.
	PlaceRemovalID int64
	// Held tells that it is held as a blob; what follows is of that.
	Held          bool
	HeldAt        int64
	TouchedServed int64
	// EndedRemovalID is the removal by which the holding ended, 0 for none.
	EndedRemovalID int64
	// UploadServed is when its oldest open upload began, 0 for none.
	UploadServed int64

	Chains []Chain `gorm:"-"`
	// More tells that there are more chains.
	More bool `gorm:"-"`
}

// Link is one name in a chain.
type Link struct {
	// Kind is tag, index, manifest or content.
	Kind   string
	Digest oci.Digest
	Tag    oci.Tag
	// As is as what the link before names this one: config, layer or child; "" for the first
	// manifest.
	As string
	// RemovalID is the removal by which it went, 0 while it is live.
	RemovalID int64
	Sealed    bool
}

// Chain is what keeps content: from a tag, or from a manifest that nothing names, down.
type Chain []Link

// Holders returns the repositories that are seen and have content, up to some, and
// whether there are more.
func (r Records) Holders(content int64) (holders []Holder, more bool, err error) {
	// For whoever does not see all it is asked what stands in each repository that is seen, so
	// that what others hold does not show in how long it takes.
	from, has := "live_repositories", `EXISTS (SELECT 1 FROM holdings AS mine WHERE mine.repository_id = repositories.id AND mine.content_id = ?)
		OR EXISTS (SELECT 1 FROM manifests AS mine WHERE mine.repository_id = repositories.id AND mine.content_id = ?)`
	if r.Everything {
		from, has = "repositories", "repositories.id IN (SELECT repository_id FROM holdings WHERE content_id = ? UNION SELECT repository_id FROM manifests WHERE content_id = ?)"
	}
	err = r.DB.Raw(`SELECT repositories.id, repositories.namespace_id, repositories.name,
			CASE WHEN repositories.removed_at <> 0 THEN repositories.removal_id WHEN namespaces.removed_at <> 0 THEN namespaces.removal_id ELSE 0 END AS place_removal_id,
			holdings.content_id IS NOT NULL AS held, coalesce(holdings.held_at, 0) AS held_at, coalesce(holdings.touched_served, 0) AS touched_served,
			CASE WHEN holdings.ended_at <> 0 THEN holdings.removal_id ELSE 0 END AS ended_removal_id,
			coalesce((SELECT min(started_served) FROM uploads WHERE uploads.repository_id = repositories.id), 0) AS upload_served
		FROM `+from+` AS repositories JOIN namespaces ON namespaces.id = repositories.namespace_id
		LEFT JOIN holdings ON holdings.repository_id = repositories.id AND holdings.content_id = ?
		WHERE repositories.gone_at = 0 AND (`+has+`) AND (?) ORDER BY place_removal_id <> 0, repositories.name LIMIT ?`, content, content, content, r.Seen, mostHolders+1).Scan(&holders).Error
	if len(holders) > mostHolders {
		holders, more = holders[:mostHolders], true
	}
	for i := range holders {
		if err == nil {
			err = r.climb(&holders[i], content)
		}
	}
	return holders, more, err
}

// named is a manifest that names content, or is it.
type named struct {
	ID        int64
	ContentID int64
	Digest    oci.Digest
	RemovalID int64
	Relation  string
	MediaType string
	Children  bool
}

const namedSQL = `manifests.id, manifests.content_id, manifests.digest, CASE manifests.state WHEN 'live' THEN 0 ELSE manifests.removal_id END AS removal_id, manifests.media_type,
	EXISTS (SELECT 1 FROM edges AS below WHERE below.manifest_id = manifests.id AND below.relation = 3) AS children`

// climb finds the chains from content up, the shortest first.
func (r Records) climb(h *Holder, content int64) error {
	type path struct {
		content int64
		below   Chain
	}
	var self []named
	if err := r.DB.Raw("SELECT "+namedSQL+", '' AS relation FROM manifests WHERE repository_id = ? AND content_id = ?", h.ID, content).Scan(&self).Error; err != nil {
		return err
	}
	open := []path{{content, nil}}
	if len(self) > 0 {
		if err := r.top(h, self[0], nil); err != nil {
			return err
		}
		open[0].below = Chain{self[0].link()}
	}
	seen := map[int64]bool{}
	for depth := 0; depth < deepest && len(open) > 0; depth++ {
		var above []path
		for _, p := range open {
			var namers []named
			if err := r.DB.Raw("SELECT "+namedSQL+", "+r.Relation+` AS relation FROM edges JOIN manifests ON manifests.id = edges.manifest_id
				WHERE edges.content_id = ? AND edges.repository_id = ? AND edges.relation < 4 ORDER BY manifests.state = 'live' DESC, manifests.id LIMIT ?`, p.content, h.ID, mostNamers).Scan(&namers).Error; err != nil {
				return err
			}
			for _, m := range namers {
				if len(h.Chains) >= mostChains {
					h.More = true
					return nil
				}
				if seen[m.ID] {
					continue
				}
				seen[m.ID] = true
				below := append(Chain{}, p.below...)
				if len(below) == 0 {
					below = Chain{{Kind: "content"}}
				}
				below[0].As = m.Relation
				if err := r.top(h, m, below); err != nil {
					return err
				}
				above = append(above, path{m.ContentID, append(Chain{m.link()}, below...)})
			}
		}
		open = above
	}
	return nil
}

func (m named) link() Link {
	kind := "manifest"
	if m.Children {
		kind = "index"
	}
	return Link{Kind: kind, Digest: m.Digest, RemovalID: m.RemovalID}
}

// top adds a chain for each tag that points to a manifest, and one for a manifest that
// neither a tag nor another manifest names.
func (r Records) top(h *Holder, m named, below Chain) error {
	var tags []struct {
		Name      oci.Tag
		RemovalID int64
		Sealed    bool
	}
	if err := r.DB.Raw("SELECT name, removal_id, sealed_at <> 0 AS sealed FROM tags WHERE manifest_id = ? ORDER BY removal_id <> 0, name LIMIT ?", m.ID, mostTags+1).Scan(&tags).Error; err != nil {
		return err
	}
	if len(tags) > mostTags {
		tags, h.More = tags[:mostTags], true
	}
	for _, t := range tags {
		h.Chains = append(h.Chains, append(Chain{{Kind: "tag", Tag: t.Name, Digest: m.Digest, RemovalID: t.RemovalID, Sealed: t.Sealed}, m.link()}, below...))
	}
	if len(tags) > 0 {
		return nil
	}
	var isNamed bool
	if err := r.DB.Raw("SELECT EXISTS (SELECT 1 FROM edges WHERE content_id = ? AND repository_id = ? AND relation = 3)", m.ContentID, h.ID).Scan(&isNamed).Error; err != nil || isNamed {
		return err
	}
	h.Chains = append(h.Chains, append(Chain{m.link()}, below...))
	return nil
}
