// Package config reads the service's settings: defaults, then one YAML file, then
// the environment, then flags, each over the one before. A key that nobody knows
// is an error wherever it stands, so that a typing mistake never runs as a default.
package config

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"warthesis/internal/given"
)

// Config is the settings of one service.
type Config struct {
	// Data is the folder that holds everything.
	Data string `yaml:"data"`
	// Listen is the address to serve on, host:port.
	Listen string `yaml:"listen"`
	// ListenUnencrypted allows to listen beyond this machine without TLS: whoever is
	// on the way then reads passwords and tokens. Behind a load balancer that ends
	// TLS it is needed.
	ListenUnencrypted bool `yaml:"listen_unencrypted"`
	// OutsideAddresses are those under which the registry is reached, such as
	// https://registry.larkspur.example, the one to be shown first.
	OutsideAddresses List `yaml:"outside_addresses"`
	// TrustedProxies are the addresses or networks of load balancers whose
	// forwarded headers count.
	TrustedProxies List `yaml:"trusted_proxies"`
	// Certificates are pairs of files, certificate:key, one pair for each host name
	// where that is wanted. They are read again when they change.
	Certificates List `yaml:"certificates"`
	// PrivateAuthority serves TLS by an own authority, made at the first start, for
	// the hosts of the outside addresses and of listen.
	PrivateAuthority bool `yaml:"private_authority"`
	// CompanyIssuer is the address of the company's OpenID Connect issuer.
	CompanyIssuer string `yaml:"company_issuer"`
	// CompanyName is what the button of the company's login says.
	CompanyName string `yaml:"company_name"`
	// CompanyClient is the registry's client ID at the issuer.
	CompanyClient string `yaml:"company_client"`
	// CompanySecretFile has the client's secret; empty for a public client.
	CompanySecretFile string `yaml:"company_secret_file"`
	// CompanyAccountClaim is the claim that names the account.
	CompanyAccountClaim string `yaml:"company_account_claim"`
	// CompanyGroupsClaim is the claim that lists the groups.
	CompanyGroupsClaim string `yaml:"company_groups_claim"`
	// AdminPassword is that of the first admin; it comes from the environment alone.
	AdminPassword string `yaml:"-"`
	// StopWithin is how long requests in flight may take to finish at a stop.
	StopWithin Duration `yaml:"stop_within"`
	// BodyIdle is how long a sender or a receiver may stall before it is cut.
	BodyIdle Duration `yaml:"body_idle"`
	// ManifestBytes is the largest manifest that is taken.
	ManifestBytes int64 `yaml:"manifest_bytes"`
	// BlobBytes is the largest blob that is taken.
	BlobBytes int64 `yaml:"blob_bytes"`
	// UploadsPerCaller is how many uploads one account or address may have open.
	UploadsPerCaller int64 `yaml:"uploads_per_caller"`
	// UploadIdle is how long an upload that nobody sends to is kept.
	UploadIdle Duration `yaml:"upload_idle"`
	// HeaderWithin is how long a request's headers may take to come.
	HeaderWithin Duration `yaml:"header_within"`
	// FreeBytes is the disk space that uploads leave free: 0 for the smaller of
	// 1 GiB and 2 %, below zero for none.
	FreeBytes int64 `yaml:"free_bytes"`
	// LogFormat is text or json.
	LogFormat string `yaml:"log_format"`
	// LogLevel is info, or debug to log every read as well.
	LogLevel string `yaml:"log_level"`
}

// Default returns the settings of a service that was told nothing.
func Default() Config {
	return Config{
		Data:          "warthesis-data",
		Listen:        "127.0.0.1:7070",
		StopWithin:    Duration(60 * time.Second),
		BodyIdle:      Duration(60 * time.Second),
		ManifestBytes: 4 << 20,
		BlobBytes:     256 << 30,

		UploadsPerCaller:    256,
		UploadIdle:          Duration(24 * time.Hour),
		HeaderWithin:        Duration(10 * time.Second),
		CompanyName:         "Company login",
		CompanyAccountClaim: "preferred_username",
		CompanyGroupsClaim:  "groups",
		LogFormat:           "text",
		LogLevel:            "info",
	}
}

// Duration is a span of time, written as 90s, 5m or 1h30m.
type Duration time.Duration

// UnmarshalYAML reads a duration, and says on which line one is wrong.
func (d *Duration) UnmarshalYAML(node ast.Node) error {
	if err := d.Set(strings.Trim(node.String(), `"'`)); err != nil {
		return fmt.Errorf("line %d: %w", node.GetToken().Position.Line, err)
	}
	return nil
}

// Set reads a duration; it makes the type a flag.
func (d *Duration) Set(s string) error {
	span, err := time.ParseDuration(s)
	if err != nil || span <= 0 {
		return fmt.Errorf("%q is not a span of time; write one such as 90s, 5m or 1h30m", s)
	}
	*d = Duration(span)
	return nil
}

