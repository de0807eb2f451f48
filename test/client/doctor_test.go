package client

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// The doctor stops at the first step that fails, and says what to do.
func TestTheDoctorStopsWhereItFails(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(80, 1000)).Layout(t)
	kit.Must(t, "push", layout, s.Address+"/berths/seatmap:1")
	kit.MakeAccount(t, s, "jun")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"jun","role":"reader"}`)
	kit.OwnClient(t)
	nobody := "127.0.0.1:1"
	page := httptest.NewServer(http.NotFoundHandler())
	defer page.Close()
	website := strings.TrimPrefix(page.URL, "http://")
	secure := kit.Start(t, t.TempDir(), "--certificates", kit.Certificate(t, t.TempDir(), "one.example", 1))
	private := kit.Start(t, t.TempDir(), "--private-authority")
	other := filepath.Join(kit.Start(t, t.TempDir(), "--private-authority").Data, "keys", "authority.pem")

	for _, c := range []struct {
		what string
		args []string
		code int
		step string
		says string
	}{
		{"a name that is none", []string{"nothing.invalid:7070"}, 5, "name", "Does this machine ask the right name server"},
		{"a port where nothing is", []string{nobody}, 5, "port", "Does the service run"},
		{"a website", []string{website}, 5, "API", "is no registry"},
		{"TLS that was not expected", []string{private.Address}, 5, "TLS", "trust " + private.Address},
		{"a certificate for another name", []string{"--ca", other, secure.Address}, 5, "TLS", `it is made out for one.example, and signed by "test"`},
		{"an authority that is not trusted", []string{"--ca", other, private.Address}, 5, "TLS", "trust " + private.Address},
		{"no TLS where it was expected", []string{strings.Replace(s.Address, "127.0.0.1", "0.0.0.0", 1)}, 5, "TLS", "does not speak TLS"},
		{"no login for what is closed", []string{s.Address + "/berths/seatmap:1"}, 5, "read", "not logged in to " + s.Address},
	} {
		r := kit.Run(t, append([]string{"doctor"}, c.args...)...)
		assert.Equal(t, c.code, r.Code, c.what)
		assert.Contains(t, r.Out, "✗ "+c.step, c.what)
		assert.Contains(t, r.Out, c.says, c.what)
		assert.Equal(t, 1, strings.Count(r.Out, "✗"), "%s: it stops there", c.what)
	}

	assert.Equal(t, 0, kit.Run(t, "doctor", "--ca", other, s.Address).Code, "on this machine either is spoken, whatever is trusted")

	// Logged in, one may read and not push; the entry that was used is named.
	require.Equal(t, 0, kit.RunWith(t, kit.MemberPassword, "login", s.Address, "--account", "jun", "--from-stdin").Code)
	r := kit.Run(t, "doctor", "--push", s.Address+"/berths/seatmap")
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "as jun, by the entry "+s.Address)
	assert.Contains(t, r.Out, "✓ read")
	assert.Contains(t, r.Out, "jun may not push to berths/seatmap")
	assert.Contains(t, kit.Must(t, "doctor", s.Address+"/berths/seatmap:1"), "is there: sha256:")
	r = kit.Run(t, "doctor", s.Address+"/berths/seatmap:2")
	assert.Equal(t, 5, r.Code)
	left, err := os.ReadDir(filepath.Join(s.Data, "incoming"))
	require.NoError(t, err)
	assert.Empty(t, left, "what was tried leaves nothing")
}

func TestTheDoctorLooksAtTheServicesOwnMachine(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	settings := func(text string) string {
		file := filepath.Join(folder, "warthesis.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	data := filepath.Join(folder, "not", "yet")
	r := kit.Run(t, "doctor", "--service", "--config", settings("data: "+data+"\nlisten: 127.0.0.1:0\n"))
	assert.Equal(t, 0, r.Code, r.Out)
	assert.Contains(t, r.Out, "is not there yet and can be made")
	assert.NoDirExists(t, data, "nothing is made by looking")

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	r = kit.Run(t, "doctor", "--service", "--config", settings(fmt.Sprintf("data: %s\nlisten: %s\n", data, taken.Addr())))
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "✗ port")

	require.NoError(t, os.WriteFile(filepath.Join(folder, "file"), nil, 0o600))
	r = kit.Run(t, "doctor", "--service", "--config", settings("data: "+filepath.Join(folder, "file")+"\nlisten: 127.0.0.1:0\n"))
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "✗ folder")

	r = kit.Run(t, "doctor", "--service", "--config", settings("data: "+data+"\nlisten: 127.0.0.1:0\ncertificates: "+kit.Certificate(t, folder, "one.example", 1)+"\n"))
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "renew it", "a certificate that ends within days is said")

	s := kit.Start(t, t.TempDir(), "--private-authority")
	r = kit.Run(t, "doctor", "--service", "--config", settings("data: "+s.Data+"\nlisten: "+s.Address+"\nprivate_authority: true\n"))
	assert.Equal(t, 0, r.Code, r.Out)
	assert.Contains(t, r.Out, "by the service that runs")
	assert.Contains(t, r.Out, fingerprintLine.FindString(s.Log()))
}
