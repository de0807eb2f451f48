package sweep

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3" // the records are looked at past all rooms
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
	"warthesis/internal/record/seals"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

var ctx = registry.WithCaller(context.Background(), registry.Caller{Makes: record.Maker{Namespace: true}})

const (
	grace  = 10 * time.Minute
	window = time.Hour
)

// house is a registry with its sweeps, on a real folder, by a clock that is moved.
type house struct {
	*registry.Registry
	records *record.Store
	works   *work.Works
	sweeper *Sweeper
	clock   *clock.Set
	root    string
	db      *sql.DB
}

func open(t require.TestingT, root string) *house {
	h := &house{root: root, clock: clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))}
	blobs, err := blob.Open(root, blob.Options{FreeSpace: -1})
	require.NoError(t, err)
	h.records, err = record.Open(filepath.Join(root, "warthesis.db"), func(before time.Duration) clock.Clock {
		h.clock.MoveTo(h.clock.Now().Add(before))
		return h.clock
	})
	require.NoError(t, err)
	require.NoError(t, h.records.Update(ctx, "test", func(tx *record.Tx) error {
		return tx.SaveSettings(record.Settings{RestoreWindow: window, PushMakesNamespaces: true})
	}))
	h.Registry, err = registry.New(blobs, h.records, h.clock, registry.Limits{Grace: grace, UploadIdle: 1000 * time.Hour})
	require.NoError(t, err)
	h.sweeper, err = New(h.Registry, h.records, h.clock, filepath.Join(root, "reports"), Settings{ScrubWithin: 14 * 24 * time.Hour, Wait: 24 * time.Hour})
	require.NoError(t, err)
	kinds := h.sweeper.Kinds()
	for i := range kinds {
		kinds[i].When = work.Schedule{}
	}
	h.works, err = work.New(h.records, h.clock, kinds...)
	require.NoError(t, err)
	h.works.Start()
	h.db, err = sql.Open("sqlite3", filepath.Join(root, "warthesis.db")+"?mode=ro")
	require.NoError(t, err)
	return h
}

func (h *house) close(t require.TestingT) {
	h.works.Close()
	require.NoError(t, errors.Join(h.db.Close(), h.Registry.Close(), h.records.Close()))
}

// run lets a run of a kind go to its end.
func (h *house) run(t require.TestingT, kind string, o Options) runs.Run {
	asked, _, err := h.works.Ask(ctx, work.Wish{Kind: kind, Cause: runs.BySomebody, Options: o.Words()})
	require.NoError(t, err)
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(time.Millisecond) {
		row, err := h.records.View(ctx).Runs().Get(asked.ID)
		require.NoError(t, err)
		if !row.Open() {
			require.Equal(t, runs.Done, row.State, row.Error)
			return row
		}
		require.True(t, time.Now().Before(end), "the run does not end")
	}
}

// rows reads the first column of what is in the records.
func (h *house) rows(t require.TestingT, query string) []string {
	rows, err := h.db.Query(query)
	require.NoError(t, err)
	defer rows.Close()
	var all []string
	for rows.Next() {
		var one string
		require.NoError(t, rows.Scan(&one))
		all = append(all, one)
	}
	require.NoError(t, rows.Err())
	slices.Sort(all)
	return all
}

// files are the digests of the files of content.
func (h *house) files(t require.TestingT) []string {
	found, err := filepath.Glob(filepath.Join(h.root, "blobs", "sha256", "*", "*"))
	require.NoError(t, err)
	var all []string
	for _, f := range found {
		hex, _, _ := strings.Cut(filepath.Base(f), ".")
		all = append(all, "sha256:"+hex)
	}
	slices.Sort(all)
	return all
}

