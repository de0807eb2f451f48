package carried

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/mirrors"
	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// file adds a file of the folder.
func (t *telling) file(name, place, what string, raw []byte) {
	t.raw[name] = raw
	t.facts.Files = append(t.facts.Files, toldFile{name, place, what})
}

// writeAll writes the files of the folder; what is a secret is shown to nobody else.
func (t *telling) writeAll() error {
	for name, raw := range t.raw {
		at := filepath.Join(t.folder, filepath.FromSlash(name))
		err := os.MkdirAll(filepath.Dir(at), 0o755)
		if err == nil && name == secretFile {
			err = login.WriteSecret(at, raw)
		} else if err == nil {
			err = replaceWhole(at, raw)
		}
		if err != nil {
			return fmt.Errorf("write %s: %w", at, err)
		}
	}
	return nil
}

// secretFile is the pull secret.
const secretFile = "pull-secret.json"

// write writes the files.
func (t *telling) write(ctx context.Context, items []packing.Item) error {
	now, err := readNow(t.engine)
	if err != nil {
		return err
	}
	raw, err := mirrors.Engine(now, t.rules, t.place)
	if err != nil {
		return err
	}
	what := "for engines that read one file of all registries"
	if t.engine != "" {
		what += ", merged into what was given"
	}
	t.file("registries.conf", enginePlace, what, raw)
	if err := t.writeNodes(items); err != nil {
		return err
	}
	if t.place.Authority {
		t.file("ca.crt", "/etc/containers/certs.d/"+t.to.Registry+"/ca.crt, and "+t.authorityAt(), "the authority of the registry's certificate", t.authority)
	}
	// The token is made once all else is right.
	credentials, err := t.secret(ctx, items)
	if err != nil {
		return err
	}
	t.test(ctx, credentials)
	t.file("WHERE-EACH-GOES.md", "", "this page", []byte(t.page(items)))
	return t.writeAll()
}

func (t *telling) authorityAt() string { return nodePlace + "/" + t.to.Registry + "/ca.crt" }

// writeNodes writes the files about single registries, and where they are.
func (t *telling) writeNodes(items []packing.Item) error {
	registries, _ := mirrors.Hosts(items, t.place)
	for _, registry := range registries {
		name := mirrors.HostFile(registry)
		now, err := readNow(filepath.Join(t.nodes, name))
		if t.nodes == "" {
			now, err = nil, nil
		}
		if err != nil {
			return err
		}
		own, err := t.c.R.Way(registry)
		if err != nil {
			return err
		}
		raw, err := mirrors.Node(now, registry, own.Base.String(), t.place, t.authorityAt())
		if err != nil {
			return err
		}
		t.file("certs.d/"+name, nodePlace+"/"+name, "for nodes that read a file for each registry", raw)
	}
	if len(registries) == 0 {
		return nil
	}
	now, err := readNow(t.nodeConfig)
	if err != nil {
		return err
	}
	raw, in, err := mirrors.NodeOwn(now, nodePlace)
	if err != nil {
		return err
	}
	what := "says where those files are"
	if in != nodePlace {
		what += fmt.Sprintf("; it has them in %s, and so they go there", in)
	}
	t.file("config.toml", nodeOwn, what, raw)
	return nil
}

// readNow reads a file as it is now; one that is not there is empty.
func readNow(name string) ([]byte, error) {
	if name == "" {
		return nil, nil
	}
	raw, err := given.Read(name, mirrors.MostBytes)
	if errors.Is(err, fs.ErrNotExist) && strings.HasSuffix(name, "hosts.toml") {
		return nil, nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, term.Usage("there is no file %s", name)
	}
	return raw, err
}

// secret makes the pull secret, where an account is named for it.
func (t *telling) secret(ctx context.Context, items []packing.Item) (*login.Credentials, error) {
	if t.account == "" {
		return nil, nil
	}
	now, err := readNow(t.logins)
	if err != nil {
		return nil, err
	}
	file, err := login.Parse("", now)
	if err != nil {
		return nil, err
	}
	client, err := t.c.R.API(ctx, t.to.Registry)
	if err != nil {
		return nil, err
	}
	body := api.NewToken{Account: t.account, Name: "pull secret of " + baseName(t.c.Args[0]), Days: t.days}
	var spaces []string
	for _, i := range items {
		if name := t.nameOf(i).Namespace(); !slices.Contains(spaces, name) {
			spaces = append(spaces, name)
			body.Scopes = append(body.Scopes, api.Scope{Pattern: name + "/*", Actions: []string{"pull"}}, api.Scope{Pattern: name, Actions: []string{"pull"}})
		}
	}
	const longest = 80
	body.Name = body.Name[:min(longest, len(body.Name))]
	var made api.MadeToken
	if err := client.Do(ctx, http.MethodPost, "/api/v1/tokens", url.Values{}, body, &made); err != nil {
		return nil, fmt.Errorf("make the pull secret: %w", err)
	}
	found := login.Credentials{Account: made.Account, Secret: made.Secret}
	file.Set(t.to.Registry, found)
	raw, err := file.Marshal()
	if err != nil {
		return nil, err
	}
	t.file(secretFile, "the clients' login file, or a pull secret of the cluster", "a token that may pull, and nothing else", raw)
	return &found, nil
}

// test pulls one image as the clients will.
func (t *telling) test(ctx context.Context, as *login.Credentials) {
	if t.facts.Tested == "" {
		return
	}
	ref, err := oci.ParseReference(t.facts.Tested)
	client := t.client
	if err == nil && as != nil {
		client, err = t.c.R.PeerAs(t.to.Registry, func(context.Context) (login.Credentials, error) { return *as, nil })
	}
	if err == nil {
		_, err = client.Made(ctx, ref.Name, ref.Target(), false)
	}
	if err != nil {
		t.facts.TestFailed = err.Error()
	}
}
