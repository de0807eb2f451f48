package sweep

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/oci"
	"warthesis/internal/record/runs"
	"warthesis/internal/record/unheld"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

// BenchmarkASweepOfAMillion measures a sweep of a million blobs: how fast it takes them
// alone, and beside pushes, and what it costs these.
func BenchmarkASweepOfAMillion(b *testing.B) {
	root := b.TempDir()
	h := open(b, root)
	million, err := os.ReadFile(filepath.Join("..", "..", "bench", "million.sql"))
	if err != nil {
		b.Fatal(err)
	}
	fill, err := sql.Open("sqlite3", filepath.Join(root, "warthesis.db")+"?_busy_timeout=60000")
	if err == nil {
		_, err = fill.Exec(string(million))
	}
	if err != nil {
		b.Fatal(err)
	}
	fill.Close()
	h.clock.MoveTo(h.clock.Now().Add(1000 * time.Hour))
	var found []unheld.Found
	began := time.Now()
	if _, err := h.Plan(ctx, h.Terms(), func() error { return nil }, func(raw []byte) error {
		var f unheld.Found
		found = append(found, f)
		return json.Unmarshal(raw, &found[len(found)-1])
	}); err != nil {
		b.Fatal(err)
	}
	b.Logf("plan of %d things: %s", len(found), time.Since(began))
	var holdings, blobs []unheld.Found
	for _, f := range found {
		if f.Kind == unheld.Holding {
			holdings = append(holdings, f)
			continue
		}
		blobs = append(blobs, f)
		hex := f.Digest.Encoded()
		if err := os.WriteFile(filepath.Join(root, "blobs", "sha256", hex[:2], hex), []byte("content"), 0o444); err != nil {
			b.Fatal(err)
		}
	}
	budget := h.works.Budget()
	take := func(all []unheld.Found, until func(done int) bool) (done int, longest time.Duration) {
		size := 20
		for done < len(all) && !until(done) {
			t, err := h.TakeUnheld(ctx, all[done:min(done+size, len(all))], unheld.NewRecent(1<<62))
			if err != nil {
				b.Fatal(err)
			}
			done += len(t.Went)
			longest = max(longest, t.Waited.Longest)
			size = next(size, t.Held, budget.Busy())
		}
		return done, longest
	}
	never := func(int) bool { return false }
	began = time.Now()
	take(holdings, never)
	b.ReportMetric(float64(len(holdings))/time.Since(began).Seconds(), "holdings/s-alone")
	half := len(blobs) / 2
	began = time.Now()
	take(blobs[:half], never)
	b.ReportMetric(float64(half)/time.Since(began).Seconds(), "blobs/s-alone")

	// Beside pushes: windows of a second, with a sweep that breathes as runs do and without.
	rest, count, waited := blobs[half:], 0, time.Duration(0)
	works, err := work.New(h.records, h.clock, work.Kind{Name: "taking", Do: func(c context.Context, g *work.Going) error {
		for size := 20; len(rest) > 0; {
			n := min(size, len(rest))
			t, err := h.TakeUnheld(c, rest[:n], unheld.NewRecent(1<<62))
			if err != nil {
				return err
			}
			rest, count, waited = rest[n:], count+n, max(waited, t.Waited.Longest)
			size = next(size, t.Held, g.Busy())
			if err := g.Breathe(); err != nil {
				return nil
			}
		}
		return nil
	}})
	if err != nil {
		b.Fatal(err)
	}
	works.Start()
	defer works.Close()
	var with, without []time.Duration
	var swept time.Duration
	push := 0
	for window := 0; len(with) < 2000 && len(rest) > 0; window++ {
		beside := window%2 == 1
		var run runs.Run
		if beside {
			run, _, err = works.Ask(ctx, work.Wish{Kind: "taking", Cause: runs.BySomebody})
			if err != nil {
				b.Fatal(err)
			}
		}
		began := time.Now()
		for time.Since(began) < time.Second {
			works.Budget().Sign()
			one := time.Now()
			pushOne(b, h, push)
			push++
			if took := time.Since(one); beside {
				with = append(with, took)
			} else {
				without = append(without, took)
			}
		}
		if beside {
			swept += time.Since(began)
			if err := works.Stop(ctx, run.ID); err != nil {
				b.Log(err)
			}
			for open := true; open; _, open = works.Run(run.ID) {
				time.Sleep(time.Millisecond)
			}
		}
	}
	slices.Sort(with)
	slices.Sort(without)
	b.ReportMetric(float64(count)/swept.Seconds(), "blobs/s-beside-pushes")
	b.ReportMetric(with[len(with)/2].Seconds()*1000, "ms/push-beside")
	b.ReportMetric(without[len(without)/2].Seconds()*1000, "ms/push-alone")
	b.ReportMetric(with[len(with)/2].Seconds()/without[len(without)/2].Seconds(), "beside/alone")
	b.ReportMetric(waited.Seconds()*1000, "ms/longest-wait")
	b.ReportMetric(float64(len(with)), "pushes")
	b.ReportMetric(0, "ns/op")
	h.close(b)
}

// pushOne pushes an image with a layer of its own.
func pushOne(b *testing.B, h *house, n int) {
	layer := fmt.Appendf(nil, "layer of push %d", n)
	d := oci.DigestOf(oci.SHA256, layer)
	name := oci.Name(fmt.Sprintf("n1/push%d", n%10))
	err := h.PushBlob(ctx, name, registry.Part{Body: bytes.NewReader(layer), Offset: -1, Length: int64(len(layer))}, d)
	m := v1.Manifest{MediaType: oci.MediaTypeImage, Config: oci.Descriptor{MediaType: "application/vnd.larkspur.x", Digest: d, Size: int64(len(layer))}, Layers: []oci.Descriptor{}}
	m.SchemaVersion = 2
	raw, _ := json.Marshal(m)
	if err == nil {
		_, err = h.PushManifest(ctx, registry.ManifestPush{Name: name, Tags: []oci.Tag{"latest"}, MediaType: oci.MediaTypeImage, Raw: raw})
	}
	if err != nil {
		b.Fatal(err)
	}
}