// The model is plain: all there ever was, in lists that are gone through.
type (
	mRepository struct {
		name     oci.Name
		id       int64
		removal  *mRemoval
		holdings map[oci.Digest]*mHolding
		images   map[oci.Digest]*mImage
		tags     []*mTag
		// upload is when an upload began that is open.
		upload time.Duration
		opened bool
	}
	mHolding struct {
		touched time.Duration
		ended   *mRemoval
	}
	mImage struct {
		named    []oci.Digest
		children []oci.Digest
		deleted  *mRemoval
	}
	mTag struct {
		name   string
		digest oci.Digest
		gone   *mRemoval
	}
	mRemoval struct {
		id       int64
		at       time.Duration
		in       *mRepository
		undone   bool
		over     bool
		ofPlaces bool
	}
)

type model struct {
	*house
	t            *rapid.T
	repositories []*mRepository
	removals     []*mRemoval
	// bytes is when each blob was last touched.
	bytes map[oci.Digest]time.Duration
}

func (m *model) now() time.Duration      { return m.clock.Served() }
func (m *model) isOver(r *mRemoval) bool { return r != nil && !r.undone && m.now() >= r.at+window }
func (m *model) layer(i int) (oci.Digest, []byte) {
	raw := fmt.Appendf(nil, "layer %d", i)
	return oci.DigestOf(oci.SHA256, raw), raw
}

// live returns the repository that has a name, nil for none.
func (m *model) live(name oci.Name) *mRepository {
	for _, r := range m.repositories {
		if r.name == name && r.removal == nil {
			return r
		}
	}
	return nil
}

// ensure returns the repository that has a name now that something was pushed there.
func (m *model) ensure(name oci.Name) *mRepository {
	if r := m.live(name); r != nil {
		return r
	}
	found, err := m.records.Repository(ctx, name)
	require.NoError(m.t, err)
	r := &mRepository{name: name, id: found.ID, holdings: map[oci.Digest]*mHolding{}, images: map[oci.Digest]*mImage{}}
	m.repositories = append(m.repositories, r)
	return r
}

func (m *model) name() oci.Name {
	return oci.Name(rapid.SampledFrom([]string{"a/x", "a/y", "b/x"}).Draw(m.t, "repository"))
}

func (m *model) pushBlob() {
	name, d, raw := m.name(), oci.Digest(""), []byte(nil)
	d, raw = m.layer(rapid.IntRange(0, 5).Draw(m.t, "layer"))
	require.NoError(m.t, m.PushBlob(ctx, name, registry.Part{Body: bytes.NewReader(raw), Offset: -1, Length: int64(len(raw))}, d))
	m.bytes[d] = m.now()
	m.ensure(name).holdings[d] = &mHolding{touched: m.now()}
}

func (m *model) mount() {
	from, to := m.name(), m.name()
	d, _ := m.layer(rapid.IntRange(0, 5).Draw(m.t, "layer"))
	mounted, err := m.MountBlob(ctx, to, d, from, record.Seen{Everything: true})
	require.NoError(m.t, err)
	source := m.live(from)
	may := source != nil && source.holdings[d] != nil && source.holdings[d].ended == nil
	require.Equal(m.t, may, mounted)
	if mounted {
		m.ensure(to).holdings[d] = &mHolding{touched: m.now()}
	}
}

// vouch asks for a blob as somebody does who would push, and relies on the answer.
func (m *model) vouch() {
	name := m.name()
	d, _ := m.layer(rapid.IntRange(0, 5).Draw(m.t, "layer"))
	_, err := m.VouchBlob(ctx, name, d)
	r := m.live(name)
	held := r != nil && r.holdings[d] != nil && r.holdings[d].ended == nil
	require.Equal(m.t, held, err == nil)
	if held {
		r.holdings[d].touched = m.now()
	}
	if rapid.Bool().Draw(m.t, "written") {
		require.NoError(m.t, m.FlushTouches())
	}
}

