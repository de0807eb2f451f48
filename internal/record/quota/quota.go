// Package quota bounds what namespaces and accounts hold, in bytes, and how many tags
// repositories have. The sums are kept by the database as things change.
package quota

import (
	"fmt"

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

// row is what is asked before something is held.
type row struct {
	Quota, HeldBytes, Warned, There int64
	Name                            string
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

const (
	ofNamespace = `SELECT n.quota, n.held_bytes, n.warned, n.name, EXISTS (SELECT 1 FROM namespace_blobs WHERE namespace_id = n.id AND content_id = ?) AS there FROM namespaces AS n WHERE n.id = ?`
	ofAccount   = `SELECT a.quota, a.held_bytes, a.warned, a.name, EXISTS (SELECT 1 FROM account_blobs WHERE account_id = a.id AND content_id = ?) AS there FROM accounts AS a WHERE a.id = ?`
)

// MayHold refuses with *Exceeded that a blob is held in a namespace first by an account, 0
// for nobody, where that would go beyond a quota. What is held there already adds nothing.
// It returns of which quota it is said that it is nearly full then.
func (r Records) MayHold(namespace, account, content, size int64) (warnings []Warning, err error) {
	for _, of := range []struct {
		kind, sql, table string
		id               int64
	}{{OfNamespace, ofNamespace, "namespaces", namespace}, {OfAccount, ofAccount, "accounts", account}} {
		if of.id == 0 {
			continue
		}
		var is row
		if err := r.DB.Raw(of.sql, content, of.id).Scan(&is).Error; err != nil {
			return nil, err
		}
		if is.Quota == 0 || is.There != 0 {
			continue
		}
		if is.HeldBytes+size > is.Quota {
			return nil, &Exceeded{Use: is.use(of.kind, of.id), Adds: size}
		}
		then := is.use(of.kind, of.id)
		then.Used += size
		warning, err := r.warn(of.table, then, is.Warned != 0)
		if err != nil {
			return nil, err
		}
		warnings = append(warnings, warning...)
	}
	return warnings, nil
}

// warn notes whether it was said that a quota is nearly full.
func (r Records) warn(table string, then Use, warned bool) ([]Warning, error) {
	switch {
	case then.Nearly() && !warned:
		return []Warning{{then}}, r.DB.Exec("UPDATE "+table+" SET warned = 1 WHERE id = ?", then.ID).Error
	case !then.Nearly() && warned:
		return nil, r.DB.Exec("UPDATE "+table+" SET warned = 0 WHERE id = ?", then.ID).Error
	}
	return nil, nil
}

// MayTag refuses with *Exceeded one more tag in a repository.
func (r Records) MayTag(repository int64) ([]Warning, error) {
	var is struct {
		TagQuota, TagCount, Warned int64
		Name                       string
	}
	if err := r.DB.Raw("SELECT tag_quota, tag_count, warned, name FROM repositories WHERE id = ?", repository).Scan(&is).Error; err != nil || is.TagQuota == 0 {
		return nil, err
	}
	use := Use{OfRepository, repository, is.Name, is.TagCount, is.TagQuota}
	if is.TagCount >= is.TagQuota {
		return nil, &Exceeded{Use: use, Adds: 1}
	}
	use.Used++
	return r.warn("repositories", use, is.Warned != 0)
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

// WithinNamespace refuses with *Exceeded a namespace that holds more than its quota.
func (r Records) WithinNamespace(id int64) error {
	use, err := r.Namespace(id)
	if err == nil && use.Quota > 0 && use.Used > use.Quota {
		err = &Exceeded{Use: use}
	}
	return err
}

// Set sets a quota, 0 for none: of a namespace or an account in bytes, of a repository in
// tags.
func (r Records) Set(of string, id, quota int64) error {
	switch of {
	case OfRepository:
		return r.DB.Exec("UPDATE repositories SET tag_quota = ?, warned = 0 WHERE id = ?", quota, id).Error
	case OfAccount:
		return r.DB.Exec("UPDATE accounts SET quota = ?, warned = 0 WHERE id = ?", quota, id).Error
	}
	return r.DB.Exec("UPDATE namespaces SET quota = ?, warned = 0 WHERE id = ?", quota, id).Error
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

// Mend sets a sum that is wrong right.
func (r Records) Mend(c Counted) error {
	sum := sums[c.Of]
	return r.DB.Exec("UPDATE "+sum.table+" AS x SET "+sum.column+" = "+sum.is+" WHERE id = ?", c.ID).Error
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
