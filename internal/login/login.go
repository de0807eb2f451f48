// Package login reads and writes the client's login files: the JSON that container
// engines and clusters share, with one entry for each registry, keyed by host and
// port, and the programs that keep secrets elsewhere.
package login

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"strings"

	"warthesis/internal/given"
)

// File is a login file. What it does not know of the file is kept as it is.
type File struct {
	// Path is where it stands.
	Path  string
	all   map[string]json.RawMessage
	auths map[string]json.RawMessage
}

// entry is one registry's entry, as the shared format has it.
type entry struct {
	Auth          string `json:"auth,omitempty"`
	Username      string `json:"username,omitempty"`
	Password      string `json:"password,omitempty"`
	IdentityToken string `json:"identitytoken,omitempty"`
}

// Credentials are what a registry is given. Without an account and a secret there
// are none.
type Credentials struct {
	Account string
	Secret  string
	// Identity tells that the secret is a token for getting others, and no password.
	Identity bool
	// From says where they were found, for people.
	From string
}

// Empty reports whether there are none.
func (c Credentials) Empty() bool { return c.Secret == "" }

// Place returns where the login file is, by the environment: the first of the
// variables that is set, or the place that engines share.
func Place(getenv func(string) string) string {
	for _, name := range []string{"WARTHESIS_CLIENT_LOGIN_FILE", "REGISTRY_AUTH_FILE"} {
		if file := getenv(name); file != "" {
			return file
		}
	}
	if folder := getenv("DOCKER_CONFIG"); folder != "" {
		return filepath.Join(folder, "config.json")
	}
	return filepath.Join(getenv("HOME"), ".docker", "config.json")
}

// sizeLimit is the largest login file in bytes that is read.
const sizeLimit = 4 << 20

// Open reads a login file; one that is not there is empty.
func Open(path string) (*File, error) {
	raw, err := given.Read(path, sizeLimit)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read the login file: %w", err)
	}
	return Parse(path, raw)
}

// Parse reads a login file from bytes.
func Parse(path string, raw []byte) (*File, error) {
	f := &File{Path: path, all: map[string]json.RawMessage{}, auths: map[string]json.RawMessage{}}
	return f, f.parse(raw)
}

func (f *File) parse(raw []byte) error {
	if len(bytes.TrimSpace(raw)) == 0 {
		return nil
	}
	if err := json.Unmarshal(raw, &f.all); err != nil {
		return fmt.Errorf("the login file %s is not right: %w", f.Path, err)
	}
	if key := keyTwice(json.NewDecoder(bytes.NewReader(raw))); key != "" {
		return fmt.Errorf("the login file %s is not right: %q stands in it twice, and which one counts nobody can tell; take one out", f.Path, key)
	}
	if given, ok := f.all["auths"]; ok {
		if err := json.Unmarshal(given, &f.auths); err != nil {
			return fmt.Errorf("the auths of the login file %s are not right: %w", f.Path, err)
		}
	}
	if f.auths == nil {
		f.auths = map[string]json.RawMessage{}
	}
	return nil
}

// keyTwice returns a key that stands twice in one object of valid JSON, "" for none.
func keyTwice(d *json.Decoder) string {
	opening, _ := d.Token()
	if opening != json.Delim('{') && opening != json.Delim('[') {
		return ""
	}
	seen := map[json.Token]bool{}
	for d.More() {
		if opening == json.Delim('{') {
			key, _ := d.Token()
			if seen[key] {
				return key.(string)
			}
			seen[key] = true
		}
		if key := keyTwice(d); key != "" {
			return key
		}
	}
	_, _ = d.Token()
	return ""
}

// Keys returns the keys of all entries, helpers' included, in order.
func (f *File) Keys() []string {
	keys := map[string]bool{}
	for key := range f.auths {
		keys[key] = true
	}
	for key := range f.helpers() {
		keys[key] = true
	}
	return slices.Sorted(maps.Keys(keys))
}

// HostOf returns the host and port that a key means: engines also write addresses.
func HostOf(key string) string {
	for _, scheme := range []string{"https://", "http://"} {
		key = strings.TrimPrefix(key, scheme)
	}
	host, _, _ := strings.Cut(key, "/")
	return host
}

// means reports whether a key is that of a whole registry. Engines write addresses,
// and the version of the protocol behind some; a key with another path is that of one
// namespace.
func means(key, registry string) bool {
	_, path, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(key, "https://"), "http://"), "/")
	path = strings.Trim(path, "/")
	return HostOf(key) == registry && (path == "" || path == "v1" || path == "v2")
}

// Find returns the credentials for a registry, host:port: of its own entry, or of
// the program that keeps them. None are no error.
func (f *File) Find(ctx context.Context, registry string) (Credentials, error) {
	if helper, key := f.helperOf(registry); helper != "" {
		return ask(ctx, helper, key)
	}
	for _, key := range slices.Sorted(maps.Keys(f.auths)) {
		if !means(key, registry) {
			continue
		}
		c, err := decode(f.auths[key])
		if err != nil {
			return Credentials{}, fmt.Errorf("the entry %s of the login file %s is not right: %w", key, f.Path, err)
		}
		if !c.Empty() {
			c.From = fmt.Sprintf("the entry %s of %s", key, f.Path)
			return c, nil
		}
	}
	if store := f.store(); store != "" {
		return ask(ctx, store, registry)
	}
	return Credentials{}, nil
}

func decode(raw json.RawMessage) (Credentials, error) {
	var e entry
	if err := json.Unmarshal(raw, &e); err != nil {
		return Credentials{}, err
	}
	c := Credentials{Account: e.Username, Secret: e.Password}
	if e.Auth != "" {
		plain, err := base64.StdEncoding.DecodeString(e.Auth)
		if err != nil {
			return c, errors.New("its auth is no base64")
		}
		account, secret, found := strings.Cut(strings.TrimRight(string(plain), "\x00"), ":")
		if !found {
			return c, errors.New("its auth is not name:password in base64")
		}
		c.Account, c.Secret = account, secret
	}
	if e.IdentityToken != "" {
		c.Secret, c.Identity = e.IdentityToken, true
	}
	return c, nil
}

// NearMisses says which entries were perhaps meant for a registry that has none.
func (f *File) NearMisses(registry string) []string {
	host, port, err := net.SplitHostPort(registry)
	if err != nil {
		host, port = registry, ""
	}
	var misses []string
	for _, key := range f.Keys() {
		other := HostOf(key)
		otherHost, otherPort, err := net.SplitHostPort(other)
		if err != nil {
			otherHost, otherPort = other, ""
		}
		switch {
		case !strings.EqualFold(otherHost, host) || other == registry:
		case otherPort == "" && port != "":
			misses = append(misses, fmt.Sprintf("there is an entry for %s without the port %s", otherHost, port))
		case port == "":
			misses = append(misses, fmt.Sprintf("there is an entry for %s with the port %s, and none without", otherHost, otherPort))
		case otherPort != port:
			misses = append(misses, fmt.Sprintf("there is an entry for %s with another port, %s", otherHost, otherPort))
		default:
			misses = append(misses, fmt.Sprintf("there is an entry for %s, in other letters", other))
		}
	}
	return misses
}
