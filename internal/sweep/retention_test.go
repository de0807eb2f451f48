package sweep

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/inuse"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/registry"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// The plain judge shares nothing with the rules: patterns are functions, lists are gone
// through, versions are compared number by number.
type (
	pImage struct {
		digest, subject               oci.Digest
		children                      []oci.Digest
		order                         int
		came, again, pulled, untagged time.Duration
		touched                       time.Duration
		gone                          bool
	}
	pTag struct {
		name   string
		digest oci.Digest
		pushed time.Duration
		sealed bool
	}
	pRule struct {
		verb, pattern, condition string
		span                     time.Duration
		newest                   int
		by                       string
	}
	pThing struct {
		tag   *pTag
		image *pImage
	}
	plainJudge struct {
		*house
		t      *rapid.T
		in     oci.Name
		images []*pImage
		tags   []*pTag
		rules  []pRule
		// used is what the list of what is in use names, since left while it left it.
		used  map[oci.Digest]time.Duration
		fresh time.Duration
		// waits is until when the list waits, once it took much.
		waits time.Duration
	}
)

func isRelease(tag string) bool {
	parts := strings.Split(strings.TrimPrefix(tag, "v"), ".")
	return len(parts) == 3 && !strings.ContainsAny(tag, "-c")
}

func (p pRule) speaksOf(t pThing) bool {
	tag := ""
	if t.tag != nil {
		tag = t.tag.name
	}
	switch p.pattern {
	case "*":
		return true
	case "*:<none>":
		return tag == ""
	case "*:<release>":
		return tag != "" && isRelease(tag)
	case "*:<commit>":
		return strings.HasPrefix(tag, "c-")
	}
	return tag != "" && strings.HasPrefix(tag, "l")
}

func (j *plainJudge) image(d oci.Digest) *pImage {
	for _, m := range j.images {
		if m.digest == d && !m.gone {
			return m
		}
	}
	return nil
}

func (j *plainJudge) keptByImages(m *pImage) bool {
	for _, other := range j.images {
		if !other.gone && (slices.Contains(other.children, m.digest) || other.digest == m.subject) {
			return true
		}
	}
	return false
}

func (j *plainJudge) tagsOf(m *pImage) (all []*pTag) {
	for _, t := range j.tags {
		if t.digest == m.digest {
			all = append(all, t)
		}
	}
	return all
}

func (j *plainJudge) pulled(m *pImage) time.Duration {
	last := max(m.pulled, m.came)
	for _, d := range m.children {
		if child := j.image(d); child != nil {
			last = max(last, child.pulled)
		}
	}
	return last
}

func (j *plainJudge) inUse(m *pImage, now time.Duration) bool {
	if now >= j.fresh {
		return true
	}
	named := func(m *pImage) bool {
		left, is := j.used[m.digest]
		return is && (left == 0 || now < left+30*24*time.Hour)
	}
	return named(m) || slices.ContainsFunc(m.children, func(d oci.Digest) bool { child := j.image(d); return child != nil && named(child) })
}

func (j *plainJudge) holds(p pRule, t pThing, now time.Duration) bool {
	pushed, untagged := max(t.image.came, t.image.again), max(t.image.untagged, t.image.came)
	if t.tag != nil {
		pushed = t.tag.pushed
	}
	switch p.condition {
	case "older_than":
		return now-t.image.came >= p.span
	case "last_pull <":
		return now-j.pulled(t.image) < p.span
	case "last_pull >":
		return now-j.pulled(t.image) > p.span
	case "last_push >":
		return now-pushed > p.span
	case "untagged_for":
		return t.tag == nil && now-untagged >= p.span
	case "in_use":
		if now >= j.fresh {
			return p.verb == "keep"
		}
		return j.inUse(t.image, now)
	}
	return true
}

// numbers are those of a version, all -1 where a tag is none.
func numbers(t pThing) (n [3]int) {
	n = [3]int{-1, -1, -1}
	if t.tag != nil && isRelease(t.tag.name) {
		_, _ = fmt.Sscanf(strings.TrimPrefix(t.tag.name, "v"), "%d.%d.%d", &n[0], &n[1], &n[2])
	}
	return n
}

