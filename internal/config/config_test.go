package config

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// laid lays a file with this content, and what else is given, over the defaults.
func laid(t *testing.T, content string, environment []string, flags ...[2]string) (Config, error) {
	file := filepath.Join(t.TempDir(), "warthesis.yaml")
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	c := Default()
	return c, c.Lay(file, environment, flags)
}

func TestSettingsAreLaidOverEachOther(t *testing.T) {
	c, err := laid(t, "outside_addresses: [https://registry.larkspur.example, 'https://10.1.2.3:7070']\ntrusted_proxies: 10.0.0.7\nbody_idle: 90s\nupload_idle: 2d\n",
		[]string{"WARTHESIS_TRUSTED_PROXIES=10.0.0.0/24, ::1", "WARTHESIS_BODY_IDLE=2m", "WARTHESIS_CLIENT_FOLDER=/x", "WARTHESIS_ADMIN_PASSWORD=s", "HOME=/x",
			// What a cluster puts into every container for a service of that name.
			"WARTHESIS_SERVICE_HOST=10.0.0.1", "WARTHESIS_SERVICE_PORT=7070", "WARTHESIS_SERVICE_PORT_HTTPS=7070", "WARTHESIS_PORT=tcp://10.0.0.1:7070",
			"WARTHESIS_PORT_7070_TCP=tcp://10.0.0.1:7070", "WARTHESIS_PORT_7070_TCP_PROTO=tcp", "WARTHESIS_PORT_7070_TCP_ADDR=10.0.0.1", "WARTHESIS_PORT_7070_TCP_PORT=7070",
		}, [2]string{"body_idle", "3m"})
	require.NoError(t, err)
	assert.Equal(t, "s", c.AdminPassword)
	assert.Equal(t, "3m", c.BodyIdle.String())
	assert.Equal(t, "48h", c.UploadIdle.String())
	trusted, err := c.Trusted()
	require.NoError(t, err)
	require.Len(t, trusted, 2)
	assert.Equal(t, "10.0.0.0/24", trusted[0].String())
	assert.Equal(t, "::1/128", trusted[1].String())
	assert.Equal(t, []string{"registry.larkspur.example", "10.1.2.3", "127.0.0.1", "localhost", "::1"}, c.Hosts(), "what a certificate is for")

	for _, empty := range []string{"", "\n", "# nothing is set\n", "---\n", "---\n# nothing\n"} {
		c, err := laid(t, empty, nil)
		require.NoError(t, err, "%q", empty)
		assert.Equal(t, Default(), c, "a file without settings leaves the defaults: %q", empty)
	}
}

// All that is wrong is said at once, each with its place, and in our own words.
func TestAllThatIsWrongIsSaidAtOnceWithItsPlace(t *testing.T) {
	_, err := laid(t, "# one\nmanifest_bytes: many\nlisten: [a, b]\nbody_idle: {x: 1}\nprivate_authority: maybe\nlissten: x\ndata:\nlog_level: info\nlog_level: debug\n",
		[]string{"WARTHESIS_PORTS=7070", "WARTHESIS_UPLOAD_IDLE=soon"}, [2]string{"blob_bytes", "1.5"}, [2]string{"admin_password", "s"})
	for _, says := range []string{
		`warthesis.yaml, line 2: manifest_bytes: "many" is not a whole number`,
		"warthesis.yaml, line 3: listen takes one value, and no list",
		"warthesis.yaml, line 4: body_idle has no value that can be read",
		`warthesis.yaml, line 5: private_authority: "maybe" is neither true nor false`,
		"warthesis.yaml, line 6: there is no setting lissten; there are blob_bytes,",
		"warthesis.yaml, line 7: data has no value that can be read",
		"warthesis.yaml, line 9: log_level stands here a second time",
		"the environment variable WARTHESIS_PORTS: there is no setting ports",
		`the environment variable WARTHESIS_UPLOAD_IDLE: upload_idle: "soon" is not a span of time`,
		`--blob-bytes: blob_bytes: "1.5" is not a whole number`,
		"--admin-password: there is no setting admin_password",
	} {
		assert.ErrorContains(t, err, says)
	}
	_, err = laid(t, "free_bytes: -1\nmanifest_bytes: 1\n", []string{"WARTHESIS_LOG_LEVEL=loud"}, [2]string{"listen", "7070"})
	for _, says := range []string{"line 1: free_bytes is -1", "line 2: manifest_bytes is 1", "WARTHESIS_LOG_LEVEL: log_level is", "--listen: listen is"} {
		assert.ErrorContains(t, err, says)
	}
	for _, file := range []string{"- a\n", "just text\n", "a: b: c\n", "data: x\n---\ndata: y\n"} {
		_, err := laid(t, file, nil)
		assert.ErrorContains(t, err, "warthesis.yaml", "%q", file)
	}
}

func TestSettingsThatCannotBeMeantAreRefusedByName(t *testing.T) {
	for says, change := range map[string]func(*Config){
		"passwords and tokens would pass unencrypted": func(c *Config) { c.Listen = "0.0.0.0:7070" },
		"data is empty":                         func(c *Config) { c.Data = "" },
		"outside_addresses has \"registry\"":    func(c *Config) { c.OutsideAddresses = List{"registry"} },
		"outside_addresses has \"https://r/x\"": func(c *Config) { c.OutsideAddresses = List{"https://r/x"} },
		"trusted_proxies has \"everybody\"":     func(c *Config) { c.TrustedProxies = List{"everybody"} },
		"certificates has \"a.pem\"":            func(c *Config) { c.Certificates = List{"a.pem"} },
		"take one of them": func(c *Config) {
			c.Certificates, c.PrivateAuthority = List{"a.pem:b.pem"}, true
		},
		"without company_client":        func(c *Config) { c.CompanyIssuer = "https://login.larkspur.example" },
		"a trial is for this machine":   func(c *Config) { c.Trial, c.PrivateAuthority = true, true },
		"listens on this machine alone": func(c *Config) { c.Trial, c.Listen, c.ListenUnencrypted = true, ":7070", true },
	} {
		c := Default()
		change(&c)
		assert.ErrorContains(t, c.Check(), says)
	}
	for _, change := range []func(*Config){
		func(c *Config) { c.ListenUnencrypted = true },
		func(c *Config) { c.PrivateAuthority = true },
		func(c *Config) { c.Certificates = List{"a.pem:b.pem"} },
	} {
		c := Default()
		c.Listen = "0.0.0.0:7070"
		change(&c)
		assert.NoError(t, c.Check())
	}
}
