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
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"syscall"
	"time"

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

func (f *File) helpers() map[string]string {
	var helpers map[string]string
	// What cannot be read as helpers is none.
	_ = json.Unmarshal(f.all["credHelpers"], &helpers)
	return helpers
}

func (f *File) store() string {
	var store string
	_ = json.Unmarshal(f.all["credsStore"], &store)
	return store
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

// helperPatience is how long a credential helper may take.
const helperPatience = 30 * time.Second

// HelperPrefix begins the names of credential helpers' programs.
const HelperPrefix = "docker-credential-"

// ask gets the credentials from a credential helper, over its standard input and output.
func ask(ctx context.Context, helper, registry string) (Credentials, error) {
	out, err := run(ctx, helper, "get", []byte(registry))
	var ended *exec.ExitError
	if errors.As(err, &ended) && strings.Contains(string(out), "not found") {
		return Credentials{}, nil
	}
	if err != nil {
		return Credentials{}, err
	}
	var answer struct{ Username, Secret string }
	if err := json.Unmarshal(out, &answer); err != nil {
		return Credentials{}, fmt.Errorf("the answer of the credential helper %s cannot be read", HelperPrefix+helper)
	}
	// The name that stands for an identity token in the answer of a helper.
	const token = "<token>"
	return Credentials{Account: answer.Username, Secret: answer.Secret, Identity: answer.Username == token, From: "the credential helper " + HelperPrefix + helper}, nil
}

var helperName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// run asks a credential helper to do something.
func run(ctx context.Context, helper, what string, input []byte) ([]byte, error) {
	if !helperName.MatchString(helper) {
		return nil, fmt.Errorf("%q is no name of a credential helper", helper)
	}
	ctx, cancel := context.WithTimeout(ctx, helperPatience)
	defer cancel()
	program := HelperPrefix + helper
	cmd := exec.CommandContext(ctx, program, what)
	cmd.Stdin = bytes.NewReader(input)
	// What it has started may outlive it, and hold its output open.
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		err = fmt.Errorf("the login file names the credential helper %s, which is not in the path: %w", program, exec.ErrNotFound)
	case ctx.Err() != nil:
		err = fmt.Errorf("the credential helper %s does not end; what it did took longer than %s, or was stopped: %w", program, helperPatience, ctx.Err())
	case err != nil:
		// What it has printed may be the secret: it is not repeated.
		err = fmt.Errorf("the credential helper %s fails to %s: %w", program, what, err)
	}
	return out, err
}

// helperOf returns the helper that is named for a registry, and under which key.
func (f *File) helperOf(registry string) (helper, key string) {
	helpers := f.helpers()
	for _, key := range slices.Sorted(maps.Keys(helpers)) {
		if means(key, registry) {
			return helpers[key], key
		}
	}
	return "", ""
}

// keeper returns the helper that keeps the secrets of a registry, "" for none.
func (f *File) keeper(registry string) string {
	if helper, _ := f.helperOf(registry); helper != "" {
		return helper
	}
	return f.store()
}

// Keep keeps the credentials of a registry where this file says: in itself, or with
// a credential helper. It returns where that is, for people.
func (f *File) Keep(ctx context.Context, registry string, c Credentials) (string, error) {
	helper := f.keeper(registry)
	if helper == "" {
		return f.Path, f.change(ctx, func() bool {
			f.Set(registry, c)
			return true
		})
	}
	input, err := json.Marshal(map[string]string{"ServerURL": registry, "Username": c.Account, "Secret": c.Secret})
	if err != nil {
		return "", err
	}
	_, err = run(ctx, helper, "store", input)
	return "the credential helper " + HelperPrefix + helper, err
}

// Forget removes the credentials of a registry from where they are kept, and
// reports whether there were any.
func (f *File) Forget(ctx context.Context, registry string) (bool, error) {
	if helper := f.keeper(registry); helper != "" {
		if _, err := run(ctx, helper, "erase", []byte(registry)); err != nil {
			return false, err
		}
		return true, f.change(ctx, func() bool { return f.Remove(registry) })
	}
	found := false
	err := f.change(ctx, func() bool {
		found = f.Remove(registry)
		return found
	})
	return found, err
}

