package config

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestListsComeFromFilesAndFromText(t *testing.T) {
	file := filepath.Join(t.TempDir(), "warthesis.yaml")
	require.NoError(t, os.WriteFile(file, []byte("outside_addresses: [https://registry.larkspur.example, 'https://10.1.2.3:7070']\ntrusted_proxies: 10.0.0.7\n"), 0o600))
	c := Default()
	require.NoError(t, c.ReadFile(file))
	require.NoError(t, c.ReadEnvironment([]string{"WARTHESIS_TRUSTED_PROXIES=10.0.0.0/24, ::1", "WARTHESIS_CLIENT_FOLDER=/x", "WARTHESIS_ADMIN_PASSWORD=s", "HOME=/x"}))
	require.NoError(t, c.Check())
	assert.Equal(t, "s", c.AdminPassword)
	require.NoError(t, c.ReadEnvironment([]string{
		"WARTHESIS_SERVICE_HOST=10.0.0.1", "WARTHESIS_SERVICE_PORT=7070", "WARTHESIS_SERVICE_PORT_HTTPS=7070", "WARTHESIS_PORT=tcp://10.0.0.1:7070",
		"WARTHESIS_PORT_7070_TCP=tcp://10.0.0.1:7070", "WARTHESIS_PORT_7070_TCP_PROTO=tcp", "WARTHESIS_PORT_7070_TCP_ADDR=10.0.0.1", "WARTHESIS_PORT_7070_TCP_PORT=7070",
	}), "what a cluster puts into every container for a service of that name")
	assert.ErrorContains(t, c.ReadEnvironment([]string{"WARTHESIS_PORTS=7070"}), "WARTHESIS_PORTS")
	trusted, err := c.Trusted()
	require.NoError(t, err)
	require.Len(t, trusted, 2)
	assert.Equal(t, "10.0.0.0/24", trusted[0].String())
	assert.Equal(t, "::1/128", trusted[1].String())
	assert.Equal(t, []string{"registry.larkspur.example", "10.1.2.3", "127.0.0.1", "localhost", "::1"}, c.Hosts(), "what a certificate is for")
	assert.Error(t, c.Set("admin_password", "s"), "a password is no setting of a file or a flag")
}

func TestSettingsThatCannotBeMeantAreRefusedByName(t *testing.T) {
	for says, change := range map[string]func(*Config){
		"passwords and tokens would pass unencrypted": func(c *Config) { c.Listen = "0.0.0.0:7070" },
		"listen is":                             func(c *Config) { c.Listen = "7070" },
		"data is empty":                         func(c *Config) { c.Data = "" },
		"outside_addresses has \"registry\"":    func(c *Config) { c.OutsideAddresses = List{"registry"} },
		"outside_addresses has \"https://r/x\"": func(c *Config) { c.OutsideAddresses = List{"https://r/x"} },
		"trusted_proxies has \"everybody\"":     func(c *Config) { c.TrustedProxies = List{"everybody"} },
		"certificates has \"a.pem\"":            func(c *Config) { c.Certificates = List{"a.pem"} },
		"take one of them": func(c *Config) {
			c.Certificates, c.PrivateAuthority = List{"a.pem:b.pem"}, true
		},
		"without company_client": func(c *Config) { c.CompanyIssuer = "https://login.larkspur.example" },
		"manifest_bytes is":      func(c *Config) { c.ManifestBytes = 1 },
		"log_level is":           func(c *Config) { c.LogLevel = "loud" },
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
