package console

import (
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/access/upkeep"
	"warthesis/internal/browser"
	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/demo"
	"warthesis/internal/kit"
	"warthesis/internal/serve"
)

var seeded = sync.OnceValues(func() (string, error) {
	settings, root := config.Default(), filepath.Join(shared, "world")
	settings.Data, settings.FreeBytes = root, 1
	clk := clock.NewSet(demo.Start(time.Now()))
	home, err := serve.OpenHome(settings, func(time.Duration) clock.Clock { return clk })
	if err != nil {
		return "", err
	}
	err = demo.Seed(context.Background(), home.Registry, &upkeep.Upkeep{Access: home.Access, Records: home.Records, Clock: clk, RuleWait: 24 * time.Hour}, clk, func(ctx context.Context) error {
		return home.Sweeper.Sample(ctx, func() error { return nil })
	}, kit.Password)
	if err == nil {
		err = demo.Rot(context.Background(), home.Registry, root)
	}
	if err == nil {
		err = demo.LookAround(context.Background(), home.Work)
	}
	return root, errors.Join(err, home.Close())
})

// sampleWorld returns a data folder of the test's own with the sample world in it.
func sampleWorld(t *testing.T) string {
	root, err := seeded()
	require.NoError(t, err)
	own := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.CopyFS(own, os.DirFS(root)))
	return own
}

// openBrowser returns a page on which the admin is signed in.
func openBrowser(t *testing.T, s *kit.Service) *browser.Page {
	page, end, err := browser.Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(end)
	require.NoError(t, page.SignIn(s.URL(""), kit.Admin, kit.Password))
	return page
}

// says waits until the page shows a text.
func says(t *testing.T, page *browser.Page, text string) {
	t.Helper()
	require.NoError(t, page.Wait("document.body.innerText.includes("+quoted(text)+")"))
}

func quoted(s string) string { return "`" + s + "`" }

// The digest of one image of the sample world: it is the same on every machine.
const plannerDigest = "sha256:a3716ccaeb686e467ce280b2acffbdaf531f4373779acd9cae72dd9fdc09681a"

func TestTheConsoleAnswersTheQuestionOfEachPlace(t *testing.T) {
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	origins := watchOrigins(t, page)

	require.Equal(t, plannerDigest+"\n", kit.Must(t, "identify", s.Address+"/timetable/planner:2.4.1"))

	t.Run("which repositories are there, and what is new", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/")))
		require.NoError(t, page.WaitFor(`[role=row][data-index="13"]`))
		first, err := browser.Evaluate[string](page, `document.querySelector('[role=row][data-index="0"]').innerText`)
		require.NoError(t, err)
		assert.Contains(t, first, "timetable/board")
	})
	t.Run("which tags, and how to push and pull", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/r/timetable/planner")))
		says(t, page, "a3716ccaeb68")
		says(t, page, "warthesis push IMAGE "+s.Address+"/timetable/planner:TAG")
		says(t, page, "teodor")
	})
	t.Run("what is in this image", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/r/timetable/planner@:2.4.1")))
		says(t, page, "linux/arm64")
		says(t, page, "copy planner 2.4.1")
		says(t, page, "10 repositories")
		require.NoError(t, page.Click(`[role=tab]:nth-child(4)`))
		require.NoError(t, page.WaitFor(`pre[aria-label=Manifest]`))
		raw, err := browser.Evaluate[string](page, `document.querySelector('pre[aria-label=Manifest]').textContent`)
		require.NoError(t, err)
		assert.Equal(t, kit.Must(t, "show", s.Address+"/timetable/planner:2.4.1"), raw)
	})
	t.Run("what is this digest", func(t *testing.T) {
		require.NoError(t, page.Keys("/"))
		require.NoError(t, page.Wait(`document.activeElement.matches("header input")`))
		// The driver types the key although the page took it for itself.
		_, err := browser.Evaluate[bool](page, `document.activeElement.select() || true`)
		require.NoError(t, err)
		require.NoError(t, page.Keys(plannerDigest+"\r"))
		says(t, page, "Index")
		says(t, page, "linux/amd64, linux/arm64 · tagged 2.4.1, latest, stable")
	})
	t.Run("what is not found is said", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/find?q=/nothing:at-all")))
		says(t, page, "Nothing here has that name")
	})
	t.Run("an unknown repository says how to make it", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/r/nothing/here")))
		says(t, page, "warthesis push IMAGE "+s.Address+"/nothing/here:TAG")
	})
	t.Run("an unknown image says so and the page stays usable", func(t *testing.T) {
		require.NoError(t, page.Go(s.URL("/r/timetable/planner@:nope")))
		says(t, page, "has no tag nope")
		says(t, page, "Request ")
	})
	assert.Equal(t, []string{s.URL("")}, origins(), "no request leaves the origin")
}