// change changes the file as it is now: others may have written to it since it was
// read. It is written where do says so.
func (f *File) change(ctx context.Context, do func() bool) error {
	unlock, err := lockFolder(ctx, filepath.Dir(f.Path))
	if err != nil {
		return err
	}
	defer unlock()
	now, err := Open(f.Path)
	if err != nil {
		return err
	}
	f.all, f.auths = now.all, now.auths
	if !do() {
		return nil
	}
	return f.save()
}

// lockPatience is how long the file of another program's change is waited for.
const lockPatience = 10 * time.Second

// lockFolder lets one program at a time change the files in a folder.
func lockFolder(ctx context.Context, folder string) (unlock func(), err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("write to %s: %w", folder, err)
	}
	lock, err := os.Open(folder)
	if err != nil {
		return nil, fmt.Errorf("write to %s: %w", folder, err)
	}
	ctx, cancel := context.WithTimeout(ctx, lockPatience)
	defer cancel()
	for {
		err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { lock.Close() }, nil
		}
		select {
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			return nil, errors.Join(fmt.Errorf("another program writes to the files in %s and does not end: %w", folder, err), lock.Close())
		}
	}
}

// Set puts the credentials of a registry into the file; Save writes it.
func (f *File) Set(registry string, c Credentials) {
	// An entry of two strings always marshals.
	f.auths[registry], _ = json.Marshal(entry{Auth: base64.StdEncoding.EncodeToString([]byte(c.Account + ":" + c.Secret))})
}

// Remove takes the entries of a registry out, and reports whether there were any.
func (f *File) Remove(registry string) bool {
	found := false
	for key := range f.auths {
		if means(key, registry) {
			delete(f.auths, key)
			found = true
		}
	}
	return found
}

// Merge takes over the entries of another file and the helpers that it names for
// registries, and returns the keys of those that it had otherwise, which stay as they
// were here. Nothing else of the other file counts: not the program that keeps all of
// its secrets, not its proxies.
func (f *File) Merge(other *File) (kept []string) {
	for key, raw := range other.auths {
		if mine, ok := f.auths[key]; ok {
			a, err1 := decode(mine)
			b, err2 := decode(raw)
			if err1 != nil || err2 != nil || a != b {
				kept = append(kept, key)
			}
			continue
		}
		f.auths[key] = raw
	}
	helpers := f.helpers()
	for key, helper := range other.helpers() {
		switch mine, ok := helpers[key]; {
		case !ok && helpers == nil:
			helpers = map[string]string{key: helper}
		case !ok:
			helpers[key] = helper
		case mine != helper:
			kept = append(kept, key)
		}
	}
	if len(helpers) > 0 {
		// Names with names always marshal.
		f.all["credHelpers"], _ = json.Marshal(helpers)
	}
	sort.Strings(kept)
	return kept
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

// Marshal returns the file as it is written.
func (f *File) Marshal() ([]byte, error) {
	auths, err := json.Marshal(f.auths)
	if err != nil {
		return nil, err
	}
	all := maps.Clone(f.all)
	all["auths"] = auths
	raw, err := json.MarshalIndent(all, "", "\t")
	return append(raw, '\n'), err
}

// save writes the file whole or not at all, for its owner's eyes alone.
func (f *File) save() error {
	raw, err := f.Marshal()
	if err != nil {
		return err
	}
	return WriteSecret(f.Path, raw)
}

// WriteSecret writes a file whole or not at all, for its owner's eyes alone, and
// makes its folder where that is missing.
func WriteSecret(path string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	// A link stays one: the file that it names is replaced.
	if target, err := filepath.EvalSymlinks(path); err == nil {
		path = target
	}
	next, err := os.CreateTemp(filepath.Dir(path), ".login-")
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	_, err = next.Write(raw)
	if err = errors.Join(err, next.Sync(), next.Close()); err == nil {
		err = os.Rename(next.Name(), path)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("write %s: %w", path, err), os.Remove(next.Name()))
	}
	return nil
}
