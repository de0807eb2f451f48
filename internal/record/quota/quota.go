// Package quota bounds what namespaces and accounts hold, in bytes, and how many tags
// repositories have. The sums are kept by the database as things change.
package quota

import (
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// What is bounded.
const (
	OfNamespace  = "namespace"
	OfAccount    = "account"
	OfRepository = "repository"
)

// Use is how much of a quota is used: bytes, or tags of a repository.
type Use struct {
	// Of is what is bounded, ID and Name which one.
	Of   string
	ID   int64
	Name string
	// Used is what is held, Quota what may be, 0 for no bound.
	Used, Quota int64
}

// Exceeded refuses what would go beyond a quota.
type Exceeded struct {
	Use
	// Reserved is what open uploads are to bring, Adds what was to come.
	Reserved, Adds int64
}

// Error says it with the numbers, and what to do.
func (e *Exceeded) Error() string {
	if e.Of == OfRepository {
		return fmt.Sprintf("the repository %s has %d of %d tags that its quota allows; remove some that nobody needs, or ask a registry admin for more", e.Name, e.Used, e.Quota)
	}
	said := fmt.Sprintf("the %s %s uses %s of %s that its quota allows", e.Of, e.Name, Bytes(e.Used), Bytes(e.Quota))
	if e.Reserved > 0 {
		said += fmt.Sprintf(", and uploads that are under way bring %s", Bytes(e.Reserved))
	}
	if e.Adds > 0 {
		said += fmt.Sprintf("; this would add %s", Bytes(e.Adds))
	}
	return said + ". Remove what nobody needs, end restore windows early (warthesis removal drop) and sweep, or ask a registry admin for more"
}

// Is makes it a refusal of the protocol.
func (e *Exceeded) Is(target error) bool { return target == oci.CodeDenied }

// As gives it the standard's form.
func (e *Exceeded) As(target any) bool {
	refusal, is := target.(**oci.Error)
	if is {
		*refusal = &oci.Error{Code: oci.CodeDenied, Message: e.Error(), Detail: Detail{e.Of, e.Name, e.Used, e.Reserved, e.Quota, e.Adds}}
	}
	return is
}

// Detail is the detail of a refusal.
type Detail struct {
	Of       string `json:"of"`
	Name     string `json:"name"`
	Used     int64  `json:"used"`
	Reserved int64  `json:"reserved,omitempty"`
	Quota    int64  `json:"quota"`
	Adds     int64  `json:"adds,omitempty"`
}

// Bytes writes a number of bytes for people.
func Bytes(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// Records are the records in a change, or as of the last commit.
type Records struct{ DB *gorm.DB }

// row is what is kept of a namespace or an account.
type row struct {
	Quota, HeldBytes int64
	Name             string
}

func (r row) use(of string, id int64) Use { return Use{of, id, r.Name, r.HeldBytes, r.Quota} }

// Warning is that a quota is nearly full, which is said once until it is less so.
type Warning struct{ Use }

// String says it.
func (w Warning) String() string {
	if w.Of == OfRepository {
		return fmt.Sprintf("the repository %s has %d of %d tags that its quota allows", w.Name, w.Used, w.Quota)
	}
	return fmt.Sprintf("the %s %s uses %s of %s that its quota allows", w.Of, w.Name, Bytes(w.Used), Bytes(w.Quota))
}

// Nearly reports whether more than four fifths of a quota are used.
func (u Use) Nearly() bool { return u.Quota > 0 && u.Used*5 >= u.Quota*4 }

// refused are what the records say of what a quota refuses, in the change that would add.
var refused = map[string]string{"quota of the namespace": OfNamespace, "quota of the account": OfAccount, "quota of the repository": OfRepository}

// Refused tells of an error of a change whether a quota refused it: it is *Exceeded then,
// with what would have been added, and the error as it is otherwise.
func (r Records) Refused(err error, ids map[string]int64, adds int64) error {
	if err == nil {
		return nil
	}
	for says, of := range refused {
		if !strings.Contains(err.Error(), says) {
			continue
		}
		use, failed := r.use(of, ids[of])
		if failed != nil {
			return errors.Join(err, failed)
		}
		return &Exceeded{Use: use, Adds: adds}
	}
	return err
}

func (r Records) use(of string, id int64) (Use, error) {
	switch of {
	case OfNamespace:
		return r.Namespace(id)
	case OfAccount:
		return r.Account(id)
	}
	return r.Repository(id)
}

// Unsaid returns quotas of which more than four fifths are used, and of which that was not
// said yet.
func (r Records) Unsaid() (all []Use, err error) {
	return all, r.DB.Raw(`SELECT 'namespace' AS of, id, name, held_bytes AS used, quota FROM namespaces WHERE warned = 1 AND quota > 0
		UNION ALL SELECT 'account', id, name, held_bytes, quota FROM accounts WHERE warned = 1 AND quota > 0
		UNION ALL SELECT 'repository', id, name, tag_count, tag_quota FROM repositories WHERE warned = 1 AND tag_quota > 0`).Scan(&all).Error
}

// tables are where quotas stand.
var tables = map[string]string{OfNamespace: "namespaces", OfAccount: "accounts", OfRepository: "repositories"}

// Said notes that it was said that a quota is nearly full, and reports whether it was not
// before.
func (r Records) Said(use Use) (first bool, err error) {
	done := r.DB.Exec("UPDATE "+tables[use.Of]+" SET warned = 2 WHERE id = ? AND warned = 1", use.ID)
	return done.RowsAffected > 0, done.Error
}

// Namespace and Account return how much of a quota is used; the zero value where there is
// no such one.
func (r Records) Namespace(id int64) (Use, error) { return r.get(OfNamespace, "namespaces", id) }

func (r Records) Account(id int64) (Use, error) { return r.get(OfAccount, "accounts", id) }

func (r Records) get(of, table string, id int64) (Use, error) {
	var is row
	err := r.DB.Raw("SELECT quota, held_bytes, name FROM "+table+" WHERE id = ?", id).Scan(&is).Error
	return is.use(of, id), err
}

// Has reports whether a digest is held in a namespace, so that it adds nothing there.
func (r Records) Has(namespace int64, digest oci.Digest) (there bool, err error) {
	return there, r.DB.Raw("SELECT EXISTS (SELECT 1 FROM namespace_blobs JOIN contents ON contents.id = content_id WHERE namespace_id = ? AND contents.digest = ?)", namespace, digest).Scan(&there).Error
}

// Set sets a quota, 0 for none: of a namespace or an account in bytes, of a repository in
// tags.
func (r Records) Set(of string, id, quota int64) error {
	switch of {
	case OfRepository:
		return r.DB.Exec("UPDATE repositories SET tag_quota = ?, warned = ? > 0 AND tag_count * 5 >= ? * 4 WHERE id = ?", quota, quota, quota, id).Error
	case OfAccount:
		return r.DB.Exec("UPDATE accounts SET quota = ?, warned = ? > 0 AND held_bytes * 5 >= ? * 4 WHERE id = ?", quota, quota, quota, id).Error
	}
	return r.DB.Exec("UPDATE namespaces SET quota = ?, warned = ? > 0 AND held_bytes * 5 >= ? * 4 WHERE id = ?", quota, quota, quota, id).Error
}

// All returns the uses of live namespaces, of accounts and of repositories that have a
// quota, the fullest first.
func (r Records) All(limit int) (all []Use, err error) {
	return all, r.DB.Raw(`SELECT * FROM (
		SELECT 'namespace' AS of, id, name, held_bytes AS used, quota FROM namespaces WHERE quota > 0 AND removed_at = 0
		UNION ALL SELECT 'account', id, name, held_bytes, quota FROM accounts WHERE quota > 0
		UNION ALL SELECT 'repository', id, name, tag_count, tag_quota FROM live_repositories WHERE tag_quota > 0)
		ORDER BY CAST(used AS REAL) / quota DESC, name LIMIT ?`, limit).Scan(&all).Error
}

// Repository returns how many tags of its quota a repository has.
func (r Records) Repository(id int64) (Use, error) {
	var is struct {
		TagQuota, TagCount int64
		Name               string
	}
	err := r.DB.Raw("SELECT tag_quota, tag_count, name FROM repositories WHERE id = ?", id).Scan(&is).Error
	return Use{OfRepository, id, is.Name, is.TagCount, is.TagQuota}, err
}

// sums are what is kept beside what it is a sum of.
var sums = map[string]struct{ table, column, is string }{
	OfNamespace:  {"namespaces", "held_bytes", "(SELECT coalesce(sum(size), 0) FROM blobs WHERE content_id IN (SELECT content_id FROM repositories JOIN holdings ON holdings.repository_id = repositories.id WHERE namespace_id = x.id))"},
	OfAccount:    {"accounts", "held_bytes", "(SELECT coalesce(sum(size), 0) FROM account_blobs JOIN blobs ON blobs.content_id = account_blobs.content_id WHERE account_id = x.id)"},
	OfRepository: {"repositories", "tag_count", "(SELECT count(*) FROM tags WHERE tags.repository_id = x.id AND removal_id = 0)"},
}

// Counted is a sum as it is kept, and as it is when it is counted again.
type Counted struct {
	Of         string
	ID         int64
	Name       string
	Kept, Real int64
}

// Next counts the sum of the next namespace, account or repository behind an ID again; the
// zero value is the end.
func (r Records) Next(of string, after int64) (c Counted, err error) {
	sum := sums[of]
	return c, r.DB.Raw("SELECT '"+of+"' AS of, id, name, "+sum.column+" AS kept, "+sum.is+" AS real FROM "+sum.table+" AS x WHERE id > ? ORDER BY id LIMIT 1", after).Scan(&c).Error
}

// Mend sets a sum that is wrong right, also where more is held than the quota allows.
func (r Records) Mend(c Counted) error {
	sum := sums[c.Of]
	use, err := r.use(c.Of, c.ID)
	return errors.Join(err, r.Set(c.Of, c.ID, 0),
		r.DB.Exec("UPDATE "+sum.table+" AS x SET "+sum.column+" = "+sum.is+" WHERE id = ?", c.ID).Error, r.Set(c.Of, c.ID, use.Quota))
}

// OpenUpload is how much an open upload has brought, in bytes, where and by whom.
type OpenUpload struct {
	ID                     string
	NamespaceID, AccountID int64
	Offset                 int64
}

// Open returns all open uploads.
func (r Records) Open() (all []OpenUpload, err error) {
	return all, r.DB.Raw(`SELECT uploads.id, namespace_id, account_id, "offset" FROM uploads JOIN repositories ON repositories.id = repository_id`).Scan(&all).Error
}