func (j *plainJudge) judge(now time.Duration) (things []pThing, decided []int) {
	for _, t := range j.tags {
		things = append(things, pThing{t, j.image(t.digest)})
	}
	for _, m := range j.images {
		if !m.gone && len(j.tagsOf(m)) == 0 && !j.keptByImages(m) {
			things = append(things, pThing{nil, m})
		}
	}
	decided = make([]int, len(things))
	for n, p := range j.rules {
		var meant []pThing
		for _, t := range things {
			if p.speaksOf(t) && j.holds(p, t, now) {
				meant = append(meant, t)
			}
		}
		slices.SortStableFunc(meant, func(a, b pThing) int {
			if c := slices.Compare([]int{numbers(b)[0], numbers(b)[1], numbers(b)[2]}, []int{numbers(a)[0], numbers(a)[1], numbers(a)[2]}); p.by == "version" && c != 0 {
				return c
			}
			if a.image.came != b.image.came {
				return int(b.image.came - a.image.came)
			}
			return b.image.order - a.image.order
		})
		var in []*pImage
		for _, t := range meant {
			if !slices.Contains(in, t.image) && (p.newest == 0 || len(in) < p.newest) {
				in = append(in, t.image)
			}
		}
		for i, t := range things {
			if decided[i] == 0 && slices.Contains(meant, t) && slices.Contains(in, t.image) {
				decided[i] = n + 1
			}
		}
	}
	return things, decided
}

// act lets go of what goes at a moment, and tells of each what went by which rule.
func (j *plainJudge) act(now time.Duration) (went []string) {
	things, decided := j.judge(now)
	var goes []int
	for i, t := range things {
		if decided[i] == 0 || j.rules[decided[i]-1].verb != "drop" || t.tag != nil && t.tag.sealed || t.tag == nil && t.image.touched+grace > now {
			continue
		}
		goes = append(goes, i)
	}
	if len(goes)*5 > len(things) && (j.waits == 0 || j.waits > now) {
		if j.waits == 0 {
			j.waits = now + 24*time.Hour
		}
		return nil
	}
	left := map[*pImage]int{}
	for _, t := range j.tags {
		left[j.image(t.digest)]++
	}
	for _, i := range goes {
		if things[i].tag != nil {
			left[things[i].image]--
		}
	}
	gone := map[*pImage]bool{}
	for _, i := range goes {
		m := things[i].image
		gone[m] = left[m] == 0 && !j.keptByImages(m)
	}
	for _, i := range goes {
		name := string(things[i].image.digest)
		if t := things[i].tag; t != nil {
			name = t.name
			j.tags = slices.DeleteFunc(j.tags, func(other *pTag) bool { return other == t })
			things[i].image.untagged = now
		}
		went = append(went, fmt.Sprintf("%s by %d", name, decided[i]))
	}
	for m := range gone {
		if gone[m] {
			j.goes(m, now)
		}
	}
	slices.Sort(went)
	return went
}

func (j *plainJudge) goes(m *pImage, now time.Duration) {
	m.gone = true
	for _, other := range j.images {
		if slices.Contains(m.children, other.digest) || other.subject == m.digest {
			other.untagged = now
		}
	}
}

// push pushes a document, the same one again where it was drawn before.
func (j *plainJudge) push(document any, mediaType string, children []oci.Digest, subject oci.Digest) {
	raw, err := json.Marshal(document)
	require.NoError(j.t, err)
	now := j.clock.Served()
	p := registry.ManifestPush{Name: j.in, MediaType: mediaType, Raw: raw}
	tag := rapid.SampledFrom([]string{"", "1.0.0", "1.2.0", "v1.2.0", "1.10.0", "latest", "c-0123abc", "c-0123abd"}).Draw(j.t, "tag")
	if tag != "" {
		p.Tags = []oci.Tag{oci.Tag(tag)}
	}
	at := slices.IndexFunc(j.tags, func(t *pTag) bool { return t.name == tag })
	pushed, err := j.PushManifest(ctx, p)
	if at >= 0 && j.tags[at].sealed && (err != nil || pushed.Digest != j.tags[at].digest) {
		require.Error(j.t, err)
		return
	}
	require.NoError(j.t, err)
	m := j.image(pushed.Digest)
	if m == nil {
		m = &pImage{digest: pushed.Digest, children: children, subject: subject, came: now, untagged: now, order: int(pushed.ID)}
		j.images = append(j.images, m)
	} else {
		m.again = now
	}
	m.touched = now
	switch {
	case tag == "":
	case at >= 0:
		if was := j.image(j.tags[at].digest); was != m {
			was.untagged = now
		}
		j.tags[at].digest, j.tags[at].pushed = m.digest, now
	default:
		j.tags = append(j.tags, &pTag{name: tag, digest: m.digest, pushed: now})
	}
}

