// Package seen says, as conditions of the database, what somebody may see.
package seen

import (
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Member says of a grant that it is an account's or one of its groups'; it takes
// the account's ID twice.
const Member = `grants.account_id = ? AND grants.group_id = 0
	OR grants.account_id = 0 AND grants.group_id IN (SELECT group_id FROM group_members WHERE group_members.account_id = ?)`

// Seen is which repositories a caller may see. The zero value sees what anybody may
// pull from. It is asked in the database, so that it does not grow with what there is.
type Seen struct {
	// Everything is every repository, Nothing none.
	Everything, Nothing bool
	// Account sees also where it, or a group of its, has a role; 0 is nobody.
	Account int64
	// Globs, where there are any, keep of all this what matches one of them.
	Globs []string
}

const seenOpen = `repositories.visibility = 'open' OR repositories.visibility = '' AND repositories.namespace_id IN (SELECT id FROM namespaces WHERE open)`

const seenByRole = seenOpen + ` OR repositories.namespace_id IN (SELECT grants.namespace_id FROM grants WHERE grants.namespace_id <> 0 AND (` + Member + `))
	OR repositories.id IN (SELECT grants.repository_id FROM grants WHERE grants.repository_id <> 0 AND (` + Member + `))`

// Condition is what holds of the repositories that are seen.
func (s Seen) Condition() clause.Expr {
	if s.Nothing {
		return gorm.Expr("0")
	}
	sql, values := "1", []any(nil)
	switch {
	case s.Everything:
	case s.Account == 0:
		sql = "(" + seenOpen + ")"
	default:
		sql, values = "("+seenByRole+")", []any{s.Account, s.Account, s.Account, s.Account}
	}
	if len(s.Globs) > 0 {
		sql += " AND (" + strings.Repeat("repositories.name GLOB ? OR ", len(s.Globs)-1) + "repositories.name GLOB ?)"
		for _, glob := range s.Globs {
			values = append(values, glob)
		}
	}
	return gorm.Expr(sql, values...)
}

// On keeps the repositories that are seen.
func (s Seen) On(query *gorm.DB) *gorm.DB { return query.Where(s.Condition()) }

// Granted lists the places of a kind in which the account has a role.
func (s Seen) Granted(db *gorm.DB, place string) *gorm.DB {
	return db.Table("grants").Select(place).Where(place+" <> 0 AND ? <> 0", s.Account).Where("("+Member+")", s.Account, s.Account)
}
