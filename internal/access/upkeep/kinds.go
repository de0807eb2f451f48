package upkeep

import (
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/rule"
)

// Rule is a rule of a list as people read it.
type Rule struct {
	Words, Because, Use string
	Line                int
}

// read is a list of some kind that was read.
type read struct {
	rules   []Rule
	uses    []string
	reaches func(oci.Name) bool
	// inUse are the lists of what is in use that it asks.
	inUse []string
}

// kind is what this room needs to know of a kind of rules.
type kind struct {
	name string
	// waits tells that a list that could take more than before acts only after a while.
	waits bool
	// check reads words with the lists that they use.
	check func(v record.View, lists rulelists.Lists, k rulelists.Key, words string) error
	read  func(v record.View, level rule.Level, words string) (read, error)
	// widens reports whether one list could take more than another.
	widens func(v record.View, level rule.Level, before, after string) (bool, error)
}

// kinds are the kinds of rules that stand in lists.
var kinds = []kind{
	kindOf(rule.Immutability, record.View.Immutability, nil),
	kindOf(rule.Retention, record.View.Retention, rule.Widens),
}

func kindOf[F rule.Named](k rule.Kind[F], compiled func(record.View) *rulelists.Compiled[F], widens func(before, after rule.List[F]) bool) kind {
	return kind{
		name: k.Name, waits: widens != nil,
		check: func(v record.View, lists rulelists.Lists, at rulelists.Key, words string) error {
			_, err := compiled(v).Compile(lists, at, words)
			return err
		},
		read: func(v record.View, level rule.Level, words string) (read, error) {
			list, err := compiled(v).Read(level, words)
			all := read{uses: list.Uses(), reaches: list.Reaches, inUse: list.InUseLists()}
			for _, r := range list.Rules {
				all.rules = append(all.rules, Rule{r.Words, r.Because, r.Use, r.Line})
			}
			return all, err
		},
		widens: func(v record.View, level rule.Level, before, after string) (bool, error) {
			was, err := compiled(v).Read(level, before)
			if err != nil {
				return false, err
			}
			is, err := compiled(v).Read(level, after)
			return err == nil && widens(was, is), err
		},
	}
}

// kindAt returns the kind of a list.
func kindAt(at At) (kind, error) {
	for _, k := range kinds {
		if k.name == at.Kind || at.Kind == "" && k.name == rule.Immutability.Name {
			return k, nil
		}
	}
	return kind{}, oci.Errorf(oci.CodeQueryInvalid, "there are no %s rules; there are immutability and retention rules", at.Kind)
}

// sayOf tells in the audit log of which rules something is said, where that is not clear.
func (k kind) sayOf(said string) string {
	if k.name == rule.Immutability.Name {
		return said
	}
	return k.name + ": " + said
}
