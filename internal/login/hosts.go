package login

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"syscall"
	"time"

	"warthesis/internal/given"
	"warthesis/internal/oci"
)

// Hosts is what the client keeps about registries besides credentials: which one is
// the default, how each is trusted, and where uploads that did not end are gone on with.
type Hosts struct {
	path string
	// Default is the registry that a command means where none is named.
	Default string          `json:"default,omitempty"`
	Known   map[string]Host `json:"registries,omitempty"`
}

// Host is how one registry is trusted.
type Host struct {
	// Authority is a file with the certificates that sign the registry's.
	Authority string `json:"authority,omitempty"`
	// Unverified switches the check of the certificate off.
	Unverified bool `json:"unverified,omitempty"`
	// ClientCertificate and ClientKey are files that the registry is shown where it asks.
	ClientCertificate string `json:"client_certificate,omitempty"`
	ClientKey         string `json:"client_key,omitempty"`
}

// hostsLimit is the largest file about registries in bytes that is read.
const hostsLimit = 4 << 20

// OpenHosts reads what is kept, by the environment; what is not there is empty.
func OpenHosts(getenv func(string) string) (*Hosts, error) {
	folder := getenv("WARTHESIS_CLIENT_FOLDER")
	if folder == "" {
		base := getenv("XDG_CONFIG_HOME")
		if base == "" {
			base = filepath.Join(getenv("HOME"), ".config")
		}
		folder = filepath.Join(base, "warthesis")
	}
	return readHosts(filepath.Join(folder, "registries.json"))
}

func readHosts(path string) (*Hosts, error) {
	h := &Hosts{path: path}
	if err := readJSON(path, h); err != nil {
		return nil, err
	}
	if h.Known == nil {
		h.Known = map[string]Host{}
	}
	return h, nil
}

// readJSON reads a file of the client's own; one that is not there changes nothing.
func readJSON(path string, into any) error {
	raw, err := given.Read(path, hostsLimit)
	// A file in the place of its folder is no folder either.
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(raw, into)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", path, err)
	}
	return nil
}

// Folder is where the client keeps files about registries.
func (h *Hosts) Folder() string { return filepath.Dir(h.path) }

// Change changes what is kept as it is now: others may have written to it since it was
// read.
func (h *Hosts) Change(ctx context.Context, do func(*Hosts)) error {
	unlock, err := lockFolder(ctx, h.Folder())
	if err != nil {
		return err
	}
	defer unlock()
	now, err := readHosts(h.path)
	if err != nil {
		return err
	}
	do(now)
	*h = *now
	return writeJSON(h.path, h)
}

func writeJSON(path string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return WriteSecret(path, append(raw, '\n'))
}

// Uploads remembers uploads that did not end, beside what is kept about registries.
type Uploads struct{ path string }

// left is an upload that did not end.
type left struct {
	At    string    `json:"at"`
	Since time.Time `json:"since"`
}

const (
	// mostLeft is how many uploads are remembered, and leftFor how long: about as long
	// as a registry keeps them.
	mostLeft = 256
	leftFor  = 24 * time.Hour
)

// Uploads returns what remembers uploads.
func (h *Hosts) Uploads() Uploads { return Uploads{filepath.Join(h.Folder(), "uploads.json")} }

func leftKey(registry string, name oci.Name, digest oci.Digest) string {
	return registry + "/" + string(name) + "@" + string(digest)
}

// Find returns the address of an upload session of a blob, "" for none.
func (u Uploads) Find(registry string, name oci.Name, digest oci.Digest) string {
	all := map[string]left{}
	// What cannot be read remembers nothing.
	_ = readJSON(u.path, &all)
	found := all[leftKey(registry, name, digest)]
	if time.Since(found.Since) > leftFor {
		return ""
	}
	return found.At
}

// Keep notes an upload session.
func (u Uploads) Keep(registry string, name oci.Name, digest oci.Digest, at string) {
	u.change(func(all map[string]left) { all[leftKey(registry, name, digest)] = left{at, time.Now().UTC()} })
}

// Drop forgets an upload session.
func (u Uploads) Drop(registry string, name oci.Name, digest oci.Digest) {
	u.change(func(all map[string]left) { delete(all, leftKey(registry, name, digest)) })
}

// change changes the file; where that fails, uploads begin anew.
func (u Uploads) change(do func(map[string]left)) {
	unlock, err := lockFolder(context.Background(), filepath.Dir(u.path))
	if err != nil {
		return
	}
	defer unlock()
	all := map[string]left{}
	_ = readJSON(u.path, &all)
	if all == nil {
		all = map[string]left{}
	}
	do(all)
	for key, one := range all {
		if time.Since(one.Since) > leftFor || len(all) > mostLeft {
			delete(all, key)
		}
	}
	_ = writeJSON(u.path, all)
}
