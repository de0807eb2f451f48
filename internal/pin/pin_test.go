package pin

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

// told is what Find says of a file, a line each.
func told(t *testing.T, name, text string) (all []string) {
	places, err := Find(name, []byte(text))
	require.NoError(t, err, text)
	for _, f := range places {
		said := fmt.Sprintf("%d %s", f.Line, f.Text)
		switch {
		case f.Skip != "":
			said += " SKIP " + strings.Fields(f.Skip)[2]
		case f.Bare:
			said += " BARE"
		}
		require.True(t, f.Skip != "" || text[f.Start:f.End] == f.Text, said)
		all = append(all, said)
	}
	return all
}

const buildText = `# syntax=reg.example/tools/frontend:1
# escape=\
# a comment: FROM reg.example/not/this:1
ARG BASE="reg.example/base/os:12.6" OTHER=x
ARG RUNTIME
FROM --platform=$BUILDPLATFORM ${BASE} AS Build
FROM reg.example/base/go:${VERSION} as second
from reg.example:5000/base/node:1 \
  # in between

  as third
COPY --from=build /x /y
COPY --chown=1:1 --from=reg.example/tools/certs@sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa /a /b
COPY --from=0 /x /y
COPY <<EOF /etc/motd
FROM reg.example/in/a/document:1
EOF
RUN --mount=type=bind,from=reg.example/tools/sdk:3,target=/sdk <<-"END" make
	FROM reg.example/another:1
	END
ONBUILD COPY --from=reg.example/late:2 a b
FROM os:12
FROM scratch
FROM BUILD
FROM $RUNTIME
FROM ${BASE}
`

func TestReferencesInBuildFiles(t *testing.T) {
	want := []string{
		"1 reg.example/tools/frontend:1", "4 reg.example/base/os:12.6", "7 reg.example/base/go:${VERSION} SKIP a", "8 reg.example:5000/base/node:1",
		"13 reg.example/tools/certs@sha256:" + strings.Repeat("a", 64), "18 reg.example/tools/sdk:3", "21 reg.example/late:2", "22 os:12 BARE", "25 $RUNTIME SKIP a",
	}
	assert.Equal(t, want, told(t, "Dockerfile", buildText))
	assert.Equal(t, want, told(t, "planner.dockerfile", strings.ReplaceAll(buildText, "\n", "\r\n")), "line ends are no part of it")
	assert.Equal(t, []string{"3 reg.example/b:1"}, told(t, "Containerfile.arm", "# escape=`\n# x\nFROM reg.example/b:1 `\n AS x\nRUN dir c:\\\nFROM x"))
	assert.Equal(t, []string{"1 reg.example/a:1"}, told(t, "build", "FROM reg.example/a:1\n"), "by what it looks like")
	assert.Empty(t, told(t, "Dockerfile", ""))
}

func TestReferencesInYAML(t *testing.T) {
	text := `# é
apiVersion: v1
kind: List
items:
- kind: Pod
  spec:
    initContainers:
    - {name: "ü", image: 'reg.example/a:1'}
    containers:
    - name: x   # image: reg.example/comment:1
      image:   "reg.example/b:2"   # c
    - image: &img !!str reg.example/c:3
    - image: *img
    - image: >-
        reg.example/d:4
    - image: "reg.example/\x65:5"
    - image:
        reg.example/f:6
    volumes:
    - configMap: {image: reg.example/not:1}
---
spec: {jobTemplate: {spec: {template: {spec: {ephemeralContainers: [{image: localhost:7070/g/h@sha256:bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb}]}}}}}
text: |
  containers:
  - image: reg.example/not:2
---
x-common: &common
  image: reg.example/i:${TAG:-1}
services:
  web:
    <<: *common
    image: planner
  other: *common
  third: {build: .}
`
	want := []string{
		"8 reg.example/a:1", "11 reg.example/b:2", "12 reg.example/c:3", "15 reg.example/d:4", "16 reg.example/e:5 SKIP written", "18 reg.example/f:6",
		"22 localhost:7070/g/h@sha256:" + strings.Repeat("b", 64), "28 reg.example/i:${TAG:-1} SKIP a", "32 planner BARE",
	}
	assert.Equal(t, want, told(t, "x.yaml", text))
	assert.Equal(t, want, told(t, "x.yml", "\xef\xbb\xbf"+strings.ReplaceAll(text, "\n", "\r\n")))
	_, err := Find("x.yaml", []byte("a: {{ .Values.image }}\n- b"))
	assert.ErrorContains(t, err, "it is no YAML")
	assert.Empty(t, told(t, "x.yaml", "image: reg.example/alone:1\n"), "no container and no service")
}

// What is written has other references and is the same elsewhere, byte for byte.
func TestOnlyReferencesAreWritten(t *testing.T) {
	digest := oci.DigestOf(oci.SHA256, []byte("x"))
	for name, text := range map[string]string{"Dockerfile": buildText, "x.yaml": "services: # c\r\n  a: {image: 'reg.example/a', x: 1}\r\n  b:\r\n    image: reg.example/b:2@sha256:" + strings.Repeat("c", 64) + "  \r\n"} {
		places, err := Find(name, []byte(text))
		require.NoError(t, err)
		var changes []Change
		want := text
		for _, f := range places {
			if f.Skip == "" && !f.Bare {
				changes = append(changes, Change{f, f.Pinned(digest)})
				want = strings.Replace(want, f.Text, f.Pinned(digest), 1)
			}
		}
		assert.Equal(t, want, string(Write([]byte(text), changes)), name)
	}
	all, err := Find("x.yaml", []byte("services: {a: {image: reg.example/a}}"))
	require.NoError(t, err)
	assert.Equal(t, "reg.example/a:latest@"+digest.String(), all[0].Pinned(digest), "the tag that was meant is written")
}

// No file ends the program, and every place has the text that it says.
func FuzzFind(f *testing.F) {
	f.Add("Dockerfile", buildText)
	f.Add("x.yaml", "containers: [{image: &a 'b/c'}]\n---\nservices: {x: {image: *a}}")
	f.Add("x", "ARG A=b\\\n#\nFROM $A\nRUN <<X <<Y\nX\nY")
	f.Fuzz(func(t *testing.T, name, text string) {
		stuck := time.AfterFunc(3*time.Second, func() { panic(fmt.Sprintf("stuck at %q %q", name, text)) })
		places, err := Find(name, []byte(text))
		stuck.Stop()
		if err != nil {
			return
		}
		last := 0
		var changes []Change
		for _, p := range places {
			if p.Start < last || p.End < p.Start || p.End > len(text) || p.Skip == "" && text[p.Start:p.End] != p.Text {
				t.Fatalf("%q: %+v", text, p)
			}
			last = p.Start
			changes = append(changes, Change{p, text[p.Start:p.End]})
		}
		if string(Write([]byte(text), changes)) != text {
			t.Fatalf("%q is not the same", text)
		}
	})
}
