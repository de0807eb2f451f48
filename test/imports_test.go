package test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// house lists the rooms from the bottom up, with what each may import. "…" stands for
// what the room listed before may import; "below" for
// every room listed before. Rooms of rooms stand behind a slash and may also import
// what their house may.
var house = []struct {
	room, is, may string
}{
	{"oci", "the standards' nouns: names, references, digests, manifests", ""},
	{"rule", "patterns, rule lists, verdicts, spans, sizes, versions", "oci"},
	{"clock", "wall time to show, served time to decide by", ""},
	{"given", "plain files that somebody named, read within bounds", ""},
	{"config", "the service's settings", "given"},
	{"authority", "certificates: given ones, or a private authority", ""},
	{"login", "the client's login files", "oci given"},
	{"secret", "secrets kept under a key of the registry's own", ""},
	{"outward", "connections to addresses that somebody gave", "oci"},
	{"api", "types of the management API and its client", "oci rule"},
	{"blob", "bytes by place", "oci"},
	{"record", "what is known about the bytes: SQLite", "oci rule clock"},
	{"work", "what goes on beside requests", "record rule clock"},
	{"layout", "OCI image layouts, as folders and as tars", "oci given"},
	{"inspect", "inside an image", "oci"},
	{"pin", "references in build files and manifests", "oci"},
	{"peer", "client side of the distribution protocol", "oci login"},
	{"signing", "signatures and who is believed", "oci rule"},
	{"advisory", "known vulnerabilities, matched to packages", "oci inspect"},
	{"access", "who may do what, and why not", "oci rule record clock"},
	{"registry", "the heart: uploads, manifests, tags, deletes", "oci rule clock blob record inspect"},
	{"sweep", "what goes: retention, garbage collection, scrub", "… registry work"},
	{"flow", "what travels: follow, replicate, carry", "… registry peer layout work login outward secret given"},
	{"charter", "the set-up as one document", "… access registry sweep flow"},
	{"notice", "webhooks", "record rule work"},
	{"keep", "backup, restore, records from bytes", "below"},
	{"demo", "the sample world", "below"},
	{"httpd", "the doors: protocol, management, console", "below"},
	{"serve", "puts the service together and runs it", "below"},
	{"cli", "what people see in a terminal", "below"},
}

// onlyForTests are the rooms that tests alone use.
var onlyForTests = map[string][]string{"browser": {}, "kit": {"oci"}}

// onlyIn lists who may import what ties a room to a door, to a tool or to the records.
var onlyIn = map[string]string{
	"net/http":                    "api peer httpd serve cli kit authority outward flow",
	"github.com/gin-gonic/gin":    "httpd",
	"github.com/spf13/cobra":      "cli",
	"gorm.io/gorm":                "record",
	"gorm.io/driver/sqlite":       "record",
	"github.com/mattn/go-sqlite3": "record",
	"database/sql":                "record",
}

type listed struct {
	ImportPath string
	Dir        string
	GoFiles    []string
	Imports    []string
}

// rooms returns the packages of the house.
func rooms(t *testing.T) []listed {
	out, err := exec.Command("go", "list", "-json=ImportPath,Dir,GoFiles,Imports", "warthesis/internal/...").Output()
	require.NoError(t, err)
	var all []listed
	for decoder := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		err := decoder.Decode(&p)
		if errors.Is(err, io.EOF) {
			return all
		}
		require.NoError(t, err)
		all = append(all, p)
	}
}

func TestRoomsImportOnlyWhatThePlanAllows(t *testing.T) {
	may := allowed()
	for _, p := range rooms(t) {
		room := roomOf(p.ImportPath)
		require.Contains(t, may, room, "%s is a room that the plan does not know", p.ImportPath)
		for _, i := range p.Imports {
			if other := roomOf(i); other != "" && other != room && !slices.Contains(may[room], other) {
				t.Errorf("%s imports %s, which the plan does not allow", p.ImportPath, i)
			}
			if rooms, bound := onlyIn[i]; bound && !slices.Contains(strings.Fields(rooms), room) {
				t.Errorf("%s imports %s, which only %s may", p.ImportPath, i, rooms)
			}
		}
	}
}

// The drawing of the house in the documents is made from the table that the test above
// holds. With DRAW_HOUSE set it is written anew.
func TestTheDrawingOfTheHouseIsTrue(t *testing.T) {
	const begin, end = "<!-- house: drawn by the test of imports -->\n", "<!-- /house -->"
	file := filepath.Join("..", "docs", "house.md")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(raw), begin)
	require.True(t, found)
	drawn, after, found := strings.Cut(rest, end)
	require.True(t, found)
	want := drawing(t)
	if os.Getenv("DRAW_HOUSE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+want+end+after), 0o644))
		return
	}
	assert.Equal(t, want, drawn, "make it anew with DRAW_HOUSE=1")
}

// drawing shows the rooms that there are, from the top down, with what each imports and
// the rooms in it.
func drawing(t *testing.T) string {
	imports, within := map[string][]string{}, map[string][]string{}
	for _, p := range rooms(t) {
		room := roomOf(p.ImportPath)
		if inside := strings.TrimPrefix(p.ImportPath, "warthesis/internal/"); inside != room {
			within[room] = append(within[room], strings.TrimPrefix(inside, room+"/"))
		}
		imports[room] = append(imports[room], "")
		for _, i := range p.Imports {
			if other := roomOf(i); other != "" && other != room && !slices.Contains(imports[room], other) {
				imports[room] = append(imports[room], other)
			}
		}
	}
	text := "```\n"
	for _, r := range slices.Backward(house) {
		if imports[r.room] == nil {
			continue
		}
		uses := slices.DeleteFunc(slices.Clone(imports[r.room]), func(s string) bool { return s == "" })
		slices.Sort(uses)
		text += fmt.Sprintf("%-10s %s\n", r.room, r.is)
		if len(within[r.room]) > 0 {
			slices.Sort(within[r.room])
			text += fmt.Sprintf("%-10s   holds   %s\n", "", strings.Join(within[r.room], ", "))
		}
		if len(uses) > 0 {
			text += fmt.Sprintf("%-10s   imports %s\n", "", strings.Join(uses, ", "))
		}
	}
	return text + "```\n"
}

func allowed() map[string][]string {
	may := map[string][]string{}
	var below []string
	for i, r := range house {
		for _, word := range strings.Fields(r.may) {
			switch word {
			case "below":
				may[r.room] = append(may[r.room], below...)
			case "…":
				may[r.room] = append(append(may[r.room], may[house[i-1].room]...), house[i-1].room)
			default:
				may[r.room] = append(may[r.room], word)
			}
		}
		if may[r.room] == nil {
			may[r.room] = []string{}
		}
		below = append(below, r.room)
	}
	for room, rooms := range onlyForTests {
		may[room] = rooms
	}
	return may
}

func roomOf(path string) string {
	inside, found := strings.CutPrefix(path, "warthesis/internal/")
	if !found {
		return ""
	}
	room, _, _ := strings.Cut(inside, "/")
	return room
}
