package login

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Hosts is what the client keeps about registries besides credentials: which one is
// the default, and how each is trusted.
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
}

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
	h := &Hosts{path: filepath.Join(folder, "registries.json"), Known: map[string]Host{}}
	raw, err := os.ReadFile(h.path)
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, h)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", h.path, err)
	}
	if h.Known == nil {
		h.Known = map[string]Host{}
	}
	return h, nil
}

// Folder is where the client keeps files about registries.
func (h *Hosts) Folder() string { return filepath.Dir(h.path) }

// Save writes what is kept.
func (h *Hosts) Save() error {
	raw, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return err
	}
	return WriteSecret(h.path, append(raw, '\n'))
}
