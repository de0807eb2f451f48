// Package rulelists keeps the lists of rules: those of places, and those that have a name
// and are used by others.
package rulelists

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/sized"
	"warthesis/internal/rule"
)

// MostNamed is how many named lists of one kind there are.
const MostNamed = 500

// ErrMost: there are MostNamed named lists.
var ErrMost = errors.New("too many lists have a name")

// ErrNone: there is no such list.
var ErrNone = errors.New("no such list")

// Key says where a list stands: at a namespace, at a repository or, with neither, at the
// registry; or under a name.
type Key struct {
	Kind         string
	Name         string
	NamespaceID  int64
	RepositoryID int64
}

// Level returns at which level lists of the key are read.
func (k Key) Level() rule.Level {
	switch {
	case k.Name != "":
		return rule.OfName
	case k.RepositoryID != 0:
		return rule.OfRepository
	case k.NamespaceID != 0:
		return rule.OfNamespace
	}
	return rule.OfRegistry
}

// List is a list as somebody set it.
type List struct {
	ID int64
	Key
	// Version is another with each change of the list or of one that it uses.
	Version   int64
	Words     string
	Reason    string
	ChangedAt int64
	ChangedBy int64
	// ActsServed is from when it does what it says, WidenedServed when it was last given more
	// to take; served time in nanoseconds, 0 of kinds of rules that do not wait.
	ActsServed    int64
	WidenedServed int64
	// PriorWords is what it said before, while it waits.
	PriorWords string
}

// Waits reports whether the list waits at a moment of served time.
func (l List) Waits(served int64) bool { return l.ActsServed > served }

func (List) TableName() string { return "rule_lists" }

// UnknownError: a list uses one that is not there.
type UnknownError struct{ Name string }

func (e *UnknownError) Error() string { return "there is no list of the name " + e.Name }

// UsedError: a list cannot go, because others use it.
type UsedError struct{ By []Key }

func (e *UsedError) Error() string { return fmt.Sprintf("%d lists use it", len(e.By)) }

// Lists are the lists in a change, or as of the last commit.
type Lists struct {
	DB *gorm.DB
	// Known are the versions of all lists of places, nil where they have to be asked for.
	Known *Known
	// Touch is called before a list is changed: what is known does not hold from then on.
	// It is nil where nothing is changed.
	Touch func()
}

// Get returns a list, or ErrNone.
func (l Lists) Get(k Key) (List, error) {
	var rows []List
	err := l.DB.Where("kind = ? AND name = ? AND namespace_id = ? AND repository_id = ?", k.Kind, k.Name, k.NamespaceID, k.RepositoryID).Limit(1).Find(&rows).Error
	if err == nil && len(rows) == 0 {
		err = ErrNone
	}
	if err != nil {
		return List{}, err
	}
	return rows[0], nil
}

// Named returns the lists of a kind that have names, in the order of these.
func (l Lists) Named(kind string) (rows []List, err error) {
	return rows, l.DB.Where("kind = ? AND name <> ''", kind).Order("name").Find(&rows).Error
}

// UsedBy returns where lists stand that use a list.
func (l Lists) UsedBy(id int64) (keys []Key, err error) {
	return keys, l.DB.Table("rule_lists").Select("kind, name, namespace_id, repository_id").
		Where("id IN (SELECT list_id FROM rule_list_uses WHERE used_id = ?)", id).Order("id").Scan(&keys).Error
}

// Set sets a list, which uses named ones. It fails with UnknownError and with ErrMost.
func (l Lists) Set(list List, uses []string) error {
	l.Touch()
	there, err := l.Get(list.Key)
	switch {
	case errors.Is(err, ErrNone):
		if list.Name != "" {
			var count int64
			if err := l.DB.Table("rule_lists").Where("kind = ? AND name <> ''", list.Kind).Count(&count).Error; err != nil {
				return err
			}
			if count >= MostNamed {
				return ErrMost
			}
		}
		err = l.DB.Raw(`INSERT INTO rule_lists (kind, name, namespace_id, repository_id, version, words, reason, changed_at, changed_by, acts_served, widened_served, prior_words)
			VALUES (?, ?, ?, ?, random(), ?, ?, ?, ?, ?, ?, ?) RETURNING id`, list.Kind, list.Name, list.NamespaceID, list.RepositoryID, list.Words, list.Reason, list.ChangedAt, list.ChangedBy,
			list.ActsServed, list.WidenedServed, list.PriorWords).Scan(&list.ID).Error
	case err == nil:
		list.ID = there.ID
		err = l.DB.Exec("UPDATE rule_lists SET version = random(), words = ?, reason = ?, changed_at = ?, changed_by = ?, acts_served = ?, widened_served = ?, prior_words = ? WHERE id = ?",
			list.Words, list.Reason, list.ChangedAt, list.ChangedBy, list.ActsServed, list.WidenedServed, list.PriorWords, list.ID).Error
	}
	if err != nil {
		return err
	}
	if err := l.DB.Exec("DELETE FROM rule_list_uses WHERE list_id = ?", list.ID).Error; err != nil {
		return err
	}
	for _, name := range uses {
		used, err := l.Get(Key{Kind: list.Kind, Name: name})
		if errors.Is(err, ErrNone) {
			return &UnknownError{name}
		}
		if err != nil {
			return err
		}
		if err := l.DB.Exec("INSERT OR IGNORE INTO rule_list_uses (list_id, used_id) VALUES (?, ?)", list.ID, used.ID).Error; err != nil {
			return err
		}
	}
	return l.usersChange(list.ID)
}