// watchOrigins notes where the page's requests go.
func watchOrigins(t *testing.T, page *browser.Page) func() []string {
	var mu sync.Mutex
	seen := map[string]bool{}
	origin := regexp.MustCompile(`^https?://[^/]+`)
	events := chromedp.Events(page.Context(), network.RequestWillBeSent)
	_, err := chromedp.Call(page.Context(), network.Enable, network.EnableParams{})
	require.NoError(t, err)
	go func() {
		for e, err := range events {
			if err != nil {
				return
			}
			mu.Lock()
			if at := origin.FindString(e.Request.URL); at != "" {
				seen[at] = true
			}
			mu.Unlock()
		}
	}()
	return func() []string {
		mu.Lock()
		defer mu.Unlock()
		var all []string
		for at := range seen {
			all = append(all, at)
		}
		return all
	}
}

func TestListsFollowAPushByThemselves(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/")))
	says(t, page, "No repositories yet")
	says(t, page, "Live")
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(30, 1000)).Layout(t), s.Address+"/berths/seatmap:1.0.0")
	says(t, page, "berths/seatmap")
	require.NoError(t, page.Click(`[role=row][data-index="0"]`))
	says(t, page, "1.0.0")
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(31, 1000)).Layout(t), s.Address+"/berths/seatmap:1.0.1")
	says(t, page, "1.0.1")
}

func TestTheKeyboardReachesARowAndOpensIt(t *testing.T) {
	s := kit.Start(t, sampleWorld(t))
	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/?sort=name")))
	require.NoError(t, page.WaitFor(`[role=row][data-index="3"]`))
	_, err := browser.Evaluate[bool](page, `document.querySelector('[role=row][data-index="0"]').focus() || true`)
	require.NoError(t, err)
	const down, up, enter = "\u0301", "\u0304", "\r"
	require.NoError(t, page.Keys(down))
	require.NoError(t, page.Wait(`document.activeElement.dataset.index === "1"`))
	require.NoError(t, page.Keys(up+down+down))
	require.NoError(t, page.Wait(`document.activeElement.dataset.index === "2"`))
	// Keys that come faster than frames are all counted.
	_, err = browser.Evaluate[bool](page, `["ArrowDown", "ArrowDown", "ArrowUp", "ArrowDown"].forEach(key =>
		document.activeElement.dispatchEvent(new KeyboardEvent("keydown", {key, bubbles: true, cancelable: true}))) || true`)
	require.NoError(t, err)
	require.NoError(t, page.Wait(`document.activeElement.dataset.index === "4"`))
	require.NoError(t, page.Keys(up+up))
	require.NoError(t, page.Wait(`document.activeElement.dataset.index === "2"`))
	require.NoError(t, page.Keys(enter))
	require.NoError(t, page.Wait(`location.pathname === "/r/base/os"`))
}

