// Package flow tests what travels between registries.
package flow

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
)

// inside lets a service reach peers on this machine.
var inside = []string{"--inside-networks", "127.0.0.0/8"}

func TestAPeerIsKeptOnceItsTestPasses(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), inside...)
	depot := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(1, 3000))
	kit.Must(t, "push", image.Layout(t), depot.Address+"/timetable/planner:2.4.1")
	kit.MakeAccount(t, depot, "depot-hq")
	kit.AsAdmin(t, depot, http.MethodPut, "/api/v1/roles", `{"place":"timetable","account":"depot-hq","role":"curator"}`)

	wrong := kit.RunWith(t, "a wrong password\n", "peer", "make", s.Address, "depot", depot.Address, "--account", "depot-hq", "--from-stdin", "--plain-http")
	assert.Equal(t, 5, wrong.Code)
	assert.Contains(t, wrong.Out, "✓ API")
	assert.Contains(t, wrong.Out, "✗ login")
	assert.Contains(t, wrong.Err, "It is not kept")
	assert.Contains(t, kit.Must(t, "peer", "list", s.Address), "has no peers")

	made := kit.RunWith(t, kit.MemberPassword+"\n", "peer", "make", s.Address, "depot", depot.Address, "--account", "depot-hq", "--from-stdin", "--plain-http", "--repository", "timetable/planner", "--push")
	require.Zero(t, made.Code, made.Out+made.Err)
	for _, step := range []string{"name", "port", "TLS", "API", "login", "read", "push", "more"} {
		assert.Contains(t, made.Out, "✓ "+step)
	}
	shown := kit.Must(t, "peer", "show", s.Address, "depot")
	for _, says := range []string{"a registry of ours", "lists its repositories", "removes tags alone", "takes blobs in pieces", "plain HTTP is spoken", "depot-hq"} {
		assert.Contains(t, shown, says)
	}
	assert.Equal(t, "timetable/planner\n", kit.Must(t, "peer", "look", s.Address, "depot"))
	assert.Equal(t, "2.4.1\n", kit.Must(t, "peer", "look", s.Address, "depot", "timetable/planner"))
	assert.Contains(t, kit.Must(t, "peer", "look", s.Address, "depot", "timetable/planner:2.4.1"), image.Manifest.Digest.String())
	var looked api.Image
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "peer", "look", s.Address, "depot", "timetable/planner:2.4.1", "--output", "json")), &looked))
	assert.Equal(t, string(image.Raw), looked.Raw)
	assert.Equal(t, "step 0", looked.Platforms[0].Layers[0].Step)

	kit.Must(t, "peer", "tag", "add", s.Address, "depot", "timetable/planner:2.4.1", "stable")
	kit.Must(t, "peer", "tag", "rename", s.Address, "depot", "timetable/planner:stable", "proven")
	assert.Equal(t, "2.4.1\nproven\n", kit.Must(t, "peer", "look", s.Address, "depot", "timetable/planner"))
	other := "sha256:" + strings.Repeat("0", 64)
	moved := kit.Run(t, "peer", "tag", "remove", s.Address, "depot", "timetable/planner:proven", "--is", other, "--yes")
	assert.NotZero(t, moved.Code)
	kit.Must(t, "peer", "tag", "remove", s.Address, "depot", "timetable/planner:proven", "--yes")
	assert.Equal(t, 4, kit.Run(t, "peer", "look", s.Address, "depot", "timetable/planner:proven").Code)
	assert.Contains(t, kit.Must(t, "audit", s.Address, "--limit", "4"), "proven of timetable/planner was removed")

	// Its secret is nowhere to be read, and goes nowhere else than it was meant for.
	for _, out := range []string{shown, kit.Must(t, "peer", "show", s.Address, "depot", "--output", "json"), kit.Must(t, "audit", s.Address), s.Log()} {
		assert.NotContains(t, out, kit.MemberPassword)
	}
	s.Stop()
	require.NoError(t, filepath.WalkDir(s.Data, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		assert.NotContains(t, string(raw), kit.MemberPassword, path)
		return err
	}))
	s.Restart()
	thief := kit.StartForeign(t, nil)
	taken := kit.Run(t, "peer", "change", s.Address, "depot", "--address", thief.Address, "--failing")
	assert.Equal(t, 2, taken.Code)
	assert.Contains(t, taken.Err, "give its secret")
	assert.Empty(t, thief.Asked())

	// A role that is taken away there shows in the next test.
	kit.AsAdmin(t, depot, http.MethodDelete, "/api/v1/roles?place=timetable&account=depot-hq", "")
	again := kit.Run(t, "peer", "test", s.Address, "depot", "--repository", "timetable/planner", "--push")
	assert.Equal(t, 5, again.Code)
	assert.Contains(t, again.Err, `stopped at the step "push"`)
	assert.Contains(t, kit.Must(t, "peer", "list", s.Address), "stopped at the step push")
	kit.Must(t, "peer", "remove", s.Address, "depot", "--yes")
	assert.Equal(t, 4, kit.Run(t, "peer", "show", s.Address, "depot").Code)
}

