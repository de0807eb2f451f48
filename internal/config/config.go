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
	"slices"
	"strconv"
	"strings"
	"time"
)

// Config is the settings of one service.
type Config struct {
	// Data is the folder that holds everything.
	Data string
	// Listen is the address to serve on, host:port.
	Listen string
	// ListenUnencrypted allows to listen beyond this machine without TLS: whoever is
	// on the way then reads passwords and tokens. Behind a load balancer that ends
	// TLS it is needed.
	ListenUnencrypted bool
	// OutsideAddresses are those under which the registry is reached, such as
	// https://registry.larkspur.example, the one to be shown first.
	OutsideAddresses List
	// TrustedProxies are the addresses or networks of load balancers whose
	// forwarded headers count.
	TrustedProxies List
	// InsideNetworks are networks that are not public and that the service may connect to
	// all the same, where a peer stands in one. OutwardProxy lets such connections go through
	// the proxy of the environment.
	InsideNetworks List
	OutwardProxy   bool
	// Certificates are pairs of files, certificate:key, one pair for each host name
	// where that is wanted. They are read again when they change.
	Certificates List
	// PrivateAuthority serves TLS by an own authority, made at the first start, for
	// the hosts of the outside addresses and of listen.
	PrivateAuthority bool
	// CompanyIssuer is the address of the company's OpenID Connect issuer.
	CompanyIssuer string
	// CompanyName is what the button of the company's login says.
	CompanyName string
	// CompanyClient is the registry's client ID at the issuer.
	CompanyClient string
	// CompanySecretFile has the client's secret; empty for a public client.
	CompanySecretFile string
	// CompanyAccountClaim is the claim that names the account.
	CompanyAccountClaim string
	// CompanyGroupsClaim is the claim that lists the groups.
	CompanyGroupsClaim string
	// AdminPassword is that of the first admin; it comes from the environment alone.
	AdminPassword string
	// StopWithin is how long requests in flight may take to finish at a stop.
	StopWithin Duration
	// BodyIdle is how long a sender or a receiver may stall before it is cut.
	BodyIdle Duration
	// ManifestBytes is the largest manifest that is taken.
	ManifestBytes int64
	// BlobBytes is the largest blob that is taken.
	BlobBytes int64
	// UploadsPerCaller is how many uploads one account or address may have open.
	UploadsPerCaller int64
	// UploadIdle is how long an upload that nobody sends to is kept.
	UploadIdle Duration
	// Grace is how long what was touched stays, though nothing needs it.
	Grace Duration
	// RestoreWindow is for how long removals can be undone, as of each start; 0 for as
	// the registry has it.
	RestoreWindow Duration
	// ShortWindows lets spans below an hour count, for trying things out: what is removed
	// then is soon gone.
	ShortWindows bool
	// SweepAt is when sweeps run by themselves: an interval, a cron expression in UTC, or
	// never.
	SweepAt string
	// RetentionAt is when retention rules act by themselves, as SweepAt.
	RetentionAt string
	// PriceGiBMonth and PriceGiBOut are what a GiB costs, held for a month and going out; 0
	// for no price. Currency is in which money.
	PriceGiBMonth, PriceGiBOut float64
	Currency                   string
	// RuleWait is how long a list of rules waits that could take more than before.
	RuleWait Duration
	// SweepFilesPerSecond and SweepBytesPerSecond bound what sweeps take; 0 is no bound.
	SweepFilesPerSecond, SweepBytesPerSecond int64
	// ScrubWithin is the span within which scrubs read everything once.
	ScrubWithin Duration
	// ScrubBytesPerSecond bounds what scrubs read; 0 is what ScrubWithin needs.
	ScrubBytesPerSecond int64
	// HeaderWithin is how long a request's headers may take to come.
	HeaderWithin Duration
	// FreeBytes is the disk space that uploads leave free: 0 for the smaller of
	// 1 GiB and 2 %.
	FreeBytes int64
	// Trial lets anybody on this machine do everything without a login, in a registry
	// that begins empty.
	Trial bool
	// NewRecords starts with new records, or those of another registry, beside stored blobs.
	// It is a flag alone: a file or an environment would repeat it at each start.
	NewRecords bool
	// AcceptRecords takes records to which another program wrote as they are; a flag as well.
	AcceptRecords bool
	// LogFormat is text or json.
	LogFormat string
	// LogLevel is info, or debug to log every read as well.
	LogLevel string
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
		Grace:               Duration(24 * time.Hour),
		SweepAt:             "30 2 * * *",
		RetentionAt:         "30 1 * * *",
		RuleWait:            Duration(24 * time.Hour),
		SweepFilesPerSecond: 5000,
		ScrubWithin:         Duration(14 * 24 * time.Hour),
		CompanyName:         "Company login",
		CompanyAccountClaim: "preferred_username",
		CompanyGroupsClaim:  "groups",
		Currency:            "EUR",
		LogFormat:           "text",
		LogLevel:            "info",
	}
}

