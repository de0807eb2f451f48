package sweeps

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	_ "github.com/mattn/go-sqlite3" // the sums are counted past all rooms
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// recount compares the sums with what is recorded, and returns what namespaces hold.
func recount(t testing.TB, data string) map[string]int64 {
	db, err := sql.Open("sqlite3", filepath.Join(data, "warthesis.db")+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	held := map[string]int64{}
	for what, query := range map[string]string{
		"namespace": `SELECT n.name, n.held_bytes, (SELECT coalesce(sum(size), 0) FROM blobs WHERE content_id IN (SELECT content_id FROM holdings JOIN repositories AS r ON r.id = repository_id WHERE r.namespace_id = n.id)) FROM namespaces AS n`,
		"account":   `SELECT a.name, a.held_bytes, (SELECT coalesce(sum(size), 0) FROM blobs WHERE content_id IN (SELECT content_id FROM holdings WHERE held_by = a.id)) FROM accounts AS a`,
		"tags of":   `SELECT r.name, r.tag_count, (SELECT count(*) FROM tags WHERE repository_id = r.id AND removal_id = 0) FROM repositories AS r`,
		"live":      `SELECT n.name, n.blob_bytes, (SELECT coalesce(sum(size), 0) FROM blobs WHERE content_id IN (SELECT content_id FROM holdings JOIN repositories AS r ON r.id = repository_id WHERE r.namespace_id = n.id AND ended_at = 0)) FROM namespaces AS n`,
	} {
		rows, err := db.Query(query)
		require.NoError(t, err)
		for rows.Next() {
			var name string
			var sum, counted int64
			require.NoError(t, rows.Scan(&name, &sum, &counted))
			assert.Equal(t, counted, sum, "%s %s", what, name)
			held[what+" "+name] = counted
		}
		require.NoError(t, errors.Join(rows.Err(), rows.Close()))
	}
	return held
}

// Whatever sixteen do at once, and wherever the service is killed: the sums are those of a
// recount, and nobody gets past the bound.
func TestQuotasHoldBesideEverything(t *testing.T) {
	t.Parallel()
	s := short(t, t.TempDir())
	const quota = 1 << 20
	push(t, s, "berths/seatmap", "1", []byte("one"))
	push(t, s, "rolling/telemetry", "1", kit.Bytes(7, 40_000))
	kit.Must(t, "quota", "set", s.Address+"/berths", "1MiB", "--reason", "as agreed")
	for round := range 2 {
		var pushers sync.WaitGroup
		for p := range 16 {
			pushers.Go(func() {
				random := rand.New(rand.NewPCG(uint64(round), uint64(p)))
				for range 25 {
					wild(s, random)
				}
			})
		}
		if round == 0 {
			kit.Eventually(t, "much was pushed", func() bool { return strings.Count(s.Log(), "method=PUT") > 30 })
			s.Kill()
		}
		pushers.Wait()
		if round == 0 {
			s.Restart()
		}
		held := recount(t, s.Data)
		assert.LessOrEqual(t, held["namespace berths"], int64(quota), "round %d", round)
		assert.Greater(t, held["namespace berths"], int64(quota/3), "round %d", round)
		sweep(t, s)
	}
	recount(t, s.Data)
}

// An upload that announced much and broke off stands in nobody's way, and a sum that is wrong
// is set right, also where more is held than is allowed.
func TestReservationsAndSumsAreSetRight(t *testing.T) {
	t.Parallel()
	s := short(t, t.TempDir())
	push(t, s, "berths/seatmap", "1", []byte("one"))
	kit.Must(t, "quota", "set", s.Address+"/berths", "600KiB", "--reason", "as agreed")
	at := kit.StartUpload(t, s, "berths/seatmap")
	conn, err := net.Dial("tcp", s.Address)
	require.NoError(t, err)
	defer conn.Close()
	_, err = fmt.Fprintf(conn, "PATCH %s HTTP/1.1\r\nHost: x\r\nAuthorization: %s\r\nContent-Length: 500000\r\n\r\nhello", at, kit.AdminHeader)
	require.NoError(t, err)
	reserved := func(bytes int64) func() bool {
		return func() bool { return asked[api.Usage](t, s, http.MethodGet, "usage?place=berths", "").Reserved == bytes }
	}
	until(t, "what is announced is reserved", reserved(500_000))
	raw := kit.Bytes(9, 400_000)
	path := "/v2/berths/seatmap/blobs/uploads/?digest=" + oci.DigestOf(oci.SHA256, raw).String()
	assert.Equal(t, http.StatusForbidden, statusOf(s.Do(http.MethodPost, path, bytes.NewReader(raw))))
	require.NoError(t, conn.(*net.TCPConn).CloseWrite())
	until(t, "what did not come is reserved no more", reserved(int64(len("hello"))))
	assert.Equal(t, http.StatusCreated, statusOf(s.Do(http.MethodPost, path, bytes.NewReader(raw))))

	s.Stop()
	db, err := sql.Open("sqlite3", filepath.Join(s.Data, "warthesis.db"))
	require.NoError(t, err)
	_, err = db.Exec("UPDATE namespaces SET held_bytes = 1, quota = 1000 WHERE name = 'berths'")
	require.NoError(t, errors.Join(err, db.Close()))
	// Another program wrote to the records, which has to be said.
	s.RestartOnceWith("--accept-records")
	sweep(t, s)
	assert.Greater(t, recount(t, s.Data)["namespace berths"], int64(400_000))
	assert.Contains(t, kit.Must(t, "quota", "list", s.Address), "1000 B")
}

// wild does one of the things that change what is held; answers of a service that is killed
// do not count.
func wild(s *kit.Service, random *rand.Rand) {
	repository := fmt.Sprintf("berths/r%d", random.IntN(3))
	raw := kit.Bytes(uint64(random.IntN(300)), 5000+random.IntN(30_000))
	digest := oci.DigestOf(oci.SHA256, raw)
	do := func(method, path string, body []byte, headers ...string) *http.Response {
		answer, _, _ := s.Try(method, path, bytes.NewReader(body), headers...)
		return answer
	}
	switch random.IntN(8) {
	case 0:
		do(http.MethodPost, "/v2/"+repository+"/blobs/uploads/?mount="+oci.DigestOf(oci.SHA256, kit.Bytes(7, 40_000)).String()+"&from=rolling/telemetry", nil)
	case 1:
		do(http.MethodDelete, "/v2/"+repository+"/blobs/"+digest.String(), nil)
	case 2:
		do(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", 1+random.IntN(40)), []byte("{}"), "Content-Type", "application/json")
	case 3, 4:
		answer := do(http.MethodPost, "/v2/"+repository+"/blobs/uploads/", nil)
		if answer == nil || answer.StatusCode != http.StatusAccepted {
			return
		}
		at := answer.Header.Get("Location")
		do(http.MethodPatch, at, raw[:len(raw)/2])
		if random.IntN(3) > 0 {
			do(http.MethodPut, at+"?digest="+digest.String(), raw[len(raw)/2:])
		}
	default:
		do(http.MethodPost, "/v2/"+repository+"/blobs/uploads/?digest="+digest.String(), raw)
	}
}

// A full namespace refuses in the standard's form with the numbers, tells when it is nearly
// full, and has its way out.
func TestAFullNamespaceHasAWayOut(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--restore-window", "1h", "--sweep-at", "never", "--retention-at", "never")
	kit.MakeAccount(t, s, "marit")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"","account":"marit","role":"reader"}`)
	push(t, s, "timetable/planner", "1", kit.Bytes(1, 300_000))
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"timetable","account":"marit","role":"owner"}`)
	marit := kit.Basic("marit", kit.MemberPassword)
	kit.Must(t, "quota", "set", s.Address+"/timetable", "600KiB", "--reason", "as agreed")
	kit.Must(t, "quota", "set", s.Address+"/timetable/planner", "3", "--reason", "as agreed")
	push(t, s, "timetable/planner", "2", kit.Bytes(2, 200_000))

	answer, body := s.Do(http.MethodPut, "/v2/timetable/planner/manifests/2", bytes.NewReader(kit.NewImage(t, kit.Bytes(2, 200_000)).Raw), "Content-Type", oci.MediaTypeImage)
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	assert.Contains(t, answer.Header.Get("Warning"), "the namespace timetable uses 489 KiB of 600 KiB")
	until(t, "it is said once", func() bool {
		return strings.Count(kit.Must(t, "audit", s.Address, "--limit", "50"), "quota-nearly-full") == 1
	})
	big := kit.Bytes(3, 150_000)
	answer, body = s.Do(http.MethodPost, "/v2/timetable/planner/blobs/uploads/?digest="+oci.DigestOf(oci.SHA256, big).String(), bytes.NewReader(big))
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	assert.Contains(t, string(body), `"code":"DENIED"`)
	assert.Contains(t, string(body), "uses 489 KiB of 600 KiB that its quota allows; this would add 146 KiB")
	assert.Contains(t, string(body), `"quota":614400`)
	// One that does not say how long it is gets no further than the change that holds it.
	at := kit.StartUpload(t, s, "timetable/planner")
	answer, _ = s.Do(http.MethodPatch, at, struct{ *bytes.Reader }{bytes.NewReader(big)})
	if answer.StatusCode == http.StatusAccepted {
		answer, body = s.Do(http.MethodPut, at+"?digest="+oci.DigestOf(oci.SHA256, big).String(), nil)
	}
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", body)
	// What the namespace holds already adds nothing.
	kit.PutBlob(t, s, "timetable/board", kit.Bytes(1, 300_000))

	// The way out: remove, end the window early, sweep; an owner does it alone.
	kit.Must(t, "remove", s.Address+"/timetable/planner:1", "--yes")
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/repository?repository=timetable/board", "")
	var removals []int64
	for _, r := range asked[api.RemovalList](t, s, http.MethodGet, "removals?place=timetable", "").Removals {
		removals = append(removals, r.ID)
	}
	assert.Equal(t, http.StatusForbidden, statusOf(s.Do(http.MethodPost, "/v2/timetable/planner/blobs/uploads/?digest="+oci.DigestOf(oci.SHA256, big).String(), bytes.NewReader(big))))
	answer, body = s.Do(http.MethodPost, "/api/v1/removals/end", strings.NewReader(strings.ReplaceAll(fmt.Sprintf(`{"removals":%v,"reason":"it is full"}`, removals), " ", ",")), append(marit, "Content-Type", "application/json")...)
	require.Equal(t, http.StatusNoContent, answer.StatusCode, "%s", body)
	assert.Contains(t, kit.Run(t, "removal", "undo", s.Address, fmt.Sprint(removals[0])).Err, "is over")
	pass()
	answer, body = s.Do(http.MethodPost, "/api/v1/sweeps", strings.NewReader(`{"place":"timetable"}`), append(marit, "Content-Type", "application/json")...)
	require.Equal(t, http.StatusOK, answer.StatusCode, "%s", body)
	until(t, "there is room", func() bool {
		return statusOf(s.Do(http.MethodPost, "/v2/timetable/planner/blobs/uploads/?digest="+oci.DigestOf(oci.SHA256, big).String(), bytes.NewReader(big))) == http.StatusCreated
	})
	recount(t, s.Data)

	// Tags have a bound of their own; bringing back never is refused by one.
	for _, tag := range []string{"3", "4"} {
		push(t, s, "timetable/planner", tag, kit.Bytes(2, 200_000))
	}
	image := kit.NewImage(t, kit.Bytes(2, 200_000))
	answer, body = s.Do(http.MethodPut, "/v2/timetable/planner/manifests/5", bytes.NewReader(image.Raw), "Content-Type", oci.MediaTypeImage)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	assert.Contains(t, string(body), "has 3 of 3 tags that its quota allows")
	kit.Must(t, "tag", "remove", s.Address+"/timetable/planner:4", "--yes")
	kit.Must(t, "quota", "set", s.Address+"/timetable/planner", "2", "--reason", "less")
	kit.Must(t, "removal", "undo", s.Address, fmt.Sprint(asked[api.RemovalList](t, s, http.MethodGet, "removals?place=timetable/planner", "").Removals[0].ID))
	assert.Equal(t, int64(3), recount(t, s.Data)["tags of timetable/planner"])
}

func statusOf(answer *http.Response, _ []byte) int { return answer.StatusCode }