// What a peer does wrong is found out by its test, and an address inside is reached only
// where that is said.
func TestAPeerIsReachedAsWasSaidAndNotOtherwise(t *testing.T) {
	t.Parallel()
	certificate := kit.Certificate(t, t.TempDir(), "localhost", 1)
	pair := certificatePair(t, certificate)
	client := kit.Certificate(t, t.TempDir(), "hq", 2)
	f := kit.StartForeign(t, &tls.Config{Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert})
	f.Put("tickets/printer", "1.0", kit.NewImage(t, kit.Bytes(3, 500)))
	address := strings.Replace(f.Address, "127.0.0.1", "localhost", 1)

	closed := kit.Start(t, t.TempDir())
	refused := kit.Run(t, "peer", "make", closed.Address, "partner", address, "--try")
	assert.Equal(t, 5, refused.Code)
	assert.Contains(t, refused.Out, "✗ port")
	assert.Contains(t, refused.Out, "inside_networks")
	assert.Empty(t, f.Asked(), "nothing is sent")

	s := kit.Start(t, t.TempDir(), inside...)
	try := func(args ...string) string {
		r := kit.Run(t, append([]string{"peer", "make", s.Address, "partner", address, "--repository", "tickets/printer", "--try"}, args...)...)
		return r.Out + r.Err
	}
	assert.Contains(t, try(), "an authority that this machine does not know. Give the peer that authority's certificate")
	assert.Contains(t, try("--authority", strings.Split(certificate, ":")[0]), "✓ read")
	sum := sha256.Sum256(pair.Certificate[0])
	assert.Contains(t, try("--fingerprint", fmt.Sprintf("%X", sum)), "believed by its fingerprint alone")
	sum[0] ^= 1
	assert.Contains(t, try("--fingerprint", fmt.Sprintf("%x", sum)), "another one is believed")
	assert.Contains(t, try("--plain-http"), "answers 400")
	assert.Contains(t, try("--fingerprint", "abc"), "is no fingerprint")

	// It asks for a certificate of ours.
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if len(r.TLS.PeerCertificates) > 0 {
			return false
		}
		w.WriteHeader(http.StatusForbidden)
		return true
	})
	both := []string{"--authority", strings.Split(certificate, ":")[0], "--shown-certificate", strings.Split(client, ":")[0], "--shown-key", strings.Split(client, ":")[1]}
	assert.Contains(t, try("--authority", strings.Split(certificate, ":")[0]), "✗ API")
	assert.Contains(t, try(both...), "✓ read")
	assert.Contains(t, try(both[:4]...), "come together")
	doctor := []string{"doctor", address + "/tickets/printer", "--ca", strings.Split(certificate, ":")[0]}
	assert.Equal(t, 5, kit.Run(t, doctor...).Code)
	assert.Contains(t, kit.Must(t, append(doctor, "--client-certificate", both[3], "--client-key", both[5])...), "✓ read")

	f.Wrong(nil)
	f.LogIn("hq", "secret")
	assert.Contains(t, try(both[:2]...), "give the peer partner an account and its secret")
	require.Zero(t, kit.RunWith(t, "secret", append([]string{"peer", "make", s.Address, "partner", address, "--account", "hq", "--from-stdin", "--push", "--repository", "tickets/printer"}, both[:2]...)...).Code)
	shown := kit.Must(t, "peer", "show", s.Address, "partner")
	assert.NotContains(t, shown, "of ours")
	assert.Contains(t, shown, "removes tags alone")
	assert.Equal(t, 1, kit.Run(t, "peer", "look", s.Address, "partner").Code, "it lists no repositories")
	assert.Equal(t, "1.0\n", kit.Must(t, "peer", "look", s.Address, "partner", "tickets/printer"))

	// Nobody but an admin sees or uses it.
	kit.MakeAccount(t, s, "jun")
	for _, call := range [][3]string{
		{http.MethodGet, "peers"}, {http.MethodGet, "peers/partner"}, {http.MethodPost, "peers/partner/test", "{}"}, {http.MethodGet, "peers/partner/repositories"},
		{http.MethodGet, "peers/nothing"}, {http.MethodPost, "peers", `{"name":"x","address":"` + address + `"}`}, {http.MethodDelete, "peers/partner"},
		{http.MethodPost, "peers/partner/tags?repository=tickets/printer", `{"tag":"1.0"}`}, {http.MethodPatch, "peers/partner", `{}`},
	} {
		answer, body := s.Do(call[0], "/api/v1/"+call[1], strings.NewReader(call[2]), append(kit.Basic("jun", kit.MemberPassword), "Content-Type", "application/json")...)
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s %s: %s", call[0], call[1], body)
		assert.NotContains(t, string(body), address)
	}
}