func (j *plainJudge) live() (all []*pImage) {
	for _, m := range j.images {
		if !m.gone {
			all = append(all, m)
		}
	}
	return all
}

func (j *plainJudge) one() *pImage {
	all := j.live()
	if len(all) == 0 {
		j.t.Skip("nothing is there")
	}
	return all[rapid.IntRange(0, len(all)-1).Draw(j.t, "image")]
}

func (j *plainJudge) pushImage() {
	empty := v1.DescriptorEmptyJSON
	empty.Data = nil
	document := v1.Manifest{MediaType: oci.MediaTypeImage, ArtifactType: "application/vnd.larkspur.test", Config: empty, Layers: []v1.Descriptor{empty}}
	document.SchemaVersion = 2
	document.Annotations = map[string]string{"n": fmt.Sprint(rapid.IntRange(0, 9).Draw(j.t, "n"))}
	var subject oci.Digest
	if rapid.IntRange(0, 3).Draw(j.t, "refers") == 0 && len(j.live()) > 0 {
		m := j.one()
		subject = m.digest
		document.Subject = &v1.Descriptor{MediaType: oci.MediaTypeImage, Digest: subject, Size: 1}
	}
	j.push(document, oci.MediaTypeImage, nil, subject)
}

func (j *plainJudge) pushIndex() {
	document := v1.Index{MediaType: oci.MediaTypeIndex}
	document.SchemaVersion = 2
	document.Annotations = map[string]string{"i": fmt.Sprint(rapid.IntRange(0, 2).Draw(j.t, "i"))}
	var children []oci.Digest
	for _, m := range j.live() {
		if len(m.children) == 0 && len(children) < 2 && rapid.Bool().Draw(j.t, "child") {
			manifest, err := j.Manifest(ctx, j.in, m.digest.String())
			require.NoError(j.t, err)
			document.Manifests = append(document.Manifests, v1.Descriptor{MediaType: manifest.MediaType, Digest: m.digest, Size: manifest.Size})
			children = append(children, m.digest)
		}
	}
	j.push(document, oci.MediaTypeIndex, children, "")
}

func (j *plainJudge) pull() {
	m := j.one()
	found, err := j.Manifest(ctx, j.in, m.digest.String())
	require.NoError(j.t, err)
	j.CountPull(0, j.in, found, "")
	m.pulled = j.clock.Served()
}

func (j *plainJudge) removeTag() {
	if len(j.tags) == 0 {
		j.t.Skip("no tag is there")
	}
	i := rapid.IntRange(0, len(j.tags)-1).Draw(j.t, "tag")
	t := j.tags[i]
	if t.sealed {
		j.t.Skip("it is sealed")
	}
	_, err := j.ChangeTags(ctx, j.in, []registry.TagChange{{Act: registry.ActRemove, Tag: oci.Tag(t.name)}}, "")
	require.NoError(j.t, err)
	j.image(t.digest).untagged = j.clock.Served()
	j.tags = slices.Delete(j.tags, i, i+1)
}

func (j *plainJudge) seal() {
	if len(j.tags) == 0 {
		j.t.Skip("no tag is there")
	}
	t := j.tags[rapid.IntRange(0, len(j.tags)-1).Draw(j.t, "tag")]
	t.sealed = true
	require.NoError(j.t, j.records.Update(ctx, "test", func(tx *record.Tx) error {
		in, err := tx.Repository(j.in)
		require.NoError(j.t, err)
		return tx.SealTag(in, oci.Tag(t.name), "it runs", record.Actor{})
	}))
}

