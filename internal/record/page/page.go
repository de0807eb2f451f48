// Package page is how lists are asked for in parts: by key, in an order, of what is seen.
package page

import (
	"strings"

	"gorm.io/gorm"

	"warthesis/internal/record/seen"
	"warthesis/internal/record/stamp"
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
	AfterAt stamp.Stamp
	// Contains keeps the rows whose name has this text in it, in any case.
	Contains string
	// Prefix keeps the rows whose name begins with this.
	Prefix string
	// Pattern keeps the tags that its place for a tag means; the zero value all.
	Pattern rule.Pattern
	// Limit is the most rows to return.
	Limit int
	// Seen keeps what the caller may see.
	Seen seen.Seen
}

// On puts the page's order, key and limit to a query over the two columns.
func (p Page) On(query *gorm.DB, name, at string) *gorm.DB {
	if p.Contains != "" {
		query = query.Where("instr(lower("+name+"), ?) > 0", strings.ToLower(p.Contains))
	}
	if p.Prefix != "" {
		query = query.Where(name+" >= ? AND "+name+" < ?", p.Prefix, p.Prefix+NameEnd)
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

// NameEnd sorts behind every character of names, tags and digests.
const NameEnd = "~"
