package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/config"
	"warthesis/internal/httpd"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
	"warthesis/internal/record/runs"
	"warthesis/internal/serve"
	"warthesis/internal/work"
)

// inside is a registry in this process, with kinds of work of the test's own.
type inside struct {
	t    testing.TB
	home *serve.Home
	work *work.Works
	url  string
}

func startInside(t testing.TB, kinds ...work.Kind) *inside {
	c := config.Default()
	c.Data, c.FreeBytes = t.TempDir(), 1
	home, err := serve.OpenHome(c, serve.RunningClock)
	require.NoError(t, err)
	require.NoError(t, home.Access.MakeFirstAdmin(context.Background(), kit.Password))
	w, err := work.New(home.Records, home.Clock, kinds...)
	require.NoError(t, err)
	w.Start()
	doors, err := httpd.New(httpd.Options{
		Registry: home.Registry, Records: home.Records, Access: home.Access, Work: w, Version: "test",
		BodyIdle: time.Minute, ManifestBytes: 4 << 20, Stopping: make(chan struct{}),
	})
	require.NoError(t, err)
	server := httptest.NewServer(doors)
	t.Cleanup(func() {
		server.Close()
		w.Close()
		require.NoError(t, home.Close())
	})
	return &inside{t, home, w, server.URL}
}

func (i *inside) do(method, path string, body io.Reader, into any) int {
	request, err := http.NewRequest(method, i.url+path, body)
	require.NoError(i.t, err)
	request.Header.Set("Authorization", kit.AdminHeader)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(i.t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(i.t, err)
	if into != nil {
		require.NoError(i.t, json.Unmarshal(raw, into), "%s", raw)
	}
	return answer.StatusCode
}

// greedy is work that wants all there is: processor and disk, for ever.
func greedy(folder string) work.Kind {
	block := bytes.Repeat([]byte("all there is "), 20_000)
	return work.Kind{Name: "greedy", About: "Wants all there is", Do: func(_ context.Context, g *work.Going) error {
		g.Step("hashing", "blocks", 0)
		for n := 0; ; n++ {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprint(n%64)), block, 0o600); err != nil {
				return err
			}
			for range 8 {
				sha256.Sum256(block)
				if err := g.Breathe(); err != nil {
					return err
				}
			}
			g.Did(8)
			if err := g.Keep(fmt.Sprint(n)); err != nil {
				return err
			}
		}
	}}
}

func TestRunsAreSeenWithTheirProgressAndStopped(t *testing.T) {
	t.Parallel()
	i := startInside(t, greedy(t.TempDir()))
	run, _, err := i.work.Ask(context.Background(), work.Wish{Kind: "greedy", Place: "timetable", Cause: runs.BySomebody, Account: 1})
	require.NoError(t, err)
	at := fmt.Sprintf("/api/v1/runs/%d", run.ID)
	var seen api.Run
	kit.Eventually(t, "it counts", func() bool { return i.do("GET", at, nil, &seen) == http.StatusOK && seen.Done > 0 })
	assert.Equal(t, "going", seen.State)
	assert.Equal(t, "admin", seen.AskedBy)
	assert.Equal(t, "timetable", seen.Place)
	assert.Equal(t, http.StatusNoContent, i.do("POST", at+"/stop", nil, nil))
	kit.Eventually(t, "it has stopped", func() bool { i.do("GET", at, nil, &seen); return seen.State == "stopped" })
	assert.NotNil(t, seen.EndedAt)
	assert.Equal(t, http.StatusConflict, i.do("POST", at+"/stop", nil, nil))
	assert.Equal(t, http.StatusNotFound, i.do("POST", "/api/v1/runs/77/stop", nil, nil))
	var list api.RunList
	require.Equal(t, http.StatusOK, i.do("GET", "/api/v1/runs?state=stopped&kind=greedy", nil, &list))
	assert.Len(t, list.Runs, 1)
	require.Equal(t, http.StatusOK, i.do("GET", "/api/v1/runs?state=failed", nil, &list))
	assert.Empty(t, list.Runs)
	var log api.LineList
	require.Equal(t, http.StatusOK, i.do("GET", "/api/v1/audit?kind=run-stopped", nil, &log))
	require.Len(t, log.Lines, 1)
	assert.Equal(t, "greedy of timetable", log.Lines[0].Detail)
}

func TestTheClientShowsWhatRunsByItself(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	out := kit.Must(t, "runs", "list", s.Address)
	for _, says := range []string{"No run is recorded", "pull-counts", "every 3s", "idle-uploads", "Ends uploads that nobody sends to"} {
		assert.Contains(t, out, says)
	}
	kit.MakeAccount(t, s, "jun")
	kit.LogInAs(t, s.Address, "jun", kit.MemberPassword)
	refused := kit.Run(t, "runs", "list", s.Address)
	assert.Equal(t, 3, refused.Code)
	assert.Contains(t, refused.Err, "that takes a role on the registry")
	assert.Equal(t, 2, kit.Run(t, "runs", "show", s.Address, "last").Code)
}

// BenchmarkRequestsBesideARunThatWantsEverything prints how much longer the median pull
// and push take beside a run that would use all of the processor and the disk.
func BenchmarkRequestsBesideARunThatWantsEverything(b *testing.B) {
	folder := b.TempDir()
	i := startInside(b, greedy(folder))
	layer := kit.Bytes(7, 8<<20)
	digest := oci.DigestOf(oci.SHA256, layer)
	push := func(raw []byte) time.Duration {
		d := oci.DigestOf(oci.SHA256, raw)
		began := time.Now()
		if code := i.do("POST", "/v2/timetable/planner/blobs/uploads/?digest="+url.QueryEscape(d.String()), bytes.NewReader(raw), nil); code != http.StatusCreated {
			b.Fatal(code)
		}
		return time.Since(began)
	}
	push(layer)
	seed := uint64(100)
	measure := func(rounds int) (pull, pushed time.Duration) {
		var pulls, pushes []time.Duration
		for range rounds {
			began := time.Now()
			if code := i.do("GET", "/v2/timetable/planner/blobs/"+digest.String(), nil, nil); code != http.StatusOK {
				b.Fatal(code)
			}
			pulls = append(pulls, time.Since(began))
			seed++
			copy(layer, fmt.Sprint(seed))
			pushes = append(pushes, push(layer))
		}
		slices.Sort(pulls)
		slices.Sort(pushes)
		return pulls[rounds/2], pushes[rounds/2]
	}
	measure(5)
	var pullRatios, pushRatios []float64
	for range 5 {
		idlePull, idlePush := measure(15)
		run, _, err := i.work.Ask(context.Background(), work.Wish{Kind: "greedy", Cause: runs.BySomebody})
		if err != nil {
			b.Fatal(err)
		}
		kit.Eventually(b, "it goes", func() bool { now, open := i.work.Run(run.ID); return open && now.Done > 0 })
		besidePull, besidePush := measure(15)
		if err := i.work.Stop(context.Background(), run.ID); err != nil {
			b.Fatal(err)
		}
		kit.Eventually(b, "it has ended", func() bool { _, open := i.work.Run(run.ID); return !open })
		pullRatios = append(pullRatios, float64(besidePull)/float64(idlePull))
		pushRatios = append(pushRatios, float64(besidePush)/float64(idlePush))
	}
	slices.Sort(pullRatios)
	slices.Sort(pushRatios)
	b.ReportMetric(pullRatios[2], "pull-ratio")
	b.ReportMetric(pushRatios[2], "push-ratio")
}