// String writes the duration as it is read.
func (d *Duration) String() string { return time.Duration(*d).String() }

// Type names the kind of value to readers of the help.
func (d *Duration) Type() string { return "duration" }

// List is several values, written as a YAML list or as text with commas.
type List []string

// UnmarshalYAML reads a list, or one value.
func (l *List) UnmarshalYAML(read func(any) error) error {
	var several []string
	if read(&several) == nil {
		*l = several
		return nil
	}
	var one string
	if err := read(&one); err != nil {
		return err
	}
	return l.Set(one)
}

// Set reads a list from text; it makes the type a flag.
func (l *List) Set(s string) error {
	*l = nil
	for value := range strings.SplitSeq(s, ",") {
		if value = strings.TrimSpace(value); value != "" {
			*l = append(*l, value)
		}
	}
	return nil
}

// String writes the list as it is read.
func (l *List) String() string { return strings.Join(*l, ",") }

// Type names the kind of value to readers of the help.
func (l *List) Type() string { return "list" }

// ReadFile puts the settings of a YAML file over c. Errors name key and line.
func (c *Config) ReadFile(path string) error {
	raw, err := given.Read(path, fileLimit)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	if err := yaml.UnmarshalWithOptions(raw, c, yaml.Strict()); err != nil {
		return fmt.Errorf("the configuration %s is not right:\n%s", path, yaml.FormatError(err, false, true))
	}
	return nil
}

// fileLimit is the largest configuration file in bytes that is read.
const fileLimit = 1 << 20

const prefix = "WARTHESIS_"

// Variables of the same prefix that are no settings of the service.
const (
	// passwordKey is too secret for a file or a flag.
	passwordKey = "admin_password"
	// clientPrefix begins those of the client.
	clientPrefix = "client_"
)

// injected are the variables that clusters put into each container for a service
// called warthesis: where it is, and nothing that anybody has set.
var injected = regexp.MustCompile(`^(service_host|service_port(_.+)?|port|port_[0-9]+_(tcp|udp|sctp)(_(proto|port|addr))?)$`)

// ReadEnvironment puts WARTHESIS_… variables, given as "NAME=value", over c. A
// variable is named as the key in the file, in capitals.
func (c *Config) ReadEnvironment(environment []string) error {
	for _, entry := range environment {
		name, value, _ := strings.Cut(entry, "=")
		key, ours := strings.CutPrefix(name, prefix)
		if !ours {
			continue
		}
		switch key = strings.ToLower(key); {
		case strings.HasPrefix(key, clientPrefix), injected.MatchString(key):
			continue
		case key == passwordKey:
			c.AdminPassword = value
			continue
		}
		if err := c.Set(key, value); err != nil {
			return fmt.Errorf("the environment variable %s: %w", name, err)
		}
	}
	return nil
}

// Set puts one setting over c, by its key in the file.
func (c *Config) Set(key, value string) error {
	settings := c.settings()
	set, known := settings[key]
	if !known {
		return fmt.Errorf("there is no setting %s; there are %s", key, strings.Join(slices.Sorted(maps.Keys(settings)), ", "))
	}
	return set(value)
}

// settings returns how each setting is read from text.
func (c *Config) settings() map[string]func(string) error {
	text := func(target *string) func(string) error {
		return func(s string) error { *target = s; return nil }
	}
	number := func(target *int64) func(string) error {
		return func(s string) (err error) {
			if *target, err = strconv.ParseInt(s, 10, 64); err != nil {
				return fmt.Errorf("%q is not a whole number", s)
			}
			return nil
		}
	}
	truth := func(target *bool) func(string) error {
		return func(s string) (err error) {
			if *target, err = strconv.ParseBool(s); err != nil {
				return fmt.Errorf("%q is neither true nor false", s)
			}
			return nil
		}
	}
	return map[string]func(string) error{
		"data":                  text(&c.Data),
		"listen":                text(&c.Listen),
		"listen_unencrypted":    truth(&c.ListenUnencrypted),
		"outside_addresses":     c.OutsideAddresses.Set,
		"trusted_proxies":       c.TrustedProxies.Set,
		"certificates":          c.Certificates.Set,
		"private_authority":     truth(&c.PrivateAuthority),
		"company_issuer":        text(&c.CompanyIssuer),
		"company_name":          text(&c.CompanyName),
		"company_client":        text(&c.CompanyClient),
		"company_secret_file":   text(&c.CompanySecretFile),
		"company_account_claim": text(&c.CompanyAccountClaim),
		"company_groups_claim":  text(&c.CompanyGroupsClaim),
		"stop_within":           c.StopWithin.Set,
		"body_idle":             c.BodyIdle.Set,
		"header_within":         c.HeaderWithin.Set,
		"manifest_bytes":        number(&c.ManifestBytes),
		"blob_bytes":            number(&c.BlobBytes),
		"uploads_per_caller":    number(&c.UploadsPerCaller),
		"upload_idle":           c.UploadIdle.Set,
		"free_bytes":            number(&c.FreeBytes),
		"log_format":            text(&c.LogFormat),
		"log_level":             text(&c.LogLevel),
	}
}

