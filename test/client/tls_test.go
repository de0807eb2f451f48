package client

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

var fingerprintLine = regexp.MustCompile(`(?:[0-9A-F]{2}:){31}[0-9A-F]{2}`)

func TestAPrivateAuthorityIsTrustedByItsFingerprint(t *testing.T) {
	s := kit.Start(t, t.TempDir(), "--private-authority")
	kit.OwnClient(t)
	fingerprint := fingerprintLine.FindString(s.Log())
	require.NotEmpty(t, fingerprint)
	layout := kit.NewImage(t, kit.Bytes(70, 1000)).Layout(t)

	r := kit.Run(t, "doctor", s.Address)
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "trust "+s.Address)
	r = kit.Run(t, "trust", s.Address)
	assert.Equal(t, 2, r.Code, "without a terminal and a fingerprint nothing is trusted")
	r = kit.Run(t, "trust", s.Address, "--fingerprint", strings.Repeat("00:", 31)+"00")
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, kit.Must(t, "trust", s.Address, "--fingerprint", fingerprint), "container engine")
	require.Equal(t, 0, kit.RunWith(t, kit.Password, "login", s.Address, "--account", kit.Admin, "--from-stdin").Code)
	kit.Must(t, "push", layout, s.Address+"/berths/seatmap:1")
	assert.Contains(t, kit.Must(t, "doctor", "--push", s.Address+"/berths/seatmap"), "may be pushed to")

	kit.Must(t, "trust", "--unverified", s.Address)
	r = kit.Run(t, "identify", s.Address+"/berths/seatmap:1")
	assert.Equal(t, 0, r.Code)
	assert.Contains(t, r.Err, "WARNING: the certificate of "+s.Address+" is not checked")

	authority := filepath.Join(s.Data, "keys", "authority.pem")
	kit.Must(t, "trust", "--verified", s.Address)
	kit.Must(t, "identify", "--ca", authority, s.Address+"/berths/seatmap:1")

	conn, err := tls.Dial("tcp", s.Address, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"h2"}})
	require.NoError(t, err)
	assert.Equal(t, "h2", conn.ConnectionState().NegotiatedProtocol)
	conn.Close()
	_, err = tls.Dial("tcp", s.Address, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11})
	assert.Error(t, err, "nothing below TLS 1.2")

	key, err := os.Stat(filepath.Join(s.Data, "keys", "authority-key.pem"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), key.Mode())
	s.Stop()
	s.Restart()
	assert.Equal(t, fingerprint, fingerprintLine.FindString(s.Log()), "the authority stays over a start")
}

// A connection that is not believed is told in one way by every command, with the one
// command that helps; where the registry sends a client to a place that nobody knows
// there, the message says which setting does that.
func TestEveryCommandSaysWhatIsWrongWithAConnectionInOneWay(t *testing.T) {
	t.Parallel()
	private := kit.Start(t, t.TempDir(), "--private-authority")
	company := kit.Start(t, t.TempDir(), "--certificates", kit.Certificate(t, t.TempDir(), "localhost", 1))
	other := kit.Start(t, t.TempDir(), "--certificates", kit.Certificate(t, t.TempDir(), "other.example", 1))
	away := kit.Start(t, t.TempDir(), "--outside-addresses", "http://nowhere.invalid:7070")
	for says, at := range map[string]string{
		"Trust it:  ": private.Address, "give it:  --ca FILE": strings.Replace(company.Address, "127.0.0.1", "localhost", 1), "made out for other.example": other.Address,
	} {
		for _, args := range [][]string{{"list", at}, {"identify", at + "/a/b:1"}, {"whoami", "https://" + at}, {"doctor", at}} {
			r := kit.Run(t, args...)
			assert.Contains(t, r.Out+r.Err, "the certificate of "+at+" is not trusted: it is ", "%v", args)
			assert.Contains(t, r.Out+r.Err, says, "%v", args)
			assert.Contains(t, []int{1, 5}, r.Code)
		}
	}
	r := kit.Run(t, "identify", away.Address+"/a/b:1")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "sends its clients on to nowhere.invalid:7070, as its setting outside_addresses says")
}

