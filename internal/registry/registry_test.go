package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/unheld"
	"warthesis/internal/rule/worth"
)

var ctx = WithCaller(context.Background(), Caller{Makes: record.Maker{Namespace: true}})

// open returns a registry on a real folder, its clock and the folder.
func open(t *testing.T, limits Limits) (*Registry, *clock.Set, string) {
	root := t.TempDir()
	blobs, err := blob.Open(root, blob.Options{FreeSpace: -1})
	require.NoError(t, err)
	clk := clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	records, err := record.Open(filepath.Join(root, "warthesis.db"), func(time.Duration) clock.Clock { return clk })
	require.NoError(t, err)
	r, err := New(blobs, records, clk, limits)
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, r.Close())
		require.NoError(t, records.Close())
	})
	return r, clk, root
}

func whole(raw []byte) Part {
	return Part{Body: bytes.NewReader(raw), Offset: -1, Length: int64(len(raw))}
}

func staged(t *testing.T, root string) int {
	names, err := os.ReadDir(filepath.Join(root, "incoming"))
	require.NoError(t, err)
	return len(names)
}

func TestAnUploadThatNobodySendsToEndsByServedTime(t *testing.T) {
	r, clk, root := open(t, Limits{UploadIdle: time.Hour})
	left, err := r.StartUpload(ctx, "a", oci.SHA256)
	require.NoError(t, err)
	_, err = r.AppendUpload(ctx, "a", left.ID, whole([]byte("half")))
	require.NoError(t, err)
	clk.MoveTo(clk.Now().Add(50 * time.Minute))
	busy, err := r.StartUpload(ctx, "a", oci.SHA256)
	require.NoError(t, err)
	clk.MoveTo(clk.Now().Add(20 * time.Minute))
	require.NoError(t, r.EndIdleUploads(ctx))
	_, err = r.UploadProgress(ctx, "a", left.ID)
	assert.ErrorIs(t, err, oci.CodeBlobUploadUnknown)
	_, err = r.UploadProgress(ctx, "a", busy.ID)
	assert.NoError(t, err)
	assert.Zero(t, staged(t, root))
}

func TestABlobOverTheLimitIsRefusedAndLeavesNothing(t *testing.T) {
	r, _, root := open(t, Limits{BlobBytes: 1 << 20})
	u, err := r.StartUpload(ctx, "a", oci.SHA256)
	require.NoError(t, err)
	raw := make([]byte, 700<<10)
	_, err = r.AppendUpload(ctx, "a", u.ID, whole(raw))
	require.NoError(t, err)
	// The second piece does not say how long it is.
	_, err = r.AppendUpload(ctx, "a", u.ID, Part{Body: bytes.NewReader(raw), Offset: -1, Length: -1})
	require.ErrorIs(t, err, oci.CodeBlobTooLarge)
	_, err = r.UploadProgress(ctx, "a", u.ID)
	assert.ErrorIs(t, err, oci.CodeBlobUploadUnknown)
	assert.Zero(t, staged(t, root))
}

func TestOneCallerCannotTakeAllUploads(t *testing.T) {
	r, _, _ := open(t, Limits{UploadsPerCaller: 2})
	one, other := WithCaller(ctx, Caller{Address: "192.0.2.1", Makes: record.Maker{Namespace: true}}), WithCaller(ctx, Caller{Address: "192.0.2.2"})
	first, err := r.StartUpload(one, "a", oci.SHA256)
	require.NoError(t, err)
	_, err = r.StartUpload(one, "a", oci.SHA256)
	require.NoError(t, err)
	_, err = r.StartUpload(one, "a", oci.SHA256)
	assert.ErrorIs(t, err, oci.CodeTooManyRequests)
	_, err = r.StartUpload(other, "a", oci.SHA256)
	assert.NoError(t, err)
	require.NoError(t, r.CancelUpload(one, "a", first.ID))
	_, err = r.StartUpload(one, "a", oci.SHA256)
	assert.NoError(t, err)
}