// Check refuses settings that cannot be meant.
func (c *Config) Check() error {
	host, _, err := net.SplitHostPort(c.Listen)
	switch {
	case c.Data == "":
		return errors.New("data is empty: name the folder that holds the registry's content")
	case err != nil:
		return fmt.Errorf("listen is %q: write host:port, as in 127.0.0.1:7070", c.Listen)
	case !IsLoopback(host) && !c.TLS() && !c.ListenUnencrypted:
		return fmt.Errorf("listen is %q, which other machines reach, and there is no TLS: passwords and tokens would pass unencrypted. "+
			"Give certificates, or --private-authority for one of its own; behind a load balancer that ends TLS say --listen-unencrypted", c.Listen)
	case c.PrivateAuthority && len(c.Certificates) > 0:
		return errors.New("private_authority and certificates are both given: take one of them")
	case c.CompanyIssuer != "" && c.CompanyClient == "":
		return errors.New("company_issuer is given without company_client: name the registry's client ID at the issuer")
	case c.ManifestBytes < 1<<10 || c.ManifestBytes > 64<<20:
		return fmt.Errorf("manifest_bytes is %d: it must be between 1 KiB and 64 MiB", c.ManifestBytes)
	case c.BlobBytes < 1<<20:
		return fmt.Errorf("blob_bytes is %d: it must be at least 1 MiB", c.BlobBytes)
	case c.UploadsPerCaller < 1:
		return fmt.Errorf("uploads_per_caller is %d: it must be at least 1", c.UploadsPerCaller)
	case c.LogFormat != "text" && c.LogFormat != "json":
		return fmt.Errorf("log_format is %q: it is text or json", c.LogFormat)
	case c.LogLevel != "info" && c.LogLevel != "debug":
		return fmt.Errorf("log_level is %q: it is info or debug", c.LogLevel)
	}
	_, outside := c.Outside()
	_, trusted := c.Trusted()
	_, pairs := c.Pairs()
	return errors.Join(outside, trusted, pairs)
}

// TLS reports whether the service serves over TLS.
func (c *Config) TLS() bool { return c.PrivateAuthority || len(c.Certificates) > 0 }

// Outside returns the outside addresses.
func (c *Config) Outside() ([]*url.URL, error) {
	var all []*url.URL
	for _, s := range c.OutsideAddresses {
		u, err := url.Parse(s)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.User != nil {
			return nil, fmt.Errorf("outside_addresses has %q: write https://host or https://host:port, without a path", s)
		}
		all = append(all, &url.URL{Scheme: u.Scheme, Host: u.Host})
	}
	return all, nil
}

// Trusted returns the networks of the trusted proxies.
func (c *Config) Trusted() ([]netip.Prefix, error) {
	var all []netip.Prefix
	for _, s := range c.TrustedProxies {
		prefix, err := netip.ParsePrefix(s)
		if addr, single := netip.ParseAddr(s); single == nil {
			prefix, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("trusted_proxies has %q: write an address such as 10.0.0.7 or a network such as 10.0.0.0/24", s)
		}
		all = append(all, prefix)
	}
	return all, nil
}

// Pairs returns the files of the certificates, each with that of its key.
func (c *Config) Pairs() ([][2]string, error) {
	var all [][2]string
	for _, s := range c.Certificates {
		certificate, key, found := strings.Cut(s, ":")
		if !found || certificate == "" || key == "" {
			return nil, fmt.Errorf("certificates has %q: write the file of the certificate and that of its key, as in registry.pem:registry-key.pem", s)
		}
		all = append(all, [2]string{certificate, key})
	}
	return all, nil
}

// Hosts returns the host names and addresses that a certificate of the service is for.
func (c *Config) Hosts() []string {
	var hosts []string
	add := func(host string) {
		if host != "" && !slices.Contains(hosts, host) {
			hosts = append(hosts, host)
		}
	}
	// Check has refused addresses that cannot be read.
	outside, _ := c.Outside()
	for _, u := range outside {
		add(u.Hostname())
	}
	if host, _, err := net.SplitHostPort(c.Listen); err == nil {
		if ip := net.ParseIP(host); ip == nil || !ip.IsUnspecified() {
			add(host)
		}
	}
	for _, host := range []string{"localhost", "127.0.0.1", "::1"} {
		add(host)
	}
	return hosts
}

// IsLoopback reports whether a host, without a port, is this machine only.
func IsLoopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return ip != nil && ip.IsLoopback()
}