func (m *model) pushImage() {
	name := m.name()
	document := v1.Manifest{MediaType: oci.MediaTypeImage, ArtifactType: "application/vnd.larkspur.test", Annotations: map[string]string{"n": fmt.Sprint(rapid.IntRange(0, 2).Draw(m.t, "n"))}}
	document.SchemaVersion = 2
	var named []oci.Digest
	for i, i1 := range rapid.SliceOfNDistinct(rapid.IntRange(0, 5), 1, 3, rapid.ID[int]).Draw(m.t, "layers") {
		d, raw := m.layer(i1)
		of := v1.Descriptor{MediaType: "application/octet-stream", Digest: d, Size: int64(len(raw))}
		if named = append(named, d); i == 0 {
			document.Config = of
		} else {
			document.Layers = append(document.Layers, of)
		}
	}
	r := m.live(name)
	may := r != nil
	for _, d := range named {
		may = may && r.holdings[d] != nil && r.holdings[d].ended == nil
	}
	m.push(name, oci.MediaTypeImage, document, named, nil, may)
}

func (m *model) pushIndex() {
	name := m.name()
	r := m.live(name)
	document := v1.Index{MediaType: oci.MediaTypeIndex}
	document.SchemaVersion = 2
	var children []oci.Digest
	if r != nil {
		for _, d := range sortedKeys(r.images) {
			if r.images[d].deleted == nil && rapid.Bool().Draw(m.t, "child") {
				manifest, err := m.Manifest(ctx, name, d.String())
				require.NoError(m.t, err)
				document.Manifests = append(document.Manifests, v1.Descriptor{MediaType: manifest.MediaType, Digest: d, Size: manifest.Size})
				children = append(children, d)
			}
		}
	}
	m.push(name, oci.MediaTypeIndex, document, children, children, r != nil || len(children) == 0)
}

