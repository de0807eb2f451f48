package outward

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnswersAreBoundedAndNobodyIsFollowedElsewhere(t *testing.T) {
	hang := make(chan struct{})
	reached := false
	mux := http.NewServeMux()
	mux.HandleFunc("/long", func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, strings.Repeat("x", 5000)) })
	mux.HandleFunc("/hang", func(http.ResponseWriter, *http.Request) { <-hang })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/secret", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/secret", func(http.ResponseWriter, *http.Request) { reached = true })
	server := httptest.NewServer(mux)
	defer server.Close()
	defer close(hang)
	here := Reach{Inside: []Network{{Prefix: netip.MustParsePrefix("127.0.0.0/8")}}}
	// A slow machine takes its time to answer; only what hangs is given none.
	client := here.Client(time.Minute, 1000)

	answer, err := client.Get(server.URL + "/long")
	require.NoError(t, err)
	raw, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	assert.Len(t, raw, 1000)

	_, err = here.Client(200*time.Millisecond, 1000).Get(server.URL + "/hang")
	assert.Error(t, err)

	answer, err = client.Post(server.URL+"/moved", "text/plain", strings.NewReader("a secret"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusTemporaryRedirect, answer.StatusCode)
	assert.False(t, reached)
}

func TestOnlyPublicAddressesAndListedOnesAreReached(t *testing.T) {
	for address, reached := range map[string]bool{
		"8.8.8.8:443": true, "[2606:4700::1111]:443": true,
		"127.0.0.1:443": false, "[::1]:443": false, "10.1.2.3:443": false, "169.254.169.254:80": false, "100.64.0.1:80": false, "192.168.1.1:80": false, "0.0.0.0:80": false,
		"[::ffff:127.0.0.1]:80": false, "[64:ff9b::7f00:1]:80": false, "[fe80::1%eth0]:80": false, "[fd00::1]:80": false, "[2002:7f00:1::]:80": false,
	} {
		assert.Equal(t, reached, Reach{}.Check(netip.MustParseAddrPort(address)) == nil, address)
	}
	listed := func(networks ...string) (r Reach) {
		for _, s := range networks {
			n, err := ParseNetwork(s)
			require.NoError(t, err, s)
			assert.Equal(t, s, n.String())
			r.Inside = append(r.Inside, n)
		}
		return r
	}
	r := listed("10.20.0.0/16:443", "192.168.0.7/32", "[fd00::/8]:443")
	for address, reached := range map[string]bool{
		"10.20.3.4:443": true, "10.20.3.4:80": false, "10.21.3.4:443": false, "192.168.0.7:5000": true, "[::ffff:192.168.0.7]:5000": true, "[fd00::1]:443": true, "[fd00::1]:80": false,
	} {
		assert.Equal(t, reached, r.Check(netip.MustParseAddrPort(address)) == nil, address)
	}
	for _, s := range []string{"", "10.0.0.0/8:x", "10.0.0.0/8:0", "10.0.0.0/8:70000", "host.example", "[fd00::/8]:", "10.0.0/8"} {
		_, err := ParseNetwork(s)
		assert.Error(t, err, s)
	}

	// A name is checked by what it resolves to.
	server := httptest.NewServer(http.NotFoundHandler())
	defer server.Close()
	_, err := Reach{}.Dialer()(t.Context(), "tcp", strings.Replace(server.Listener.Addr().String(), "127.0.0.1", "localhost", 1))
	assert.ErrorContains(t, err, "inside_networks")
	conn, err := listed("127.0.0.0/8").Dialer()(t.Context(), "tcp", server.Listener.Addr().String())
	require.NoError(t, err)
	conn.Close()
}