// usersChange gives the lists that use one another version.
func (l Lists) usersChange(id int64) error {
	return l.DB.Exec("UPDATE rule_lists SET version = random() WHERE id IN (SELECT list_id FROM rule_list_uses WHERE used_id = ?)", id).Error
}

// Act lets a list that waits act from a moment of served time.
func (l Lists) Act(id, served int64) error {
	l.Touch()
	return errors.Join(l.DB.Exec("UPDATE rule_lists SET version = random(), acts_served = min(acts_served, ?) WHERE id = ?", served, id).Error, l.usersChange(id))
}

// Remove removes a list. It fails with ErrNone and with UsedError.
func (l Lists) Remove(k Key) error {
	l.Touch()
	there, err := l.Get(k)
	if err != nil {
		return err
	}
	by, err := l.UsedBy(there.ID)
	if err != nil {
		return err
	}
	if len(by) > 0 {
		return &UsedError{by}
	}
	return errors.Join(l.DB.Exec("DELETE FROM rule_list_uses WHERE list_id = ?", there.ID).Error, l.DB.Exec("DELETE FROM retention_waits WHERE list_id = ?", there.ID).Error, l.DB.Exec("DELETE FROM rule_lists WHERE id = ?", there.ID).Error)
}

// version is a list as it stands now.
type version struct{ ID, Version int64 }

// Compiled are lists of a kind that were read: each once, until it is changed. It is safe
// for concurrent use.
type Compiled[F rule.Named] struct {
	kind  rule.Kind[F]
	cache *sized.Cache[version, rule.List[F]]
	// texts are texts that were read: a change finds there what was read before it began.
	texts *sized.Cache[text, rule.List[F]]
}

// text is what is read, at a level.
type text struct {
	level rule.Level
	words string
}

// The bounds of the lists that are kept read, in entries and in bytes, and about how many
// bytes a list takes for one of its text, and for a rule.
const (
	compiledEntries = 2048
	compiledBytes   = 32 << 20
	bytesForOne     = 8
	bytesForRule    = 400
)

func sizeOf[F rule.Named](list rule.List[F]) int {
	size := 0
	for _, r := range list.Rules {
		size += bytesForRule + bytesForOne*(len(r.Words)+len(r.Because))
	}
	return size
}

// NewCompiled returns lists of a kind, none of which was read yet.
func NewCompiled[F rule.Named](kind rule.Kind[F]) *Compiled[F] {
	return &Compiled[F]{
		kind:  kind,
		cache: sized.New(compiledBytes, compiledEntries, func(_ version, list rule.List[F]) int { return sizeOf(list) }),
		texts: sized.New(compiledBytes, compiledEntries, func(t text, list rule.List[F]) int { return len(t.words) + sizeOf(list) }),
	}
}

// Read reads a list, or returns it as it was read before. What a change reads is read
// before it: the writer waits for no parser. The rules are shared: the caller does not
// change them.
func (c *Compiled[F]) Read(level rule.Level, words string) (rule.List[F], error) {
	if list, ok := c.texts.Get(text{level, words}); ok {
		return list, nil
	}
	list, err := c.kind.Read(level, "", []byte(words))
	if err == nil {
		c.texts.Add(text{level, words}, list)
	}
	return list, err
}

// Around is what stands around one repository: its lists, and their versions.
type Around[F rule.Named] struct {
	Lists    []rule.List[F]
	versions []version
}

// Same reports whether the lists are those of before, unchanged.
func (a Around[F]) Same(b Around[F]) bool {
	if len(a.versions) != len(b.versions) {
		return false
	}
	for i := range a.versions {
		if a.versions[i] != b.versions[i] {
			return false
		}
	}
	return true
}