// What a pull finds is noted at once, as by a scrub: the next request reads nothing.
func TestAFileThatIsNotWhatTheRecordsSayIsRefusedBeforeItsFirstByte(t *testing.T) {
	for what, harm := range map[hurts.What]func(file string) error{
		hurts.Short:   func(file string) error { return os.Truncate(file, 5) },
		hurts.Missing: os.Remove,
		hurts.Rotten: func(file string) error {
			return errors.Join(os.Chmod(file, 0o600), os.WriteFile(file, []byte("a layer that the disk-shortens"), 0o600))
		},
	} {
		r, _, root := open(t, Limits{})
		raw := []byte("a layer that the disk shortens")
		d := oci.DigestOf(oci.SHA256, raw)
		require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
		require.NoError(t, harm(fileOf(t, root, d)))
		for range 2 {
			_, _, err := r.OpenBlob(ctx, "a", d)
			require.ErrorIs(t, err, oci.CodeStorageFault, what)
			found, err := r.records.View(ctx).Hurts().Get(d)
			require.NoError(t, err, what)
			assert.Equal(t, what, found.What)
		}
		left, err := filepath.Glob(filepath.Join(root, "blobs", "sha256", "*", "*"))
		require.NoError(t, err)
		assert.Empty(t, left, "it is set aside: %s", what)
		_, err = r.StatBlob(ctx, "a", d)
		assert.ErrorIs(t, err, oci.CodeBlobUnknown, what)

		// The message says to push it again: that heals it.
		require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
		f, _, err := r.OpenBlob(ctx, "a", d)
		require.NoError(t, err)
		got, err := io.ReadAll(f)
		require.NoError(t, errors.Join(err, f.Close()))
		assert.Equal(t, raw, got)
		_, err = r.records.View(ctx).Hurts().Get(d)
		assert.ErrorIs(t, err, hurts.ErrNone)
	}
}

// A file that was changed while the clock was set back is read before it is served: what
// counts is that its change time is another one, not which is the later.
func TestAFileThatWasChangedWhileTheClockWasSetBackIsNotServed(t *testing.T) {
	r, clk, root := open(t, Limits{})
	// The registry believes that it placed the file long after the file will have changed.
	clk.Jump(time.Now().Add(1000 * time.Hour))
	raw := []byte("a layer that somebody changes")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	flip(t, root, d)
	// Also after a restart, which has forgotten what it saw.
	r.checked.Purge()
	_, _, err := r.OpenBlob(ctx, "a", d)
	assert.ErrorIs(t, err, oci.CodeStorageFault)
}

// A content whose change time is not recorded yet is read once, and never again.
func TestAChangeTimeIsRecordedOnceContentWasFoundRight(t *testing.T) {
	r, _, root := open(t, Limits{})
	raw := []byte("a layer of an earlier version")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	// Its times change, and its bytes do not: as when a folder is copied back.
	require.NoError(t, os.Chmod(fileOf(t, root, d), 0o440))
	r.checked.Purge()
	f, _, err := r.OpenBlob(ctx, "a", d)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.NoError(t, r.FlushTouches())
	b, err := r.records.View(ctx).Blob(d)
	require.NoError(t, err)
	_, changed, err := r.blobs.Stat(placeOf(b))
	require.NoError(t, err)
	assert.Equal(t, record.StampOf(changed), b.ChangedAt)
	r.checked.Purge()
	assert.True(t, r.isUntouched(b, changed))
}

// Served time after a crash begins where the rows of the last minute were written: an
// upload that is open protects what was pushed beside it.
func TestServedTimeAfterACrashIsNotBehindTheRows(t *testing.T) {
	r, clk, root := open(t, Limits{})
	require.NoError(t, r.KeepServed())
	clk.MoveTo(clk.Now().Add(50 * time.Second))
	_, err := r.StartUpload(ctx, "a", oci.SHA256)
	require.NoError(t, err)
	clk.MoveTo(clk.Now().Add(5 * time.Second))
	raw := []byte("beside it")
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), oci.DigestOf(oci.SHA256, raw)))
	want := clk.Served()
	// A copy of the folder is what a crash leaves.
	left := filepath.Join(t.TempDir(), "left")
	require.NoError(t, os.CopyFS(left, os.DirFS(root)))
	var began time.Duration
	records, err := record.Open(filepath.Join(left, "warthesis.db"), func(before time.Duration) clock.Clock {
		began = before
		return clock.NewSet(time.Now())
	})
	require.NoError(t, err)
	require.NoError(t, records.Close())
	assert.Equal(t, want, began)
}