func TestNothingSeriousStandsInTheWayOfAnybody(t *testing.T) {
	axe, err := os.ReadFile(filepath.Join("..", "..", "web", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	s := kit.Start(t, sampleWorld(t), "--inside-networks", "127.0.0.0/8")
	partner := kit.StartForeign(t, nil)
	partner.Put("signals/relay", "4.2.0", kit.NewImage(t, kit.Bytes(1, 3000)))
	kit.Must(t, "peer", "make", s.Address, "partner", partner.Address, "--plain-http", "--repository", "signals/relay")
	kit.Must(t, "import", s.Address, "partner/signals/relay", "outside/relay")
	kit.Must(t, "replication", "make", s.Address, "boxes", "--copy", "signals/*:<version>", "--to", "partner")
	page := openBrowser(t, s)
	for _, scheme := range []string{"light", "dark"} {
		require.NoError(t, page.Scheme(scheme))
		for place, sign := range map[string]string{"/": "berths/pricing", "/r/timetable/planner": "a3716ccaeb68", "/r/timetable/planner@:2.4.1": "copy settings", "/find?q=planner": "Repository",
			"/me": "My tokens", "/access": "berths", "/access/accounts?open=ci-berths": "build pipeline", "/access/groups": "timetable", "/n/berths?show=members": "ci-berths",
			"/n/berths?show=settings": "Whose pushes", "/n/berths?show=use": "Log in", "/activity": "push", "/access/registry": "Identity rules",
			"/r/berths/seatmap?show=settings": "Who may pull", "/r/berths/seatmap?show=members": "registry admin",
			"/rules?place=signals": "signal boxes run", "/rules?list=moving-names": "used by", "/removed": "sold beds twice", "/storage": "the file has other bytes", "/storage?place=timetable/planner": "What can be freed", "/retention?place=timetable": "go within 14 days", "/in-use?list=cluster-north": "partner.example", "/flow": "signals/*:<version> to partner", "/replication/boxes": "signals/relay:4.2.0", "/peer/partner": "The last test", "/import/partner-signals-relay": "Both sides are equal", "/carried/1": "1 of 1 images", "/service": "would go", "/r/timetable/board?show=log&tag=stable": "Put back"} {
			require.NoError(t, page.Go(s.URL(place)))
			says(t, page, sign)
			_, err := browser.Evaluate[bool](page, string(axe)+";true")
			require.NoError(t, err)
			found, err := browser.Evaluate[[]string](page, `axe.run().then(r => r.violations.filter(v => ["serious", "critical"].includes(v.impact))
				.flatMap(v => v.nodes.map(n => v.id + ": " + n.failureSummary + " in " + n.html.slice(0, 200))))`)
			require.NoError(t, err)
			assert.Empty(t, found, "%s in %s", place, scheme)
		}
	}
}

// firstLoadLimit is what the first page may load of script, in bytes under gzip.
const firstLoadLimit = 300 << 10

func TestTheFirstLoadIsSmall(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	_, index := s.Do(http.MethodGet, "/", nil)
	total := 0
	for _, found := range regexp.MustCompile(`(?:src|href)="(/assets/[^"]+\.js)"`).FindAllSubmatch(index, -1) {
		answer, raw := s.Do(http.MethodGet, string(found[1]), nil, "Accept-Encoding", "gzip")
		require.Equal(t, "gzip", answer.Header.Get("Content-Encoding"))
		total += len(raw)
		plain, err := gzip.NewReader(strings.NewReader(string(raw)))
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, plain)
		require.NoError(t, err)
	}
	assert.NotZero(t, total)
	assert.Less(t, total, firstLoadLimit)
}

// Somebody signs in by hand, sees what is theirs and nothing else, makes a token
// that is shown once, and signs out.
func TestSigningInShowsWhatIsOnesOwn(t *testing.T) {
	s := kit.Start(t, sampleWorld(t))
	page, end, err := browser.Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(end)
	require.NoError(t, page.Go(s.URL("/n/berths?show=members")))
	says(t, page, "Look at what anybody may pull")
	for _, try := range []struct{ password, says string }{{"not the password", "is wrong"}, {demo.Password, "Members and roles"}} {
		typeInto(t, page, "Account", "marit")
		typeInto(t, page, "Password", try.password)
		require.NoError(t, page.Click(`main button[type=submit]`))
		says(t, page, try.says)
	}
	says(t, page, "Give a role")

	require.NoError(t, page.Go(s.URL("/")))
	require.NoError(t, page.WaitFor(`[role=row][data-index="3"]`))
	text, err := page.Text()
	require.NoError(t, err)
	assert.Contains(t, text, "berths/seatmap")
	assert.NotContains(t, text, "signals/relay", "what is not marit's is not shown")
	require.NoError(t, page.Go(s.URL("/r/signals/relay")))
	says(t, page, "There is no repository signals/relay that you may see")
	require.NoError(t, page.Go(s.URL("/n/base?show=members")))
	says(t, page, "you have no role here")

	require.NoError(t, page.Go(s.URL("/r/berths/seatmap")))
	says(t, page, "Make a token for these commands")
	press(t, page, "Make a token for these commands")
	says(t, page, "This is a new token")
	secret, err := browser.Evaluate[string](page, `document.body.innerText.match(/warthesis_[a-z2-7]{39}/)[0]`)
	require.NoError(t, err)
	answer, _ := s.Do(http.MethodGet, "/v2/berths/seatmap/tags/list", nil, "Authorization", "Bearer "+secret)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	answer, _ = s.Do(http.MethodGet, "/v2/berths/pricing/tags/list", nil, "Authorization", "Bearer "+secret)
	assert.Equal(t, http.StatusNotFound, answer.StatusCode, "the token is for the one repository")

	require.NoError(t, page.Go(s.URL("/me")))
	says(t, page, "made for berths/seatmap")
	require.NoError(t, page.Click(`[aria-label^="Revoke the token"]`))
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]`))
	require.NoError(t, page.Wait("!document.body.innerText.includes('made for berths/seatmap')"))
	answer, _ = s.Do(http.MethodGet, "/v2/berths/seatmap/tags/list", nil, "Authorization", "Bearer "+secret)
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "a revoked token is refused at the next request")

	press(t, page, "Sign out")
	says(t, page, "to the registry at")
}

// press presses the button with a text.
func press(t *testing.T, page *browser.Page, text string) {
	_, err := browser.Evaluate[bool](page, `[...document.querySelectorAll('main button')].find(b => b.innerText === `+quoted(text)+`).click() || true`)
	require.NoError(t, err)
}

// typeInto types into the field of a label, in place of what is there.
func typeInto(t *testing.T, page *browser.Page, label, text string) {
	found, err := browser.Evaluate[bool](page, `(() => {
		const label = [...document.querySelectorAll('label')].find(l => l.innerText.startsWith(`+quoted(label)+`))
		const field = document.getElementById(label.htmlFor)
		field.focus()
		field.select()
		return true
	})()`)
	require.NoError(t, err)
	require.True(t, found)
	require.NoError(t, page.Keys(text))
}
