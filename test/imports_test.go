package test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// lower lists, for each room, the rooms that it may import, from the bottom up.
// "below" stands for every room listed before it.
var lower = []struct {
	room string
	may  string
}{
	{"oci", ""},
	{"rule", "oci"},
	{"clock", ""},
	{"given", ""},
	{"config", "given"},
	{"authority", ""},
	{"login", "oci given"},
	{"outward", ""},
	{"api", "oci"},
	{"blob", "oci"},
	{"record", "oci rule clock"},
	{"layout", "oci given"},
	{"inspect", "oci"},
	{"peer", "oci login"},
	{"access", "oci record clock"},
	{"registry", "oci rule clock blob record inspect"},
	{"sweep", "oci rule clock blob record inspect registry"},
	{"flow", "oci rule clock blob record inspect registry peer layout"},
	{"demo", "oci rule clock blob record inspect registry access"},
	{"httpd", "below"},
	{"serve", "below"},
	{"cli", "below"},
	// The tests' own.
	{"browser", ""},
	{"kit", "oci"},
}

// onlyIn lists who may import what ties a room to a door or to a tool.
var onlyIn = map[string]string{
	"net/http":                 "api peer httpd serve cli kit authority outward",
	"github.com/gin-gonic/gin": "httpd",
	"github.com/spf13/cobra":   "cli",
	"gorm.io/gorm":             "record",
	"database/sql":             "record",
}

type listed struct {
	ImportPath string
	Imports    []string
}

func TestRoomsImportOnlyWhatThePlanAllows(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "warthesis/internal/...").Output()
	require.NoError(t, err)
	may := allowed()
	for decoder := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := decoder.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
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

func allowed() map[string][]string {
	may := map[string][]string{}
	var below []string
	for _, r := range lower {
		may[r.room] = strings.Fields(r.may)
		if r.may == "below" {
			may[r.room] = slices.Clone(below)
		}
		below = append(below, r.room)
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
