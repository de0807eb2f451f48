// Package console is the door to the web console, which is built into the program.
package console

import (
	"bytes"
	"compress/gzip"
	"embed"
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// The placeholder stands in for the built console, so that a fresh clone compiles.
//
//go:embed all:dist
var dist embed.FS

// Console serves the built files. It is safe for concurrent use.
type Console struct {
	files map[string]file
	index file
}

type file struct {
	mediaType string
	raw       []byte
	// packed is the content under gzip, nil where that saves nothing.
	packed []byte
	// lasting tells that the name changes with the content.
	lasting bool
}

// New reads the built console.
func New() (*Console, error) {
	c := &Console{files: map[string]file{}}
	err := fs.WalkDir(dist, "dist", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		raw, err := dist.ReadFile(name)
		if err != nil {
			return err
		}
		at := strings.TrimPrefix(name, "dist/")
		c.files[at], err = prepare(at, raw)
		return err
	})
	if err != nil {
		return nil, err
	}
	var built bool
	if c.index, built = c.files["index.html"]; !built {
		c.index = c.files["placeholder.html"]
	}
	if c.index.raw == nil {
		return nil, errors.New("neither the console nor its placeholder is built in")
	}
	return c, nil
}

func prepare(name string, raw []byte) (file, error) {
	f := file{mediaType: mime.TypeByExtension(path.Ext(name)), raw: raw, lasting: strings.HasPrefix(name, "assets/")}
	if f.mediaType == "" {
		f.mediaType = "application/octet-stream"
	}
	if strings.HasPrefix(f.mediaType, "font/") {
		return f, nil
	}
	var packed bytes.Buffer
	w, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return f, err
	}
	if _, err := w.Write(raw); err != nil {
		return f, err
	}
	if err := w.Close(); err != nil {
		return f, err
	}
	if packed.Len() < len(raw)*9/10 {
		f.packed = packed.Bytes()
	}
	return f, nil
}

// policy lets the page load only what the registry itself serves. The styles in
// place are the component library's.
const policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; " +
	"base-uri 'none'; frame-ancestors 'none'; form-action 'self'"

// Serve answers whatever no other door does: a built file, or for every place of
// the console its one page.
func (c *Console) Serve(g *gin.Context) {
	if g.Request.Method != http.MethodGet && g.Request.Method != http.MethodHead {
		g.Status(http.StatusMethodNotAllowed)
		return
	}
	name := strings.TrimPrefix(path.Clean(g.Request.URL.Path), "/")
	if strings.HasPrefix(name, "api/") {
		g.JSON(http.StatusNotFound, gin.H{"status": http.StatusNotFound, "title": "Not Found", "detail": "the management API has no such path; see /api/openapi.json"})
		return
	}
	f, ok := c.files[name]
	if !ok && strings.HasPrefix(name, "assets/") {
		g.String(http.StatusNotFound, "this file belongs to another version of the console; reload the page\n")
		return
	}
	if !ok {
		f = c.index
	}
	f.send(g)
}

func (f file) send(g *gin.Context) {
	g.Header("X-Content-Type-Options", "nosniff")
	g.Header("Referrer-Policy", "same-origin")
	g.Header("Content-Security-Policy", policy)
	g.Header("Vary", "Accept-Encoding")
	g.Header("Cache-Control", "no-cache")
	if f.lasting {
		g.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	if f.packed != nil && strings.Contains(g.GetHeader("Accept-Encoding"), "gzip") {
		g.Header("Content-Encoding", "gzip")
		g.Data(http.StatusOK, f.mediaType, f.packed)
		return
	}
	g.Data(http.StatusOK, f.mediaType, f.raw)
}
