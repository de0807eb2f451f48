package sweep

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"warthesis/internal/record/unheld"
)

// facts are the report as runs keep it.
func (r Report) facts() string {
	// Plain fields always marshal.
	raw, _ := json.Marshal(r)
	return string(raw)
}

// words are the report in a sentence.
func (r Report) words() string {
	said := sumWords(r.Taken) + " went"
	if r.Freed > 0 || r.Files > 0 {
		said += fmt.Sprintf(", %s in %s free", humanize.IBytes(uint64(r.Freed)), count(r.Files, "file", "files"))
	}
	if since := total(r.Since); since > 0 {
		said += fmt.Sprintf("; %d stayed that changed meanwhile", since)
	}
	if r.Missing > 0 {
		said += fmt.Sprintf("; %s missing", count(r.Missing, "file is", "files are"))
	}
	for _, sum := range r.Stays {
		if sum.Why == unheld.RecordsOlder {
			said += fmt.Sprintf("; kept %s: the records are older than the files, so an admin must decide (restore newer records, or run the sweep with --unrecorded)", count(sum.Count, "unrecorded file", "unrecorded files"))
		}
		if sum.Why == unheld.TooMany {
			said += fmt.Sprintf("; %d files that no record names stay, since they are so many: an admin must say that they may go", sum.Count)
		}
	}
	return said
}

func total(sums []unheld.Sum) (n int64) {
	for _, sum := range sums {
		n += sum.Count
	}
	return n
}

func count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// names are the kinds for people.
var names = []struct {
	kind      unheld.Kind
	one, many string
}{
	{unheld.Manifest, "image", "images"}, {unheld.Tag, "tag", "tags"}, {unheld.Holding, "holding", "holdings"}, {unheld.Repository, "repository", "repositories"},
	{unheld.Namespace, "namespace", "namespaces"}, {unheld.Blob, "blob", "blobs"}, {unheld.Stray, "unrecorded file", "unrecorded files"}, {unheld.Leftover, "leftover of an upload", "leftovers of uploads"},
}

// sumWords says how much of each kind there is.
func sumWords(sums []unheld.Sum) string {
	var said []string
	for _, name := range names {
		n := int64(0)
		for _, sum := range sums {
			if sum.Kind == name.kind {
				n += sum.Count
			}
		}
		if n > 0 {
			said = append(said, count(n, name.one, name.many))
		}
	}
	if len(said) == 0 {
		return "nothing"
	}
	return strings.Join(said, ", ")
}
