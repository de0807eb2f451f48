// Package tagnames knows which names tags of a repository ever had, and which are held
// for an account that is about to push.
package tagnames

import (
	"errors"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// Most is how many names are held at once for one account in one repository.
const Most = 1000

// ErrMost: there are Most names held for the account in the repository.
var ErrMost = errors.New("too many names are held")

// Names are those of one repository in a change, at a moment of served time in
// nanoseconds.
type Names struct {
	DB           *gorm.DB
	RepositoryID int64
	Served       int64
}

// HeldError refuses a name that is held for somebody else.
type HeldError struct {
	Name oci.Tag
	// By is the account, Until served time in nanoseconds.
	By, Until int64
}

func (e *HeldError) Error() string {
	return "the tag name " + string(e.Name) + " is held for another account"
}

type row struct {
	FirstServed, HeldBy, HeldUntil int64
}

// held reports whether somebody else than the account may not have the name.
func (n Names) held(r row, account int64) bool {
	return r.FirstServed == 0 && r.HeldUntil > n.Served && r.HeldBy != account
}

func (n Names) of(name oci.Tag) (r row, there bool, err error) {
	found := n.DB.Raw("SELECT first_served, held_by, held_until FROM tag_names WHERE repository_id = ? AND name = ?", n.RepositoryID, name).Scan(&r)
	return r, found.RowsAffected > 0, found.Error
}

// Use notes that the account makes a tag of the name, and returns when there first was one,
// in nanoseconds of served time. It fails with HeldError.
func (n Names) Use(name oci.Tag, account int64) (first int64, err error) {
	r, there, err := n.of(name)
	switch {
	case err != nil || there && r.FirstServed != 0:
		return r.FirstServed, err
	case n.held(r, account):
		return 0, &HeldError{name, r.HeldBy, r.HeldUntil}
	}
	return n.Served, n.put(name, n.Served, 0, 0)
}

func (n Names) put(name oci.Tag, first, by, until int64) error {
	prefix, v, is := rule.SplitVersion(string(name))
	var key []byte
	if is {
		key = v.Key()
	}
	return n.DB.Exec(`INSERT INTO tag_names (repository_id, name, prefix, version_key, release, first_served, held_by, held_until) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET first_served = excluded.first_served, held_by = excluded.held_by, held_until = excluded.held_until`,
		n.RepositoryID, name, prefix, key, is && v.IsRelease(), first, by, until).Error
}

// used keeps the names that were a tag's, or are held.
const used = "repository_id = ? AND prefix = ? AND version_key IS NOT NULL AND (first_served <> 0 OR held_until > ?)"

// Next returns the next version behind all names that ever were a tag's or are held.
func (n Names) Next(step rule.Step) (oci.Tag, error) {
	last, err := n.highest("release = 1", step)
	before := ""
	if err == nil && step.Word != "" {
		from, below := step.Release(last).PreReleaseKeys(step.Word)
		before, err = n.highest("release = 0 AND version_key >= ? AND version_key < ?", step, from, below)
	}
	if err != nil {
		return "", err
	}
	return oci.ParseTag(step.Behind(last, before))
}

// highest returns the name of the highest version, "" where there is none.
func (n Names) highest(fits string, step rule.Step, values ...any) (name string, err error) {
	err = n.DB.Raw("SELECT name FROM tag_names WHERE "+used+" AND "+fits+" ORDER BY version_key DESC LIMIT 1", append([]any{n.RepositoryID, step.Prefix, n.Served}, values...)...).Scan(&name).Error
	return name, err
}

// mostCleared is how many names one change lets go of that are held no more.
const mostCleared = 50

// Hold holds a name that never was a tag's for an account until served time, in
// nanoseconds. It fails with HeldError, and with ErrMost.
func (n Names) Hold(name oci.Tag, account, until int64) error {
	err := n.DB.Exec(`DELETE FROM tag_names WHERE (repository_id, name) IN
		(SELECT repository_id, name FROM tag_names WHERE repository_id = ? AND held_by = ? AND held_until <= ? AND first_served = 0 LIMIT ?)`, n.RepositoryID, account, n.Served, mostCleared).Error
	if err != nil {
		return err
	}
	r, _, err := n.of(name)
	if err != nil {
		return err
	}
	if n.held(r, account) || r.FirstServed != 0 {
		return &HeldError{name, r.HeldBy, r.HeldUntil}
	}
	var held int64
	err = n.DB.Raw("SELECT count(*) FROM (SELECT 1 FROM tag_names WHERE repository_id = ? AND held_by = ? AND first_served = 0 AND held_until > ? LIMIT ?)", n.RepositoryID, account, n.Served, Most).Scan(&held).Error
	if err != nil {
		return err
	}
	if held >= Most {
		return ErrMost
	}
	return n.put(name, 0, account, until)
}

// Reserved is a name that is reserved for an account, until served time in nanoseconds.
type Reserved struct {
	Name              oci.Tag
	HeldBy, HeldUntil int64
}

// Reserved returns up to limit names that are reserved now, behind one, in order.
func (n Names) Reserved(after oci.Tag, limit int) (all []Reserved, err error) {
	return all, n.DB.Raw("SELECT name, held_by, held_until FROM tag_names WHERE repository_id = ? AND first_served = 0 AND held_until > ? AND name > ? ORDER BY name LIMIT ?",
		n.RepositoryID, n.Served, after, limit).Scan(&all).Error
}

// Release ends the reservation of a name, and returns for whom it was; 0 where there was none.
func (n Names) Release(name oci.Tag) (account int64, err error) {
	r, there, err := n.of(name)
	if err != nil || !there || r.FirstServed != 0 || r.HeldUntil <= n.Served {
		return 0, err
	}
	return r.HeldBy, n.DB.Exec("DELETE FROM tag_names WHERE repository_id = ? AND name = ? AND first_served = 0", n.RepositoryID, name).Error
}