func (j *plainJudge) setInUse() {
	served := int64(j.clock.Served())
	var entries []inuse.Entry
	now := map[oci.Digest]bool{}
	for _, m := range j.live() {
		if rapid.IntRange(0, 4).Draw(j.t, "used") == 0 {
			entries = append(entries, inuse.Entry{Repository: string(j.in), Digest: m.digest})
			now[m.digest] = true
		}
	}
	require.NoError(j.t, j.records.Update(ctx, "test", func(tx *record.Tx) error {
		list, err := tx.InUse().Get("cluster-north")
		require.NoError(j.t, err)
		was, err := tx.InUse().Entries(list.ID, served)
		require.NoError(j.t, err)
		c := inuse.Change{Seen: list, Came: entries}
		for _, e := range was {
			if e.LeftServed == 0 && !now[e.Digest] {
				c.Left = append(c.Left, e)
			}
		}
		return tx.InUse().Refresh(c, tx.Now(), served, 0)
	}))
	for d, left := range j.used {
		if left == 0 && !now[d] {
			j.used[d] = j.clock.Served()
		}
	}
	for d := range now {
		j.used[d] = 0
	}
	j.fresh = j.clock.Served() + 72*time.Hour
}

func (j *plainJudge) setRules() {
	j.rules = nil
	var words strings.Builder
	for range rapid.IntRange(1, 4).Draw(j.t, "rules") {
		p := pRule{
			verb:      rapid.SampledFrom([]string{"keep", "drop", "drop"}).Draw(j.t, "verb"),
			pattern:   rapid.SampledFrom([]string{"*", "*:<none>", "*:<release>", "*:<commit>", "*:l*"}).Draw(j.t, "pattern"),
			condition: rapid.SampledFrom([]string{"", "older_than", "last_pull <", "last_pull >", "last_push >", "untagged_for", "in_use"}).Draw(j.t, "condition"),
			span:      time.Duration(rapid.IntRange(1, 60).Draw(j.t, "hours")) * time.Hour,
			newest:    rapid.SampledFrom([]int{0, 0, 1, 2, 3}).Draw(j.t, "newest"), by: rapid.SampledFrom([]string{"version", "push"}).Draw(j.t, "by"),
		}
		fmt.Fprintf(&words, "- %s: %q\n", p.verb, p.pattern)
		if key, side, ago := strings.Cut(p.condition, " "); ago {
			fmt.Fprintf(&words, "  %s: \"%s %s\"\n", key, side, rule.Span(p.span))
		} else if p.condition == "in_use" {
			words.WriteString("  in_use: cluster-north\n")
		} else if p.condition != "" {
			fmt.Fprintf(&words, "  %s: %s\n", p.condition, rule.Span(p.span))
		}
		if p.newest > 0 {
			fmt.Fprintf(&words, "  newest: %d\n  by: %s\n", p.newest, p.by)
		}
		j.rules = append(j.rules, p)
	}
	j.waits = 0
	// By the moment a list is told from the one before.
	j.clock.MoveTo(j.clock.Now().Add(time.Second))
	require.NoError(j.t, j.records.Update(ctx, "test", func(tx *record.Tx) error {
		in, err := tx.Namespace("berths")
		require.NoError(j.t, err)
		k := rulelists.Key{Kind: rule.Retention.Name, NamespaceID: in.ID}
		return tx.RuleLists().Set(rulelists.List{Key: k, Words: words.String(), WidenedServed: tx.Served()}, nil)
	}))
}

// run lets the rules act, and compares all that went and all that is there still.
func (j *plainJudge) retain() {
	now := j.clock.Served()
	want := j.act(now)
	run := j.house.run(j.t, KindRetention, Options{})
	went := j.rows(j.t, fmt.Sprintf("SELECT name || ' by ' || substr(reason, 6, 1) FROM removals WHERE run_id = %d AND kind IN ('tag', 'manifest')", run.ID))
	require.Equal(j.t, want, went)
	j.same()
}

func (j *plainJudge) same() {
	var tags, images []string
	for _, t := range j.tags {
		tags = append(tags, t.name+" "+string(t.digest))
	}
	for _, m := range j.live() {
		images = append(images, string(m.digest))
	}
	slices.Sort(tags)
	slices.Sort(images)
	require.Equal(j.t, images, j.rows(j.t, "SELECT digest FROM manifests WHERE state = 'live'"))
	require.Equal(j.t, tags, j.rows(j.t, "SELECT tags.name || ' ' || digest FROM tags JOIN manifests ON manifests.id = manifest_id WHERE tags.removal_id = 0"))
}