func sortedKeys[V any](all map[oci.Digest]V) []oci.Digest {
	var keys []oci.Digest
	for key := range all {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return keys
}

func (m *model) push(name oci.Name, mediaType string, document any, named, children []oci.Digest, may bool) {
	raw, err := json.Marshal(document)
	require.NoError(m.t, err)
	p := registry.ManifestPush{Name: name, MediaType: mediaType, Raw: raw}
	tag := rapid.SampledFrom([]string{"", "1", "2"}).Draw(m.t, "tag")
	if tag != "" {
		p.Tags = []oci.Tag{oci.Tag(tag)}
	}
	pushed, err := m.PushManifest(ctx, p)
	require.Equal(m.t, may, err == nil, "%v", err)
	if err != nil {
		return
	}
	m.bytes[pushed.Digest] = m.now()
	r := m.ensure(name)
	r.images[pushed.Digest] = &mImage{named: named, children: children}
	if tag == "" {
		return
	}
	for _, t := range r.tags {
		if t.name == tag && t.gone == nil {
			t.digest = pushed.Digest
			return
		}
	}
	r.tags = append(r.tags, &mTag{name: tag, digest: pushed.Digest})
}

// removal notes the removal that came last.
func (m *model) removal(in *mRepository) *mRemoval {
	var id int64
	require.NoError(m.t, m.db.QueryRow("SELECT max(id) FROM removals").Scan(&id))
	r := &mRemoval{id: id, at: m.now(), in: in}
	m.removals = append(m.removals, r)
	return r
}

func (m *model) removeTag() {
	r := m.live(m.name())
	if r == nil {
		return
	}
	for _, t := range r.tags {
		if t.gone == nil && rapid.Bool().Draw(m.t, "this") {
			require.NoError(m.t, m.DeleteTag(ctx, r.name, oci.Tag(t.name), registry.If{}))
			t.gone = m.removal(r)
			return
		}
	}
}

func (m *model) removeImage() {
	r := m.live(m.name())
	if r == nil {
		return
	}
	for _, d := range sortedKeys(r.images) {
		image := r.images[d]
		if image.deleted != nil || !rapid.Bool().Draw(m.t, "this") {
			continue
		}
		named := false
		for _, other := range r.images {
			named = named || other.deleted == nil && slices.Contains(other.children, d)
		}
		err := m.DeleteManifest(ctx, r.name, d)
		require.Equal(m.t, named, err != nil)
		if err == nil {
			image.deleted = m.removal(r)
			for _, t := range r.tags {
				if t.gone == nil && t.digest == d {
					t.gone = image.deleted
				}
			}
		}
		return
	}
}

func (m *model) removeBlob() {
	r := m.live(m.name())
	d, _ := m.layer(rapid.IntRange(0, 5).Draw(m.t, "layer"))
	if r == nil {
		return
	}
	may := r.holdings[d] != nil && r.holdings[d].ended == nil
	for _, image := range r.images {
		may = may && (image.deleted != nil || !slices.Contains(image.named, d))
	}
	err := m.DeleteBlob(ctx, r.name, d)
	require.Equal(m.t, may, err == nil)
	if err == nil {
		r.holdings[d].ended = m.removal(r)
	}
}

func (m *model) removePlace() {
	r := m.live(m.name())
	if r == nil || rapid.IntRange(0, 3).Draw(m.t, "really") > 0 {
		return
	}
	require.NoError(m.t, m.records.Update(ctx, "test", func(tx *record.Tx) error {
		there, err := tx.LiveRepository(r.id)
		if err != nil {
			return err
		}
		_, err = tx.RemoveRepository(there, record.Actor{}, seals.Leave{Over: "a test"})
		return err
	}))
	r.removal = m.removal(r)
	r.removal.ofPlaces = true
}

func (m *model) undo() {
	if len(m.removals) == 0 {
		return
	}
	removal := rapid.SampledFrom(m.removals).Draw(m.t, "removal")
	r := removal.in
	may := !removal.undone && !removal.over && !m.isOver(removal)
	if removal.ofPlaces {
		may = may && m.live(r.name) == nil
	} else {
		may = may && r.removal == nil
		for _, t := range r.tags {
			for _, other := range r.tags {
				// A name that is taken by another image; what is there again is left out.
				may = may && (t.gone != removal || other.gone != nil || other.name != t.name || other.digest == t.digest)
			}
		}
	}
	err := m.records.Update(ctx, "undo", func(tx *record.Tx) error { _, err := tx.Undo(removal.id, nil, "", record.Actor{}); return err })
	require.Equal(m.t, may, err == nil, "%v", err)
	if err != nil {
		return
	}
	removal.undone = true
	if removal.ofPlaces {
		r.removal = nil
		return
	}
	var back func(d oci.Digest)
	back = func(d oci.Digest) {
		image := r.images[d]
		image.deleted = nil
		for _, child := range image.children {
			back(child)
		}
		for _, named := range image.named {
			if h := r.holdings[named]; h != nil && h.ended != nil {
				*h = mHolding{touched: m.now()}
			}
		}
	}
	for d, image := range r.images {
		if image.deleted == removal {
			back(d)
		}
	}
	for _, t := range slices.Clone(r.tags) {
		if t.gone != removal {
			continue
		}
		again := slices.ContainsFunc(r.tags, func(other *mTag) bool { return other.gone == nil && other.name == t.name })
		if again {
			continue
		}
		t.gone = nil
		back(t.digest)
	}
	for _, h := range r.holdings {
		if h.ended == removal {
			*h = mHolding{touched: m.now()}
		}
	}
}

func (m *model) startUpload() {
	name := m.name()
	_, err := m.StartUpload(ctx, name, oci.SHA256)
	require.NoError(m.t, err)
	if r := m.ensure(name); !r.opened {
		r.opened, r.upload = true, m.now()
	}
}

func (m *model) endUploads() {
	r := m.live(m.name())
	if r == nil || !r.opened {
		return
	}
	for _, id := range m.rows(m.t, fmt.Sprintf("SELECT id FROM uploads WHERE repository_id = %d", r.id)) {
		require.NoError(m.t, m.CancelUpload(ctx, r.name, id))
	}
	r.opened = false
}

func (m *model) pass() {
	m.clock.MoveTo(m.clock.Now().Add(rapid.SampledFrom([]time.Duration{time.Minute, grace / 2, grace, window / 2, window}).Draw(m.t, "span")))
}

// jump moves the wall clock alone, by a year. Nothing is decided by it.
func (m *model) jump() {
	years := rapid.SampledFrom([]time.Duration{-1, 1}).Draw(m.t, "years")
	m.clock.Jump(m.clock.Now().Add(years * 365 * 24 * time.Hour))
}

// sweepModel lets go of what a sweep must.
func (m *model) sweepModel() {
	for _, r := range m.repositories {
		gone := m.isOver(r.removal)
		for changed := true; changed; {
			changed = false
			for d, image := range r.images {
				goes := gone || m.isOver(image.deleted)
				for other, parent := range r.images {
					goes = goes && (other == d || !slices.Contains(parent.children, d))
				}
				for _, t := range r.tags {
					goes = goes && (gone || t.digest != d || m.isOver(t.gone))
				}
				if goes {
					delete(r.images, d)
					m.end(image.deleted)
					for _, t := range r.tags {
						if t.digest == d {
							m.end(t.gone)
						}
					}
					r.tags = slices.DeleteFunc(r.tags, func(t *mTag) bool { return t.digest == d })
					changed = true
				}
			}
		}
		for _, t := range r.tags {
			if m.isOver(t.gone) {
				m.end(t.gone)
			}
		}
		r.tags = slices.DeleteFunc(r.tags, func(t *mTag) bool { return m.isOver(t.gone) })
		for d, h := range r.holdings {
			named := false
			for _, image := range r.images {
				named = named || slices.Contains(image.named, d)
			}
			idle := r.removal == nil && h.ended == nil && h.touched+grace <= m.now() && (!r.opened || h.touched < r.upload)
			if gone || !named && (idle || m.isOver(h.ended)) {
				m.end(h.ended)
				delete(r.holdings, d)
			}
		}
	}
	for d, touched := range m.bytes {
		needed := false
		for _, r := range m.repositories {
			needed = needed || r.holdings[d] != nil || r.images[d] != nil
		}
		if !needed && touched+grace <= m.now() {
			delete(m.bytes, d)
		}
	}
}

func (m *model) end(r *mRemoval) {
	if r != nil {
		r.over = true
	}
}

func (m *model) sweep() {
	preview := m.run(m.t, KindPreview, Options{})
	row := m.run(m.t, KindSweep, Options{})
	m.sweepModel()
	m.compare()
	m.same(preview, row)
}

// same checks that a preview and a run had the same things, all of which went.
func (m *model) same(preview, row runs.Run) {
	seen, _, err := m.sweeper.Reports().List(preview.ID, 0, 10_000, "")
	require.NoError(m.t, err)
	took, _, err := m.sweeper.Reports().List(row.ID, 0, 10_000, "")
	require.NoError(m.t, err)
	require.Len(m.t, took, len(seen))
	for i, item := range took {
		require.True(m.t, *item.Went, item)
		item.Went = nil
		require.Equal(m.t, seen[i], item)
	}
}

// compare compares the records and the disk with the model, to the row.
func (m *model) compare() {
	var holdings, images, tags, contents []string
	for _, r := range m.repositories {
		for d, h := range r.holdings {
			holdings = append(holdings, fmt.Sprint(r.id, " ", d, " ", h.ended != nil))
		}
		for d, image := range r.images {
			images = append(images, fmt.Sprint(r.id, " ", d, " ", image.deleted != nil))
		}
		for _, t := range r.tags {
			tags = append(tags, fmt.Sprint(r.id, " ", t.name, " ", t.digest, " ", t.gone != nil))
		}
	}
	for d := range m.bytes {
		contents = append(contents, d.String())
	}
	for _, all := range [][]string{holdings, images, tags, contents} {
		slices.Sort(all)
	}
	word := func(is string) string { return "CASE WHEN " + is + " THEN 'true' ELSE 'false' END" }
	require.Equal(m.t, holdings, m.rows(m.t, "SELECT repository_id || ' ' || digest || ' ' || "+word("ended_at <> 0")+" FROM holdings JOIN contents ON contents.id = content_id"))
	require.Equal(m.t, images, m.rows(m.t, "SELECT repository_id || ' ' || digest || ' ' || "+word("state <> 'live'")+" FROM manifests"))
	require.Equal(m.t, tags, m.rows(m.t, "SELECT t.repository_id || ' ' || t.name || ' ' || m.digest || ' ' || "+word("t.removal_id <> 0")+" FROM tags AS t JOIN manifests AS m ON m.id = t.manifest_id"))
	require.Equal(m.t, contents, m.rows(m.t, "SELECT digest FROM blobs JOIN contents ON contents.id = content_id"))
	require.Equal(m.t, contents, m.files(m.t), "the files are those of the records")
}

// Every stored manifest can be pulled, whatever happened.
func (m *model) check(*rapid.T) {
	for _, r := range m.repositories {
		if r.removal != nil {
			continue
		}
		for d, image := range r.images {
			if image.deleted != nil {
				continue
			}
			for _, named := range image.named {
				if slices.Contains(image.children, named) {
					_, err := m.Manifest(ctx, r.name, named.String())
					require.NoError(m.t, err, "%s of %s", named, d)
					continue
				}
				f, _, err := m.OpenBlob(ctx, r.name, named)
				require.NoError(m.t, err, "%s of %s", named, d)
				f.Close()
			}
		}
	}
}

// Whatever is pushed, mounted, moved, removed and brought back, and whenever sweeps come
// in between: a sweep leaves what a plain model says, to the row and to the byte, and what
// its preview said goes. SWEEP_ROUNDS is how many histories are tried.
func TestSweepsLeaveWhatAPlainModelSays(t *testing.T) {
	checks := cmp.Or(os.Getenv("SWEEP_ROUNDS"), "20")
	require.NoError(t, errors.Join(flag.Set("rapid.checks", checks), flag.Set("rapid.steps", "60"), flag.Set("rapid.nofailfile", "true")))
	rapid.Check(t, func(t *rapid.T) {
		root, err := os.MkdirTemp("", "sweep")
		require.NoError(t, err)
		defer os.RemoveAll(root)
		m := &model{house: open(t, root), t: t, bytes: map[oci.Digest]time.Duration{}}
		defer m.close(t)
		act := func(do func()) func(*rapid.T) { return func(t *rapid.T) { m.t = t; do() } }
		t.Repeat(map[string]func(*rapid.T){
			"push a blob": act(m.pushBlob), "push another blob": act(m.pushBlob), "mount": act(m.mount), "vouch": act(m.vouch), "push an image": act(m.pushImage),
			"push another image": act(m.pushImage), "push an index": act(m.pushIndex), "remove a tag": act(m.removeTag), "remove an image": act(m.removeImage),
			"remove a blob": act(m.removeBlob), "remove a place": act(m.removePlace), "undo": act(m.undo), "start an upload": act(m.startUpload), "end uploads": act(m.endUploads),
			"pass": act(m.pass), "jump": act(m.jump), "sweep": act(m.sweep), "": m.check,
		})
		m.t = t
		// After all windows and two sweeps not one byte is over.
		for _, r := range m.repositories {
			if r.opened && r.removal == nil {
				for _, id := range m.rows(t, fmt.Sprintf("SELECT id FROM uploads WHERE repository_id = %d", r.id)) {
					require.NoError(t, m.CancelUpload(ctx, r.name, id))
				}
				r.opened = false
			}
		}
		m.clock.MoveTo(m.clock.Now().Add(window + grace))
		m.sweep()
		m.sweep()
		live := 0
		for _, r := range m.repositories {
			for _, image := range r.images {
				if image.deleted == nil {
					live++
				}
			}
		}
		assert.True(t, live > 0 || len(m.files(t)) == 0)
	})
}