// Duration is a span of time, written as 90s, 5m, 12h, 30d or 2w.
type Duration time.Duration

// Set reads a duration; it makes the type a flag.
func (d *Duration) Set(s string) error {
	span, err := time.ParseDuration(s)
	for unit, of := range map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour} {
		if number, is := strings.CutSuffix(s, unit); is {
			var n int
			if n, err = strconv.Atoi(number); n > 0 && n < 36500 {
				span = time.Duration(n) * of
			}
		}
	}
	if err != nil || span <= 0 {
		return fmt.Errorf("%q is not a span of time; write one such as 90s, 5m, 12h or 30d", s)
	}
	*d = Duration(span)
	return nil
}

// String writes the duration as it is read.
func (d *Duration) String() string {
	s := strings.TrimSuffix(time.Duration(*d).String(), "m0s")
	if s != time.Duration(*d).String() {
		s += "m"
	}
	if hours, whole := strings.CutSuffix(s, "h0m"); whole {
		s = hours + "h"
	}
	return s
}

// Type names the kind of value to readers of the help.
func (d *Duration) Type() string { return "duration" }

// List is several values, written as a YAML list or as text with commas.
type List []string

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

// Keys returns the keys of all settings, in order.
func Keys() []string {
	var c Config
	return slices.Sorted(maps.Keys(c.settings()))
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
	price := func(target *float64) func(string) error {
		return func(s string) (err error) {
			if *target, err = strconv.ParseFloat(s, 64); err != nil || !(*target >= 0 && *target < 1e9) {
				err = fmt.Errorf("%q is no price; write a number such as 0.02", s)
			}
			return err
		}
	}
	return map[string]func(string) error{
		"data":                  text(&c.Data),
		"listen":                text(&c.Listen),
		"listen_unencrypted":    truth(&c.ListenUnencrypted),
		"outside_addresses":     c.OutsideAddresses.Set,
		"trusted_proxies":       c.TrustedProxies.Set,
		"inside_networks":       c.InsideNetworks.Set,
		"outward_proxy":         truth(&c.OutwardProxy),
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

		"grace":                  c.Grace.Set,
		"restore_window":         c.RestoreWindow.Set,
		"short_windows":          truth(&c.ShortWindows),
		"sweep_at":               text(&c.SweepAt),
		"retention_at":           text(&c.RetentionAt),
		"rule_wait":              c.RuleWait.Set,
		"price_gib_month":        price(&c.PriceGiBMonth),
		"price_gib_out":          price(&c.PriceGiBOut),
		"currency":               text(&c.Currency),
		"sweep_files_per_second": number(&c.SweepFilesPerSecond),
		"sweep_bytes_per_second": number(&c.SweepBytesPerSecond),
		"scrub_within":           c.ScrubWithin.Set,
		"scrub_bytes_per_second": number(&c.ScrubBytesPerSecond),

		"trial":      truth(&c.Trial),
		"log_format": text(&c.LogFormat),
		"log_level":  text(&c.LogLevel),
	}
}

// problem is what is wrong with a setting.
type problem struct{ key, says string }

// Check refuses settings that cannot be meant, all of them at once.
func (c *Config) Check() error {
	var said []error
	for _, p := range c.problems() {
		said = append(said, errors.New(p.says))
	}
	return errors.Join(said...)
}

