// Package config reads the service's settings: defaults, then one YAML file, then
// the environment, then flags, each over the one before. A key that nobody knows
// is an error wherever it stands, so that a typing mistake never runs as a default.
package config

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Config is the settings of one service.
type Config struct {
	// Data is the folder that holds everything.
	Data string `yaml:"data"`
	// Listen is the address to serve on, host:port.
	Listen string `yaml:"listen"`
	// AnyoneMayPush allows to listen beyond this machine although nobody has to
	// log in: whoever reaches the address may then pull, push and overwrite.
	AnyoneMayPush bool `yaml:"anyone_may_push"`
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

		UploadsPerCaller: 256,
		UploadIdle:       Duration(24 * time.Hour),
		HeaderWithin:     Duration(10 * time.Second),
		LogFormat:        "text",
		LogLevel:         "info",
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

// ReadFile puts the settings of a YAML file over c. Errors name key and line.
func (c *Config) ReadFile(path string) error {
	raw, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	if err := yaml.UnmarshalWithOptions(raw, c, yaml.Strict()); err != nil {
		return fmt.Errorf("the configuration %s is not right:\n%s", path, yaml.FormatError(err, false, true))
	}
	return nil
}

const prefix = "WARTHESIS_"

// ReadEnvironment puts WARTHESIS_… variables, given as "NAME=value", over c. A
// variable is named as the key in the file, in capitals.
func (c *Config) ReadEnvironment(environment []string) error {
	for _, entry := range environment {
		name, value, _ := strings.Cut(entry, "=")
		key, ours := strings.CutPrefix(name, prefix)
		if !ours {
			continue
		}
		if err := c.Set(strings.ToLower(key), value); err != nil {
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
		"data":               text(&c.Data),
		"listen":             text(&c.Listen),
		"anyone_may_push":    truth(&c.AnyoneMayPush),
		"stop_within":        c.StopWithin.Set,
		"body_idle":          c.BodyIdle.Set,
		"header_within":      c.HeaderWithin.Set,
		"manifest_bytes":     number(&c.ManifestBytes),
		"blob_bytes":         number(&c.BlobBytes),
		"uploads_per_caller": number(&c.UploadsPerCaller),
		"upload_idle":        c.UploadIdle.Set,
		"free_bytes":         number(&c.FreeBytes),
		"log_format":         text(&c.LogFormat),
		"log_level":          text(&c.LogLevel),
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
	case !IsLoopback(host) && !c.AnyoneMayPush:
		return fmt.Errorf("listen is %q, which other machines reach, and nobody has to log in: whoever reaches it could pull, push and overwrite. "+
			"Listen on 127.0.0.1, or say --anyone-may-push if that is what you want", c.Listen)
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
	return nil
}

// IsLoopback reports whether a host, without a port, is this machine only.
func IsLoopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return ip != nil && ip.IsLoopback()
}