func TestCertificatesArePickedByNameAndReadAgainWithoutDroppingConnections(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	one, two := kit.Certificate(t, folder, "one.example", 1), kit.Certificate(t, folder, "two.example", 2)
	s := kit.Start(t, t.TempDir(), "--certificates", one+","+two)
	dial := func(name string) *tls.Conn {
		conn, err := tls.Dial("tcp", s.Address, &tls.Config{ServerName: name, InsecureSkipVerify: true})
		require.NoError(t, err)
		return conn
	}
	serial := func(conn *tls.Conn) int64 { return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64() }
	standing := dial("two.example")
	defer standing.Close()
	assert.Equal(t, int64(2), serial(standing))
	assert.Equal(t, int64(1), serial(dial("one.example")))
	assert.Equal(t, int64(1), serial(dial("")), "the first is for whoever names none")

	kit.Certificate(t, folder, "two.example", 3)
	kit.Eventually(t, "the new certificate is shown", func() bool { return serial(dial("two.example")) == 3 })
	fmt.Fprintf(standing, "GET /healthz/live HTTP/1.1\r\nHost: two.example\r\n\r\n")
	answer, err := http.ReadResponse(bufio.NewReader(standing), nil)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, answer.StatusCode, "a connection that stood goes on")

	require.NoError(t, os.WriteFile(filepath.Join(folder, "two.example.pem"), []byte("no certificate"), 0o600))
	kit.Eventually(t, "the log says what is wrong", func() bool {
		dial("two.example").Close()
		return strings.Contains(s.Log(), "the one before stays")
	})
	assert.Equal(t, int64(3), serial(dial("two.example")))
	r := kit.Run(t, "serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--certificates", "/nowhere.pem:/nowhere-key.pem")
	assert.Equal(t, 1, r.Code)
}

func TestTheOutsideAddressIsConfiguredAndForwardedHeadersCountFromTrustedProxiesAlone(t *testing.T) {
	t.Parallel()
	realm := func(s *kit.Service, headers ...string) string {
		answer, _ := s.Do(http.MethodGet, "/v2/", nil, append([]string{"Authorization", ""}, headers...)...)
		return answer.Header.Get("WWW-Authenticate")
	}
	forwarded := []string{"X-Forwarded-Proto", "https", "X-Forwarded-Host", "registry.larkspur.example", "X-Forwarded-For", "192.0.2.7"}
	plain := kit.Start(t, t.TempDir())
	assert.Contains(t, realm(plain, forwarded...), `realm="`+plain.URL("/api/token")+`"`, "nobody is trusted")

	trusting := kit.Start(t, t.TempDir(), "--trusted-proxies", "127.0.0.0/8")
	assert.Contains(t, realm(trusting, forwarded...), `realm="https://registry.larkspur.example/api/token",service="registry.larkspur.example"`)
	trusting.Do(http.MethodGet, "/v2/a/tags/list", nil, append(forwarded, "Authorization", "Basic YTpi")...)
	kit.Eventually(t, "the audit log has the address that the proxy says", func() bool {
		_, raw := trusting.Do(http.MethodGet, "/api/v1/audit?verdict=refused", nil)
		return strings.Contains(string(raw), `"address":"192.0.2.7"`)
	})

	outside := kit.Start(t, t.TempDir(), "--outside-addresses", "https://registry.larkspur.example,https://10.1.2.3:7070")
	assert.Contains(t, realm(outside), `realm="https://registry.larkspur.example/api/token"`, "the first where a request came by none")
	_, raw := outside.Do(http.MethodGet, "/api/v1/service", nil)
	assert.Contains(t, string(raw), `"address":"registry.larkspur.example"`)
}