// Around returns the lists that stand around a repository, whose name they are told by.
func (c *Compiled[F]) Around(l Lists, namespace, repository int64, name oci.Name) (Around[F], error) {
	var around Around[F]
	for _, k := range []Key{{Kind: c.kind.Name, RepositoryID: repository}, {Kind: c.kind.Name, NamespaceID: namespace}, {Kind: c.kind.Name}} {
		at, err := l.version(k)
		if err != nil {
			return around, err
		}
		if at.ID == 0 {
			continue
		}
		list, err := c.list(l, at)
		if err != nil {
			return around, err
		}
		list.Of = SayPlace(k.NamespaceID, k.RepositoryID, name)
		around.Lists = append(around.Lists, list)
		around.versions = append(around.versions, at)
	}
	return around, nil
}

// version returns the list that stands under a key, with the ID 0 for none.
func (l Lists) version(k Key) (v version, err error) {
	if l.Known != nil {
		return l.Known.versions[k], nil
	}
	return v, l.DB.Raw("SELECT id, version FROM rule_lists WHERE kind = ? AND name = '' AND namespace_id = ? AND repository_id = ?", k.Kind, k.NamespaceID, k.RepositoryID).Scan(&v).Error
}

// With is a list that stands, for a look at what it would do, in the place of the one that
// is there.
type With[F rule.Named] struct {
	Key  Key
	List rule.List[F]
}

// AroundWith is Around as it would be with a list, and whether a rule of that list speaks
// of the repository.
func (c *Compiled[F]) AroundWith(l Lists, namespace, repository int64, name oci.Name, with With[F]) (lists []rule.List[F], reached bool, err error) {
	for _, k := range []Key{{Kind: c.kind.Name}, {Kind: c.kind.Name, NamespaceID: namespace}, {Kind: c.kind.Name, RepositoryID: repository}} {
		list := with.List
		if k != with.Key {
			there, err := l.Get(k)
			if errors.Is(err, ErrNone) {
				continue
			}
			if err != nil {
				return nil, false, err
			}
			var named map[string]rule.List[F]
			if with.Key.Name != "" {
				named = map[string]rule.List[F]{with.Key.Name: with.List}
			}
			var uses bool
			if list, uses, err = c.compile(l, k, there.Words, named); err != nil {
				return nil, false, err
			}
			list.ID, list.Acts, list.Widened = there.ID, time.Duration(there.ActsServed), max(list.Widened, time.Duration(there.WidenedServed))
			reached = reached || uses && with.List.Reaches(name)
		} else {
			reached = list.Reaches(name)
		}
		list.Of = SayPlace(k.NamespaceID, k.RepositoryID, name)
		lists = append(lists, list)
	}
	return lists, reached, nil
}

// SayPlace says where a list stands, of the lists around a repository.
func SayPlace(namespace, repository int64, name oci.Name) string {
	switch {
	case repository != 0:
		return "the repository " + string(name)
	case namespace != 0:
		return "the namespace " + name.Namespace()
	}
	return "the registry"
}

func (c *Compiled[F]) list(l Lists, v version) (rule.List[F], error) {
	if list, ok := c.cache.Get(v); ok {
		return list, nil
	}
	var row List
	if err := l.DB.Where("id = ?", v.ID).Limit(1).Find(&row).Error; err != nil {
		return rule.List[F]{}, err
	}
	list, err := c.Compile(l, row.Key, row.Words)
	list.ID, list.Acts, list.Widened = row.ID, time.Duration(row.ActsServed), max(list.Widened, time.Duration(row.WidenedServed))
	if err == nil && row.Version == v.Version {
		c.cache.Add(v, list)
	}
	return list, err
}

// Compile reads the words of a list, with those that it uses. The error is a *rule.Fault
// where the words are wrong, and an UnknownError where they use what is not there.
func (c *Compiled[F]) Compile(l Lists, k Key, words string) (rule.List[F], error) {
	list, _, err := c.compile(l, k, words, nil)
	return list, err
}

// compile is Compile with lists that stand for those of their names, and tells whether the
// list uses one of these.
func (c *Compiled[F]) compile(l Lists, k Key, words string, instead map[string]rule.List[F]) (whole rule.List[F], uses bool, err error) {
	list, err := c.Read(k.Level(), words)
	if err != nil {
		return list, false, err
	}
	named := map[string]rule.List[F]{}
	for _, name := range list.Uses() {
		if other, is := instead[name]; is {
			named[name], uses = other, true
			continue
		}
		used, err := l.Get(Key{Kind: k.Kind, Name: name})
		if errors.Is(err, ErrNone) {
			return list, uses, &UnknownError{name}
		}
		if err != nil {
			return list, uses, err
		}
		read, err := c.Read(rule.OfName, used.Words)
		if err != nil {
			return list, uses, fmt.Errorf("the list %s: %w", name, err)
		}
		read.Acts, read.Widened = time.Duration(used.ActsServed), time.Duration(used.WidenedServed)
		named[name] = read
	}
	return list.With(named), uses, nil
}