// certificatePair reads what kit.Certificate wrote.
func certificatePair(t *testing.T, files string) tls.Certificate {
	certificate, key, _ := strings.Cut(files, ":")
	pair, err := tls.LoadX509KeyPair(certificate, key)
	require.NoError(t, err)
	return pair
}

// Who is believed by the fingerprint of an authority is believed under its own name alone,
// also where it has an address instead of one; a certificate that is shown is a login too.
func TestAnAuthoritysFingerprintBelievesNoOtherHost(t *testing.T) {
	t.Parallel()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	span := func(c *x509.Certificate) *x509.Certificate {
		c.NotBefore, c.NotAfter = time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
		return c
	}
	authority := span(&x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "authority"}, IsCA: true, BasicConstraintsValid: true})
	root, err := x509.CreateCertificate(rand.Reader, authority, authority, key.Public(), key)
	require.NoError(t, err)
	serve := func(c *x509.Certificate) *kit.Foreign {
		leaf, err := x509.CreateCertificate(rand.Reader, span(c), authority, key.Public(), key)
		require.NoError(t, err)
		f := kit.StartForeign(t, &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf, root}, PrivateKey: key}}, ClientAuth: tls.RequestClientCert})
		f.Put("printer", "1.0", kit.NewImage(t, kit.Bytes(3, 500)))
		return f
	}
	right := serve(&x509.Certificate{SerialNumber: big.NewInt(2), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}})
	other := serve(&x509.Certificate{SerialNumber: big.NewInt(3), DNSNames: []string{"other.larkspur.example"}})
	s := kit.Start(t, t.TempDir(), inside...)
	pinned := fmt.Sprintf("%x", sha256.Sum256(root))
	try := func(f *kit.Foreign, more ...string) kit.Result {
		return kit.Run(t, append([]string{"peer", "make", s.Address, "partner", f.Address, "--repository", "printer", "--fingerprint", pinned}, more...)...)
	}
	refused := try(other, "--try")
	assert.Equal(t, 5, refused.Code)
	assert.Contains(t, refused.Out, "it is made out for other.larkspur.example")
	client := strings.Split(kit.Certificate(t, t.TempDir(), "hq", 4), ":")
	require.Zero(t, try(right, "--shown-certificate", client[0], "--shown-key", client[1]).Code)

	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"outside","open":true}`)
	kit.Must(t, "follow", "set", s.Address+"/outside", "partner", "--fresh-for", "1s")
	kit.Must(t, "identify", s.Address+"/outside/printer:1.0")
	right.Put("printer", "2.0", kit.NewImage(t, kit.Bytes(4, 500)))
	right.Asked()
	answer, _ := s.Do(http.MethodGet, "/v2/outside/printer/manifests/2.0", nil, "Authorization", "")
	assert.NotEqual(t, http.StatusOK, answer.StatusCode)
	assert.Empty(t, right.Asked(), "nobody without a login asks by a certificate of ours")
}

// Owners of a namespace that uses a peer look into it, at what they use and no more, with the
// login that the registry has there; nobody else does. Changing tags there takes a right that an
// admin gave by name.
func TestOwnersLookIntoThePeersThatTheirNamespaceUses(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), inside...)
	f := kit.StartForeign(t, nil)
	image := imageOf(t, 1)
	f.Put("tickets/printer", "1", image)
	f.Put("tickets/printer", "night", image)
	f.Put("tickets/ledger", "1", image)
	f.Put("secret/plans", "1", image)
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--repository", "tickets/printer")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"outside"}`)
	kit.Must(t, "follow", "set", s.Address+"/outside", "partner/tickets", "--only", "outside/printer:<version>,outside/printer:1")
	for _, role := range []string{"owner", "writer"} {
		kit.MakeAccount(t, s, role)
		kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", fmt.Sprintf(`{"place":"outside","account":%q,"role":%q}`, role, role))
	}
	ask := func(who, method, path, body string) (int, string) {
		answer, raw := s.Do(method, "/api/v1/peers/partner"+path, strings.NewReader(body), append(kit.Basic(who, kit.MemberPassword), "Content-Type", "application/json")...)
		return answer.StatusCode, string(raw)
	}
	status, body := ask("owner", http.MethodGet, "/tags?repository=tickets/printer", "")
	assert.Equal(t, http.StatusOK, status, body)
	assert.Contains(t, body, `["1"]`, "and not night, which the patterns leave out")
	status, body = ask("owner", http.MethodGet, "", "")
	assert.Equal(t, http.StatusOK, status, body)
	assert.NotContains(t, body, "follows it")
	status, body = ask("owner", http.MethodGet, "/repositories", "")
	if status == http.StatusOK {
		assert.NotContains(t, body, "ledger")
		assert.NotContains(t, body, "plans")
	}
	for _, path := range []string{"/tags?repository=secret/plans", "/tags?repository=tickets/ledger", "/tags?repository=tickets", "/image?repository=tickets/ledger&reference=1", "/image?repository=tickets/printer&reference=night"} {
		status, body = ask("owner", http.MethodGet, path, "")
		assert.Equal(t, http.StatusForbidden, status, "%s: %s", path, body)
		assert.Contains(t, body, "no namespace of yours uses", path)
	}
	const change = `{"tag":"1.0.0","to":"1"}`
	status, body = ask("owner", http.MethodPost, "/tags?repository=tickets/printer", change)
	assert.Equal(t, http.StatusForbidden, status, body)
	assert.Contains(t, body, "--tag-accounts")
	kit.Must(t, "peer", "change", s.Address, "partner", "--tag-accounts", "owner", "--repository", "tickets/printer")
	assert.Contains(t, kit.Must(t, "peer", "show", s.Address, "partner", "--output", "json"), `"owner"`)
	status, body = ask("owner", http.MethodPost, "/tags?repository=tickets/printer", change)
	assert.Equal(t, http.StatusNoContent, status, body)
	assert.Equal(t, image.Manifest.Digest, f.Tag("tickets/printer", "1.0.0"))
	for _, refused := range [][2]string{{"tickets/printer", `{"tag":"night"}`}, {"tickets/printer", `{"tag":"2.0.0","to":"night"}`}, {"tickets/ledger", `{"tag":"1"}`}, {"secret/plans", `{"tag":"1"}`}} {
		status, body = ask("owner", http.MethodPost, "/tags?repository="+refused[0], refused[1])
		assert.Equal(t, http.StatusForbidden, status, "%s: %s", refused, body)
	}
	// The right is the account's, and not that of a narrow token.
	var token struct{ Secret string }
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tokens", `{"account":"owner","name":"t","days":1,"scopes":[{"pattern":"outside/*","actions":["pull","push","delete","manage"]}]}`), &token))
	answer, _ := s.Do(http.MethodPost, "/api/v1/peers/partner/tags?repository=tickets/printer", strings.NewReader(change), append(kit.Bearer(token.Secret), "Content-Type", "application/json")...)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	kit.Must(t, "peer", "change", s.Address, "partner", "--tag-accounts", "", "--repository", "tickets/printer")
	status, body = ask("owner", http.MethodPost, "/tags?repository=tickets/printer", change)
	assert.Equal(t, http.StatusForbidden, status, body)
	for _, path := range []string{"/tags?repository=tickets/printer", "/image?repository=tickets/printer&reference=1", ""} {
		status, body = ask("writer", http.MethodGet, path, "")
		assert.Equal(t, http.StatusForbidden, status, body)
	}
}