// What a caller who may push was told to exist is not deleted by a rule at that moment, an
// image no less than a blob.
func TestAnImageThatWasAskedForStaysForTheGrace(t *testing.T) {
	r, clk, _ := open(t, Limits{Grace: time.Hour})
	raw := []byte("config")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	m, err := r.PushManifest(ctx, ManifestPush{Name: "a", MediaType: oci.MediaTypeImage, Raw: fmt.Appendf(nil, `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":%q,"size":6}}`, d)})
	require.NoError(t, err)
	// At the end of the grace, the sweep has judged and is about to delete.
	clk.MoveTo(clk.Now().Add(time.Hour + time.Second))
	view := r.records.View(ctx)
	j := &Judgement{}
	j.Place, err = view.Keeping().Place(m.RepositoryID)
	require.NoError(t, err)
	j.All, err = view.Keeping().Load(j.Place, nil)
	require.NoError(t, err)
	drop := []worth.Finding{{Tag: -1, Image: 0, Goes: true, WithImage: true}}
	require.NoError(t, r.VouchManifest(ctx, "a", m))
	_, err = r.TakeByRules(ctx, j, drop)
	require.ErrorIs(t, err, ErrJudgeAgain)
	now, err := r.Manifest(ctx, "a", m.Digest.String())
	require.NoError(t, err)
	require.NoError(t, r.StatManifest(now))
	// It is written, so that the next judgement and the next start know it.
	all, err := r.records.View(ctx).Keeping().Load(j.Place, nil)
	require.NoError(t, err)
	assert.Equal(t, int64(clk.Served()), all.Images[0].AskedServed)
}

// What only comes ends no judgement, or a repository that is pushed to all the time would be
// judged again and again. What goes or moves does, and so does a tag that an image got.
func TestAJudgementOutlivesPushesAlone(t *testing.T) {
	r, _, _ := open(t, Limits{})
	raw := []byte("config")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	push := func(number int, tags ...oci.Tag) record.Manifest {
		m, err := r.PushManifest(ctx, ManifestPush{Name: "a", Tags: tags, MediaType: oci.MediaTypeImage, Raw: fmt.Appendf(nil, `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":%q,"size":6},"annotations":{"n":"%d","long":%q}}`, d, number, bytes.Repeat([]byte("x"), 50_000))})
		require.NoError(t, err)
		return m
	}
	first := push(0, "v0")
	for i := range 5 {
		push(i+1, oci.Tag(fmt.Sprintf("v%d", i+1)))
	}
	judge := func(labels ...string) *Judgement {
		j, view := &Judgement{}, r.records.View(ctx)
		var err error
		j.Place, err = view.Keeping().Place(first.RepositoryID)
		require.NoError(t, err)
		j.All, err = view.Keeping().Load(j.Place, labels)
		require.NoError(t, err)
		return j
	}
	take := func(j *Judgement, tag string) error {
		at := slices.IndexFunc(j.All.Tags, func(w worth.Tag) bool { return string(w.Name) == tag })
		image := slices.IndexFunc(j.All.Images, func(m worth.Image) bool { return m.ID == j.All.Tags[at].ManifestID })
		t, err := r.TakeByRules(ctx, j, []worth.Finding{{Tag: at, Image: image, Goes: true}})
		if err == nil {
			j.Place.Mark = t.Mark
		}
		return err
	}
	j := judge("n")
	push(9, "v9")
	require.NoError(t, take(j, "v0"), "a push")
	require.NoError(t, take(j, "v1"), "its own removal")
	push(2, "v2", "newer")
	require.ErrorIs(t, take(j, "v2"), ErrJudgeAgain, "a tag of the image")
	j = judge()
	push(9, "v3")
	require.ErrorIs(t, take(j, "v4"), ErrJudgeAgain, "a move")
	j = judge()
	require.NoError(t, r.DeleteTag(ctx, "a", "v9", If{}))
	require.ErrorIs(t, take(j, "v4"), ErrJudgeAgain, "a removal")

	// A rule list may ask for more labels than a statement takes values.
	many := []string{"n"}
	for i := range 40_000 {
		many = append(many, fmt.Sprint("label", i))
	}
	assert.Equal(t, `{"n":"0"}`, judge(many...).All.Images[0].Annotations)
	// Labels that no rule asks for stay on the disk.
	assert.Equal(t, `{"n":"0"}`, judge("n").All.Images[0].Annotations)
	assert.Empty(t, judge().All.Images[0].Annotations)
}

