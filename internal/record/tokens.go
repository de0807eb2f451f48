package record

import (
	"context"
	"fmt"

	"gorm.io/gorm"
)

// TokenKind is what a token was made for.
type TokenKind string

// The kinds of tokens: made by hand, by a login of the client, or by signing in to
// the console.
const (
	TokenMade    TokenKind = "token"
	TokenLogin   TokenKind = "login"
	TokenSession TokenKind = "session"
)

// Scope bounds what a token may be used for: the actions, in the repositories
// whose names match the pattern.
type Scope struct {
	Pattern string   `json:"pattern"`
	Actions []string `json:"actions"`
}

// Token is a secret that stands for an account; the records have its hash alone.
type Token struct {
	ID        int64
	AccountID int64
	Kind      TokenKind
	Name      string
	Hash      string
	Scopes    []Scope `gorm:"serializer:json"`
	// ParentID is the token by which it was made, 0 for a password, the company's
	// login or an identity; RuleID is the identity rule behind it, 0 for none. It
	// ends with either.
	ParentID  int64
	RuleID    int64
	CreatedAt Stamp
	// EndsAt is 0 for never.
	EndsAt    Stamp
	RevokedAt Stamp
	UsedAt    Stamp
	UsedFrom  string
}

// TokenUse is that a token was used.
type TokenUse struct {
	TokenID  int64
	UsedAt   Stamp
	UsedFrom string
}

// MakeToken records a token.
func (tx *Tx) MakeToken(t Token) (Token, error) {
	t.CreatedAt = tx.Now()
	if t.Scopes == nil {
		t.Scopes = []Scope{}
	}
	err := tx.db.Create(&t).Error
	tx.touched.tokens = append(tx.touched.tokens, t.ID)
	return t, err
}

// Token returns a token that is not revoked, or ErrNotFound.
func (v View) Token(id int64) (Token, error) {
	return one[Token](v.db.Where("id = ? AND revoked_at = 0", id))
}

// RevokeToken ends a token and all that was made by it. It fails with ErrNotFound
// where it is not live.
func (tx *Tx) RevokeToken(id int64) error {
	if _, err := tx.Token(id); err != nil {
		return err
	}
	return tx.revoke("SELECT id FROM tokens WHERE id = ?", id)
}

// revoke ends the tokens that a query names, and all that was made by them.
func (tx *Tx) revoke(roots string, values ...any) error {
	var ids []int64
	err := tx.db.Raw(`WITH RECURSIVE ended (id) AS (`+roots+` UNION SELECT tokens.id FROM tokens JOIN ended ON tokens.parent_id = ended.id)
		SELECT tokens.id FROM tokens JOIN ended ON ended.id = tokens.id WHERE revoked_at = 0`, values...).Scan(&ids).Error
	if err != nil {
		return err
	}
	return inSlices(ids, func(some []int64) error {
		tx.touched.tokens = append(tx.touched.tokens, some...)
		return tx.db.Model(&Token{}).Where("id IN ?", some).Update("revoked_at", tx.Now()).Error
	})
}

// EndLogin ends a login or a session that its owner is done with, and the logins,
// sessions and short tokens that were made by it. Tokens that were made by hand go
// on: whoever made them leaves in good order. It fails with ErrNotFound where the
// login is not live.
func (tx *Tx) EndLogin(id int64) error {
	ended, err := tx.Token(id)
	if err != nil {
		return err
	}
	if err := tx.adopt([]int64{id}, ended.ParentID); err != nil {
		return err
	}
	return tx.revoke("SELECT id FROM tokens WHERE id = ?", id)
}

// adopt gives tokens that were made by hand by some another parent.
func (tx *Tx) adopt(of []int64, parent int64) error {
	return inSlices(of, func(some []int64) error {
		children := func() *gorm.DB { return tx.db.Model(&Token{}).Where("parent_id IN ? AND kind = ?", some, TokenMade) }
		var ids []int64
		if err := children().Pluck("id", &ids).Error; err != nil {
			return err
		}
		tx.touched.tokens = append(tx.touched.tokens, ids...)
		return children().Update("parent_id", parent).Error
	})
}

