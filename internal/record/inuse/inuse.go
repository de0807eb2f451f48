// Package inuse keeps the lists of what is in use somewhere: in a cluster, on a train.
package inuse

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
	"warthesis/internal/rule/worth"
)

// The bounds of lists.
const (
	// MostLists is how many lists there are, MostEntries how many references one has, those
	// that left it not long ago included.
	MostLists   = 200
	MostEntries = 100_000
)

var (
	// ErrNone: there is no such list.
	ErrNone = errors.New("no such list of what is in use")
	// ErrMost: there are MostLists lists.
	ErrMost = errors.New("too many lists of what is in use")
	// ErrTooMany: the list would have more than MostEntries references.
	ErrTooMany = fmt.Errorf("more than %d references", MostEntries)
)

// List is a list of what is in use.
type List struct {
	ID          int64
	Name        string
	Description string
	// KeeperID is the account that refreshes it, 0 for admins alone.
	KeeperID int64
	// FreshFor is for how long one refreshing is good, in served time.
	FreshFor time.Duration
	// Version grows with each refreshing.
	Version     int64
	MadeAt      stamp.Stamp
	RefreshedAt stamp.Stamp
	// RefreshedServed is served time in nanoseconds.
	RefreshedServed int64
	RefreshedBy     int64
}

func (List) TableName() string { return "in_use_lists" }

// StaleServed is from when, in served time, the list counts as stale.
func (l List) StaleServed() int64 {
	if l.RefreshedAt == 0 {
		return 0
	}
	return l.RefreshedServed + int64(l.FreshFor)
}

// Entry is a reference of a list. Host is "" for this registry and for digests alone.
type Entry struct {
	Host       string     `json:"h"`
	Repository string     `json:"r"`
	Tag        oci.Tag    `json:"t"`
	Digest     oci.Digest `json:"d"`
	LeftServed int64      `json:"-"`
}

// Lists are the lists in a change, or as of the last commit.
type Lists struct{ DB *gorm.DB }

// Get returns a list, or ErrNone.
func (l Lists) Get(name string) (list List, err error) {
	found := l.DB.Where("name = ?", name).Limit(1).Find(&list)
	if found.Error == nil && found.RowsAffected == 0 {
		return list, ErrNone
	}
	return list, found.Error
}

// All returns the lists in the order of their names.
func (l Lists) All() (all []List, err error) { return all, l.DB.Order("name").Find(&all).Error }

// Make makes a list, or changes who keeps it and for how long it is fresh. It fails with
// ErrMost.
func (l Lists) Make(list List) error {
	var count int64
	if err := l.DB.Table("in_use_lists").Where("name <> ?", list.Name).Count(&count).Error; err != nil {
		return err
	}
	if count >= MostLists {
		return ErrMost
	}
	return l.DB.Exec(`INSERT INTO in_use_lists (name, description, keeper_id, fresh_for, made_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET description = excluded.description, keeper_id = excluded.keeper_id, fresh_for = excluded.fresh_for`,
		list.Name, list.Description, list.KeeperID, list.FreshFor, list.MadeAt).Error
}

// Remove removes a list with all that it has.
func (l Lists) Remove(id int64) error {
	return errors.Join(l.DB.Exec("DELETE FROM in_use_entries WHERE list_id = ?", id).Error, l.DB.Exec("DELETE FROM in_use_lists WHERE id = ?", id).Error)
}

// Entries returns what a list has, also what left it not long ago before served time.
func (l Lists) Entries(id, served int64) (all []Entry, err error) {
	return all, l.DB.Raw("SELECT host, repository, tag, digest, left_served FROM in_use_entries WHERE list_id = ? AND (left_served = 0 OR left_served > ?) ORDER BY host, repository, tag, digest",
		id, served-int64(worth.CountsFor)).Scan(&all).Error
}

// Count counts what is in a list now.
func (l Lists) Count(id int64) (n int, err error) {
	return n, l.DB.Raw("SELECT count(*) FROM in_use_entries WHERE list_id = ? AND left_served = 0", id).Scan(&n).Error
}

// Change is what a refreshing changes of a list as it was seen.
type Change struct {
	Seen       List
	Came, Left []Entry
}

// ErrChanged: the list was changed since it was seen.
var ErrChanged = errors.New("the list was refreshed meanwhile")