func TestAManifestWhoseLayerIsMissingOrOtherIsRefused(t *testing.T) {
	r, _, _ := open(t, Limits{})
	raw := []byte("{}")
	d := oci.DigestOf(oci.SHA256, raw)
	manifest := func(size string) ManifestPush {
		return ManifestPush{Name: "a", Tags: []oci.Tag{"x"}, MediaType: oci.MediaTypeImage,
			Raw: []byte(`{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + d.String() + `","size":` + size + `}}`)}
	}
	_, err := r.PushManifest(ctx, manifest("2"))
	require.ErrorIs(t, err, oci.CodeManifestBlobUnknown)
	require.NoError(t, r.PushBlob(ctx, "elsewhere", whole(raw), d))
	_, err = r.PushManifest(ctx, manifest("2"))
	require.ErrorIs(t, err, oci.CodeManifestBlobUnknown, "another repository's blob is not this one's")
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	_, err = r.PushManifest(ctx, manifest("3"))
	require.ErrorIs(t, err, oci.CodeManifestInvalid, "the sizes must agree")
	_, err = r.PushManifest(ctx, manifest("2"))
	require.NoError(t, err)
}

// fileOf returns the only file of content.
func fileOf(t *testing.T, root string, d oci.Digest) string {
	files, err := filepath.Glob(filepath.Join(root, "blobs/sha256", d.Encoded()[:2], d.Encoded()+"*"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	return files[0]
}

// flip changes one byte of content on the disk, and puts the times of the file back.
func flip(t *testing.T, root string, d oci.Digest) {
	file := fileOf(t, root, d)
	before, err := os.Stat(file)
	require.NoError(t, err)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	raw[len(raw)/2] ^= 1
	require.NoError(t, os.Chmod(file, 0o644))
	require.NoError(t, os.WriteFile(file, raw, 0o644))
	require.NoError(t, os.Chtimes(file, before.ModTime(), before.ModTime()))
}

func TestWhatRottedIsNotCalledWholeAndPushingItAgainMendsIt(t *testing.T) {
	r, clk, root := open(t, Limits{})
	// The clock goes along with that of the files.
	clk.MoveTo(time.Now().Add(time.Minute))
	raw := []byte("a layer that the disk changes")
	d := oci.DigestOf(oci.SHA256, raw)
	push := ManifestPush{Name: "a", Tags: []oci.Tag{"x"}, MediaType: oci.MediaTypeImage, Raw: fmt.Appendf(nil,
		`{"schemaVersion":2,"config":{"mediaType":"a/b","digest":%q,"size":%d}}`, d, len(raw))}
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	m, err := r.PushManifest(ctx, push)
	require.NoError(t, err)
	require.NoError(t, r.StatManifest(m))

	flip(t, root, d)
	_, err = r.StatBlob(ctx, "a", d)
	assert.ErrorIs(t, err, oci.CodeBlobUnknown)
	_, _, err = r.OpenBlob(ctx, "a", d)
	assert.ErrorIs(t, err, oci.CodeStorageFault)
	mounted, err := r.MountBlob(ctx, "b", d, "a", record.Seen{Everything: true})
	require.NoError(t, err)
	assert.False(t, mounted)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	_, err = r.StatBlob(ctx, "a", d)
	assert.NoError(t, err)

	for says, harm := range map[string]func(){
		"flipped": func() { flip(t, root, m.Digest) },
		"gone":    func() { require.NoError(t, os.Remove(fileOf(t, root, m.Digest))) },
	} {
		harm()
		assert.ErrorIs(t, r.StatManifest(m), oci.CodeManifestUnknown, says)
		before := m
		_, err = r.PushManifest(ctx, push)
		require.NoError(t, err)
		m, err = r.Manifest(ctx, "a", "x")
		require.NoError(t, err)
		assert.NoError(t, r.StatManifest(m), says)
		r.raw.Purge()
		// Who asked before it was mended gets it all the same.
		got, err := r.ManifestBytes(ctx, before)
		require.NoError(t, err, says)
		assert.Equal(t, push.Raw, got)
	}

	// Good content that comes again stays where it is; what came goes.
	before, err := r.records.View(ctx).Blob(d)
	require.NoError(t, err)
	clk.MoveTo(clk.Now().Add(time.Hour))
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	b, err := r.records.View(ctx).Blob(d)
	require.NoError(t, err)
	assert.Equal(t, before.Place, b.Place)
	assert.Greater(t, b.TouchedServed, before.TouchedServed)
	fileOf(t, root, d)
	assert.Zero(t, staged(t, root))
}

func TestAPushSettlesWhereItBeganOrNowhere(t *testing.T) {
	r, _, _ := open(t, Limits{})
	raw := []byte("on its way")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "n/a", whole([]byte("x")), oci.DigestOf(oci.SHA256, []byte("x"))))
	there, err := r.records.Repository(ctx, "n/a")
	require.NoError(t, err)
	change := func(do func(*record.Tx) error) { require.NoError(t, r.records.Update(ctx, "test", do)) }
	// during runs something while a blob comes in.
	during := func(do func()) Part {
		return Part{Body: io.MultiReader(bytes.NewReader(raw[:3]), &runs{do: do}, bytes.NewReader(raw[3:])), Offset: -1, Length: -1}
	}

	err = r.PushBlob(ctx, "n/a", during(func() {
		change(func(tx *record.Tx) error { _, err := tx.RemoveRepository(there, record.Actor{}, over); return err })
	}), d)
	assert.ErrorIs(t, err, oci.CodeNameUnknown)
	_, err = r.records.Repository(ctx, "n/a")
	require.ErrorIs(t, err, record.ErrNotFound, "nothing was made in its place")
	change(func(tx *record.Tx) error {
		id, err := tx.Removals().Last(there.NamespaceID, "n/a")
		require.NoError(t, err)
		_, err = tx.Undo(id, nil, "", record.Actor{})
		return err
	})
	require.NoError(t, r.PushBlob(ctx, "n/a", during(func() {
		change(func(tx *record.Tx) error { return tx.RenameRepository(there, "n/b", over) })
	}), d))
	_, err = r.StatBlob(ctx, "n/b", d)
	assert.NoError(t, err, "it is in the repository that it went to, which has another name")

	u, err := r.StartUpload(ctx, "n/b", oci.SHA256)
	require.NoError(t, err)
	err = r.FinishUpload(ctx, "n/b", u.ID, during(func() {
		change(func(tx *record.Tx) error {
			n, err := tx.LiveNamespace(there.NamespaceID)
			if err != nil {
				return err
			}
			_, err = tx.RemoveNamespace(n, record.Actor{}, over)
			return err
		})
	}), d)
	assert.ErrorIs(t, err, oci.CodeNameUnknown)
	_, err = r.records.View(ctx).Namespace("n")
	assert.ErrorIs(t, err, record.ErrNotFound)
}

// runs does something when it is read.
type runs struct{ do func() }

func (r *runs) Read([]byte) (int, error) {
	r.do()
	return 0, io.EOF
}

func TestAnUploadThatRestsHoldsNoFile(t *testing.T) {
	r, _, _ := open(t, Limits{})
	open := func() int {
		names, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(names)
	}
	before := open()
	raw := []byte("half and half")
	ids := make([]string, 40)
	for i := range ids {
		u, err := r.StartUpload(ctx, "a", oci.SHA256)
		require.NoError(t, err)
		ids[i] = u.ID
		_, err = r.AppendUpload(ctx, "a", u.ID, whole(raw[:5]))
		require.NoError(t, err)
	}
	assert.Less(t, open(), before+20)
	for _, id := range ids {
		require.NoError(t, r.FinishUpload(ctx, "a", id, whole(raw[5:]), oci.DigestOf(oci.SHA256, raw)))
	}
}

// over goes over seals, of which there are none here.
var over = seals.Leave{Over: "a test"}

// Files of erased content are deleted at the next start, without a window: those of an erasure
// that was cut between its commit and its end, and whatever came to the disk in another way.
func TestAnErasureThatWasCutIsFinishedAtTheNextStart(t *testing.T) {
	r, _, root := open(t, Limits{})
	raw, later, other := []byte("a key of the signal boxes"), []byte("a key that a backup brings back"), []byte("harmless")
	for _, content := range [][]byte{raw, later, other} {
		require.NoError(t, r.PushBlob(ctx, "a", whole(content), oci.DigestOf(oci.SHA256, content)))
	}
	// What a kill between commit and unlink leaves.
	d := oci.DigestOf(oci.SHA256, raw)
	b, err := r.records.View(ctx).Blob(d)
	require.NoError(t, err)
	require.NoError(t, r.records.Update(ctx, "test", func(tx *record.Tx) error {
		_, err := tx.Erasing().Take(0, []oci.Digest{d})
		return errors.Join(err, tx.Unheld().KeepErased([]unheld.File{{Digest: d, Place: b.Place, Size: b.Size}}, int64(tx.Now()), tx.Served()))
	}))
	// What is banned everywhere and copied back, into the folder and into what was set aside.
	second := oci.DigestOf(oci.SHA256, later)
	_, err = r.PlanErase(ctx, 0, second)
	require.NoError(t, err)
	require.NoError(t, r.records.Update(ctx, "test", func(tx *record.Tx) error {
		_, err := tx.Erasing().Take(0, []oci.Digest{second})
		if err == nil {
			_, err = tx.Bans().Add(bans.Ban{Digest: second, Reason: "x", BannedAt: 1})
		}
		return err
	}))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "set-aside"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(root, "set-aside", "sha256-"+second.Encoded()+".old"), later, 0o600))
	_, err = New(r.blobs, r.records, r.clock, Limits{})
	require.NoError(t, err)
	left, err := filepath.Glob(filepath.Join(root, "blobs", "sha256", "*", "*"))
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Contains(t, left[0], oci.DigestOf(oci.SHA256, other).Encoded())
	aside, err := os.ReadDir(filepath.Join(root, "set-aside"))
	require.NoError(t, err)
	assert.Empty(t, aside)
	files, err := r.records.View(ctx).Unheld().Erased(10)
	require.NoError(t, err)
	assert.Empty(t, files)
}