// problems returns what is wrong with the settings as they stand together.
func (c *Config) problems() (all []problem) {
	wrong := func(is bool, key, format string, args ...any) {
		if is {
			all = append(all, problem{key, fmt.Sprintf(format, args...)})
		}
	}
	host, _, err := net.SplitHostPort(c.Listen)
	wrong(c.Data == "", "data", "data is empty: name the folder that holds the registry's content")
	wrong(err != nil, "listen", "listen is %q: write host:port, as in 127.0.0.1:7070", c.Listen)
	wrong(err == nil && !c.Trial && !IsLoopback(host) && !c.TLS() && !c.ListenUnencrypted, "listen",
		"listen is %q, which other machines reach, and there is no TLS: passwords and tokens would pass unencrypted. "+
			"Give certificates, or --private-authority for one of its own; behind a load balancer that ends TLS say --listen-unencrypted", c.Listen)
	wrong(err == nil && c.Trial && !IsLoopback(host), "trial",
		"listen is %q, which other machines reach, and trial is true: a trial lets anybody do everything, and so listens on this machine alone, as on 127.0.0.1:7070", c.Listen)
	wrong(c.Trial && (c.TLS() || len(c.OutsideAddresses) > 0 || len(c.TrustedProxies) > 0 || c.CompanyIssuer != ""), "trial",
		"trial is true, and a trial is for this machine alone: leave certificates, private_authority, outside_addresses, trusted_proxies and company_issuer out")
	wrong(c.PrivateAuthority && len(c.Certificates) > 0, "certificates", "private_authority and certificates are both given: take one of them")
	wrong(c.CompanyIssuer != "" && c.CompanyClient == "", "company_issuer", "company_issuer is given without company_client: name the registry's client ID at the issuer")
	wrong(c.ManifestBytes < 1<<10 || c.ManifestBytes > 64<<20, "manifest_bytes", "manifest_bytes is %d: it must be from 1024 (1 KiB) to 67108864 (64 MiB)", c.ManifestBytes)
	wrong(c.BlobBytes < 1<<20, "blob_bytes", "blob_bytes is %d: it must be at least 1048576 (1 MiB)", c.BlobBytes)
	wrong(c.UploadsPerCaller < 1, "uploads_per_caller", "uploads_per_caller is %d: it must be at least 1", c.UploadsPerCaller)
	wrong(c.FreeBytes < 0, "free_bytes", "free_bytes is %d: it is a number of bytes, or 0 for the smaller of 1 GiB and 2 %%", c.FreeBytes)
	for key, span := range map[string]Duration{"grace": c.Grace, "rule_wait": c.RuleWait, "restore_window": c.RestoreWindow, "scrub_within": c.ScrubWithin} {
		wrong(span != 0 && time.Duration(span) < time.Hour && !c.ShortWindows, key,
			"%s is %s, and below an hour it counts only with short_windows: true, which is for trying things out: what is removed is soon gone for good then", key, span.String())
		wrong(time.Duration(span) > 366*24*time.Hour, key, "%s is %s: it is at most 366d", key, span.String())
	}
	for key, bound := range map[string]int64{"sweep_files_per_second": c.SweepFilesPerSecond, "sweep_bytes_per_second": c.SweepBytesPerSecond, "scrub_bytes_per_second": c.ScrubBytesPerSecond} {
		wrong(bound < 0, key, "%s is %d: it is a number from 1, or 0 for none", key, bound)
	}
	wrong(len(c.Currency) > 8, "currency", "currency is %q: it is a short word such as EUR", c.Currency)
	wrong(c.LogFormat != "text" && c.LogFormat != "json", "log_format", "log_format is %q: it is text or json", c.LogFormat)
	wrong(c.LogLevel != "info" && c.LogLevel != "debug", "log_level", "log_level is %q: it is info or debug", c.LogLevel)
	for key, check := range map[string]func() error{
		"outside_addresses": func() error { _, err := c.Outside(); return err },
		"trusted_proxies":   func() error { _, err := c.Trusted(); return err },
		"certificates":      func() error { _, err := c.Pairs(); return err },
	} {
		if err := check(); err != nil {
			wrong(true, key, "%s", err)
		}
	}
	return all
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