// Refresh changes what is in a list: what left it did so now. It fails with ErrChanged and
// ErrTooMany.
func (l Lists) Refresh(c Change, now stamp.Stamp, served, by int64) error {
	id := c.Seen.ID
	there, err := l.Get(c.Seen.Name)
	if err == nil && (there.ID != id || there.Version != c.Seen.Version) {
		err = ErrChanged
	}
	// Never null, of which the database would make a row.
	came, bad := json.Marshal(append([]Entry{}, c.Came...))
	left, worse := json.Marshal(append([]Entry{}, c.Left...))
	if err := errors.Join(err, bad, worse); err != nil {
		return err
	}
	for _, step := range []struct {
		sql  string
		args []any
	}{
		{"DELETE FROM in_use_entries WHERE list_id = ? AND left_served <> 0 AND left_served <= ?", []any{id, served - int64(worth.CountsFor)}},
		{`UPDATE in_use_entries SET left_served = ? WHERE list_id = ? AND (host, repository, tag, digest) IN
			(SELECT value ->> 'h', value ->> 'r', value ->> 't', value ->> 'd' FROM json_each(?))`, []any{served, id, string(left)}},
		{`INSERT INTO in_use_entries (list_id, host, repository, tag, digest) SELECT ?, value ->> 'h', value ->> 'r', value ->> 't', value ->> 'd' FROM json_each(?) WHERE true
			ON CONFLICT DO UPDATE SET left_served = 0`, []any{id, string(came)}},
		{"UPDATE in_use_lists SET version = version + 1, refreshed_at = ?, refreshed_served = ?, refreshed_by = ? WHERE id = ?", []any{now, served, by, id}},
	} {
		if err := l.DB.Exec(step.sql, step.args...).Error; err != nil {
			return err
		}
	}
	var n int
	if err := l.DB.Raw("SELECT count(*) FROM in_use_entries WHERE list_id = ?", id).Scan(&n).Error; err != nil {
		return err
	}
	if n > MostEntries {
		return ErrTooMany
	}
	return nil
}

// Version is another one after each change of any list.
func (l Lists) Version() (version string, err error) {
	return version, l.DB.Raw("SELECT coalesce(group_concat(id || ':' || version || ':' || fresh_for), '') FROM in_use_lists").Scan(&version).Error
}

// Worth returns the lists as retention rules ask them, at a moment of served time.
func (l Lists) Worth(served int64) (map[string]*worth.InUse, error) {
	lists, err := l.All()
	if err != nil {
		return nil, err
	}
	all := make(map[string]*worth.InUse, len(lists))
	for _, list := range lists {
		entries, err := l.Entries(list.ID, served)
		if err != nil {
			return nil, err
		}
		in := &worth.InUse{StaleServed: list.StaleServed()}
		for _, e := range entries {
			used := worth.Used{Repository: oci.Name(e.Repository), Tag: e.Tag, Digest: e.Digest, LeftServed: e.LeftServed}
			switch {
			case e.Digest != "" && (e.Host != "" || e.Repository == ""):
				// What another registry gave counts wherever it is here.
				used.Repository, used.Tag = "", ""
			case e.Host != "":
				continue
			case e.Digest != "":
				used.Tag = ""
			}
			in.Entries = append(in.Entries, used)
		}
		all[list.Name] = in
	}
	return all, nil
}

// Shown is a reference with whether what it names is held here, where the asker may see it.
type Shown struct {
	Entry `gorm:"embedded"`
	Held  bool
}

// Filter says which references are shown.
type Filter struct {
	// All shows those of all repositories; without it only those here that are seen. What is
	// held is told of what is seen alone, also then.
	All  bool
	Seen clause.Expr
	// Absent keeps those that are not held here.
	Absent bool
	// After is the last reference of the page before.
	After Entry
	Limit int
}

// held is the condition that what an entry e names is here: in the repository of the name,
// or, from elsewhere and of digests alone, in any that is seen.
const held = `CASE WHEN e.host = '' AND e.repository <> '' AND e.digest = '' THEN EXISTS (SELECT 1 FROM live_repositories AS repositories
		JOIN tags ON tags.repository_id = repositories.id AND tags.name = e.tag AND tags.removal_id = 0 WHERE repositories.name = e.repository AND (?))
	WHEN e.digest = '' THEN 0
	ELSE EXISTS (SELECT 1 FROM contents CROSS JOIN manifests ON manifests.content_id = contents.id AND manifests.state = 'live'
		JOIN live_repositories AS repositories ON repositories.id = manifests.repository_id
		WHERE contents.digest = e.digest AND (e.host <> '' OR e.repository = '' OR repositories.name = e.repository) AND (?)) END`

// Show returns references of a list, also those that left it not long ago before served time.
func (l Lists) Show(id, served int64, f Filter) (all []Shown, err error) {
	seen := f.Seen
	query := l.DB.Table("in_use_entries AS e").Select("e.host, e.repository, e.tag, e.digest, e.left_served, "+held+" AS held", seen, seen).
		Where("e.list_id = ? AND (e.left_served = 0 OR e.left_served > ?)", id, served-int64(worth.CountsFor)).
		Where("(e.host, e.repository, e.tag, e.digest) > (?, ?, ?, ?)", f.After.Host, f.After.Repository, f.After.Tag, f.After.Digest)
	if !f.All {
		query = query.Where("e.host = '' AND EXISTS (SELECT 1 FROM live_repositories AS repositories WHERE repositories.name = e.repository AND (?))", seen)
	}
	if f.Absent {
		query = query.Where("e.left_served = 0 AND NOT ("+held+")", seen, seen)
	}
	return all, query.Order("e.host, e.repository, e.tag, e.digest").Limit(f.Limit).Scan(&all).Error
}
