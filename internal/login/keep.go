package login

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"sort"
	"syscall"
	"time"
)

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