// EndLogins ends all logins and sessions of an account but one, as EndLogin does.
func (tx *Tx) EndLogins(account, but int64) error {
	const logins = "SELECT id FROM tokens WHERE account_id = ? AND kind <> 'token' AND id <> ?"
	var ids []int64
	if err := tx.db.Raw(logins+" AND revoked_at = 0", account, but).Scan(&ids).Error; err != nil {
		return err
	}
	if err := tx.adopt(ids, 0); err != nil {
		return err
	}
	// The one that goes on stands by itself from now on.
	if err := tx.db.Model(&Token{}).Where("id = ?", but).Update("parent_id", 0).Error; err != nil {
		return err
	}
	tx.touched.tokens = append(tx.touched.tokens, but)
	return tx.revoke(logins, account, but)
}

// CountTokens counts the live tokens of an account of a kind that have not ended.
func (v View) CountTokens(account int64, kind TokenKind, now Stamp) (int64, error) {
	var count int64
	return count, liveTokens(v.db, account, kind, now).Count(&count).Error
}

func liveTokens(db *gorm.DB, account int64, kind TokenKind, now Stamp) *gorm.DB {
	return db.Model(&Token{}).Where("account_id = ? AND kind = ? AND revoked_at = 0 AND (ends_at = 0 OR ends_at > ?)", account, kind, now)
}

// EndOldest ends those live tokens of an account and a kind that were used longest
// ago, so that at most keep stay.
func (tx *Tx) EndOldest(account int64, kind TokenKind, keep int) error {
	var ids []int64
	err := liveTokens(tx.db, account, kind, tx.Now()).Order("max(used_at, created_at) DESC, id DESC").Offset(keep).Limit(sliceLength).Pluck("id", &ids).Error
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := tx.EndLogin(id); err != nil {
			return fmt.Errorf("end the login %d: %w", id, err)
		}
	}
	return nil
}

// TokensOf returns the tokens of an account that were not revoked, the newest
// first; sessions of the console only where asked for.
func (v View) TokensOf(account int64, sessions bool) ([]Token, error) {
	query := v.db.Where("account_id = ? AND revoked_at = 0", account)
	if !sessions {
		query = query.Where("kind <> ?", TokenSession)
	}
	var rows []Token
	return rows, query.Order("id DESC").Find(&rows).Error
}

// DropEnded removes sessions and logins that ended before the time, up to a slice
// of them, and reports whether there may be more.
func (tx *Tx) DropEnded(before Stamp) (more bool, err error) {
	var ids []int64
	err = tx.db.Model(&Token{}).Where("kind <> ? AND ends_at <> 0 AND ends_at < ?", TokenMade, before).Limit(sliceLength).Pluck("id", &ids).Error
	if err != nil || len(ids) == 0 {
		return false, err
	}
	tx.touched.tokens = append(tx.touched.tokens, ids...)
	// What was made by hand by one of them, and still lives, stands by itself.
	if err := tx.adopt(ids, 0); err != nil {
		return false, err
	}
	return len(ids) == sliceLength, tx.db.Where("id IN ?", ids).Delete(&Token{}).Error
}

// IdentityRule lets whoever comes with an identity of the issuer be a machine account.
type IdentityRule struct {
	ID        int64
	Name      string
	Issuer    string
	Audience  string
	Subject   string
	AccountID int64
	CreatedAt Stamp
}

// MakeIdentityRule records a rule. It fails with ErrTaken.
func (tx *Tx) MakeIdentityRule(r IdentityRule) error {
	tx.touched.rules = true
	r.CreatedAt = tx.Now()
	return taken(tx.db.Create(&r).Error)
}

// RemoveIdentityRule removes a rule, and ends all that was got by it. It fails with
// ErrNotFound.
func (tx *Tx) RemoveIdentityRule(name string) error {
	tx.touched.rules = true
	rule, err := one[IdentityRule](tx.db.Where("name = ?", name))
	if err != nil {
		return err
	}
	if err := tx.revoke("SELECT id FROM tokens WHERE rule_id = ?", rule.ID); err != nil {
		return err
	}
	// The ID may be given again: nothing that was revoked may seem to be of that rule.
	if err := tx.db.Model(&Token{}).Where("rule_id = ?", rule.ID).Update("rule_id", 0).Error; err != nil {
		return err
	}
	return tx.db.Delete(&rule).Error
}

// IdentityRules returns all rules, the oldest first.
func (v View) IdentityRules(ctx context.Context) ([]IdentityRule, error) {
	var rules []IdentityRule
	return rules, v.db.WithContext(ctx).Order("id").Find(&rules).Error
}
