package login

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"
)

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