// days looks at what would go on days to come, and lets them come.
func (j *plainJudge) days() {
	const days = 4
	var foretold [days][]string
	require.NoError(j.t, j.FlushPulls())
	require.NoError(j.t, j.records.Snapshot(ctx, func(view record.View) error {
		in, err := view.Repository(j.in)
		require.NoError(j.t, err)
		place, err := view.Keeping().Place(in.ID)
		require.NoError(j.t, err)
		served := int64(j.clock.Served())
		inUse, err := view.InUse().Worth(served)
		require.NoError(j.t, err)
		around, err := view.Judging().Of(place, worth.Terms{Served: served, Grace: int64(grace), Wait: int64(24 * time.Hour), InUse: inUse}, nil)
		require.NoError(j.t, err)
		all, err := view.Keeping().Load(place, around.Terms.LabelNames())
		require.NoError(j.t, err)
		for day, d := range all.Days(around.Terms, days-1) {
			for _, f := range d.Goes {
				name := string(all.Images[f.Image].Digest)
				if f.Tag >= 0 {
					name = string(all.Tags[f.Tag].Name)
				}
				foretold[day] = append(foretold[day], fmt.Sprintf("%s by %d", name, f.Verdict.Number))
			}
			slices.Sort(foretold[day])
		}
		return nil
	}))
	fresh := j.clock.Served() < j.fresh
	for day := range days {
		// A list that is fresh now is told of as if it stayed so.
		if fresh && j.clock.Served() >= j.fresh {
			return
		}
		before := len(j.rows(j.t, "SELECT id FROM removals WHERE run_id <> 0"))
		j.retain()
		after := j.rows(j.t, "SELECT name || ' by ' || substr(reason, 6, 1) FROM removals WHERE run_id = (SELECT max(id) FROM runs)")
		assert.Len(j.t, foretold[day], len(j.rows(j.t, "SELECT id FROM removals WHERE run_id <> 0"))-before)
		if len(foretold[day]) > 0 {
			require.Equal(j.t, foretold[day], after, "day %d", day)
		}
		j.clock.MoveTo(j.clock.Now().Add(24 * time.Hour))
	}
}

// TestRetentionIsThatOfAPlainJudge holds what rules let go against a judge that shares no
// code with them, over histories of pushes, pulls, removals, seals and lists of what is in
// use, and what is foretold of days to come against what a run does then.
func TestRetentionIsThatOfAPlainJudge(t *testing.T) {
	checks := cmp.Or(os.Getenv("SWEEP_ROUNDS"), "6")
	require.NoError(t, errors.Join(flag.Set("rapid.checks", checks), flag.Set("rapid.steps", "50"), flag.Set("rapid.nofailfile", "true")))
	rapid.Check(t, func(t *rapid.T) {
		root, err := os.MkdirTemp("", "retention")
		require.NoError(t, err)
		defer os.RemoveAll(root)
		j := &plainJudge{house: open(t, root), t: t, in: "berths/seatmap", used: map[oci.Digest]time.Duration{}}
		defer j.close(t)
		empty := v1.DescriptorEmptyJSON
		require.NoError(t, j.PushBlob(ctx, j.in, registry.Part{Body: bytes.NewReader(empty.Data), Offset: -1, Length: empty.Size}, empty.Digest))
		require.NoError(t, j.records.Update(ctx, "test", func(tx *record.Tx) error {
			return tx.InUse().Make(inuse.List{Name: "cluster-north", FreshFor: 72 * time.Hour})
		}))
		j.setRules()
		act := func(do func()) func(*rapid.T) { return func(t *rapid.T) { j.t = t; do() } }
		t.Repeat(map[string]func(*rapid.T){
			"push": act(j.pushImage), "push another": act(j.pushImage), "push a third": act(j.pushImage), "index": act(j.pushIndex), "pull": act(j.pull),
			"remove a tag": act(j.removeTag), "seal": act(j.seal), "in use": act(j.setInUse), "rules": act(j.setRules), "act": act(j.retain), "days": act(j.days),
			"time passes": act(func() {
				j.clock.MoveTo(j.clock.Now().Add(time.Duration(rapid.IntRange(1, 30*60).Draw(j.t, "minutes")) * time.Minute))
			}),
		})
	})
}