// A tag that was deleted, pushed again and whose deletion was undone leaves nothing that keeps
// its image for ever.
func TestAnUndoLeavesNoRowThatPointsToIt(t *testing.T) {
	r, clk, _ := open(t, Limits{Grace: time.Minute})
	raw := []byte("config")
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, r.PushBlob(ctx, "a", whole(raw), d))
	push := ManifestPush{Name: "a", Tags: []oci.Tag{"v1"}, MediaType: oci.MediaTypeImage, Raw: fmt.Appendf(nil, `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":%q,"size":6}}`, d)}
	m, err := r.PushManifest(ctx, push)
	require.NoError(t, err)
	require.NoError(t, r.RemoveTag(ctx, "a", "v1", "", ""))
	_, err = r.PushManifest(ctx, push)
	require.NoError(t, err)
	require.NoError(t, r.records.Update(ctx, "test", func(tx *record.Tx) error {
		_, err := tx.Undo(1, nil, "", record.Actor{})
		return err
	}))
	require.NoError(t, r.DeleteManifest(ctx, "a", m.Digest))
	clk.MoveTo(clk.Now().Add(100 * 24 * time.Hour))
	var found []unheld.Found
	_, err = r.Plan(ctx, r.Terms(), func() error { return nil }, func(raw []byte) error {
		var f unheld.Found
		err := json.Unmarshal(raw, &f)
		found = append(found, f)
		return err
	})
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(found, func(f unheld.Found) bool { return f.Kind == unheld.Manifest && f.Digest == m.Digest }), "%v", found)
}
