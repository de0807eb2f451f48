package kit

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"warthesis/internal/oci"
)

// Foreign is a registry of nobody's make: it speaks what the standard asks for and no more,
// without checking much, and does wrong what a test tells it to.
type Foreign struct {
	// Address is host:port.
	Address string
	Server  *httptest.Server

	mu sync.Mutex
	// manifests and types are by repository and digest, tags by repository and tag.
	manifests map[string][]byte
	types     map[string]string
	tags      map[string]map[string]oci.Digest
	blobs     map[string][]byte
	uploads   map[string][]byte
	asked     []string
	fault     func(w http.ResponseWriter, r *http.Request) bool
	account   string
	secret    string
	page      int
	// sorted are the names of the tags of a repository, in order.
	sorted map[string][]string
}

// StartForeign starts a foreign registry, by plain HTTP or with a configuration of TLS.
func StartForeign(t testing.TB, secure *tls.Config) *Foreign {
	f := &Foreign{manifests: map[string][]byte{}, types: map[string]string{}, tags: map[string]map[string]oci.Digest{}, blobs: map[string][]byte{}, uploads: map[string][]byte{}, page: 1000, sorted: map[string][]string{}}
	f.Server = httptest.NewUnstartedServer(f)
	if secure != nil {
		f.Server.TLS = secure
		f.Server.StartTLS()
	} else {
		f.Server.Start()
	}
	f.Address = f.Server.Listener.Addr().String()
	t.Cleanup(f.Server.Close)
	return f
}

// Do changes what the registry has, or how it behaves, between two requests.
func (f *Foreign) Do(change func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	change()
}

// Wrong lets a function answer requests first: where it returns true, the request is
// answered. Nil is for none.
func (f *Foreign) Wrong(fault func(w http.ResponseWriter, r *http.Request) bool) {
	f.Do(func() { f.fault = fault })
}

// LogIn lets nobody in but an account.
func (f *Foreign) LogIn(account, secret string) {
	f.Do(func() { f.account, f.secret = account, secret })
}

// Pages lists names in pages of so many.
func (f *Foreign) Pages(of int) { f.Do(func() { f.page = of }) }

// Asked returns the requests since it was last asked for them, as METHOD PATH.
func (f *Foreign) Asked() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	asked := f.asked
	f.asked = nil
	return asked
}

// Put gives a repository an image, with a tag or none.
func (f *Foreign) Put(repository, tag string, i Image) {
	f.Do(func() {
		for d, raw := range i.Blobs {
			f.blobs[repository+" "+d.String()] = raw
		}
		f.put(repository, tag, oci.MediaTypeImage, i.Raw)
	})
}

// PutRaw gives a repository a document.
func (f *Foreign) PutRaw(repository, tag, mediaType string, raw []byte) oci.Digest {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.put(repository, tag, mediaType, raw)
}

func (f *Foreign) put(repository, tag, mediaType string, raw []byte) oci.Digest {
	d := oci.DigestOf(oci.SHA256, raw)
	f.manifests[repository+" "+d.String()], f.types[repository+" "+d.String()] = raw, mediaType
	if f.tags[repository] == nil {
		f.tags[repository] = map[string]oci.Digest{}
	}
	if tag != "" {
		f.tags[repository][tag] = d
		delete(f.sorted, repository)
	}
	return d
}

// Forget takes a tag away or, with "", a repository with all that it has.
func (f *Foreign) Forget(repository, tag string) {
	f.Do(func() {
		delete(f.sorted, repository)
		if tag != "" {
			delete(f.tags[repository], tag)
			return
		}
		delete(f.tags, repository)
		for _, all := range []map[string][]byte{f.manifests, f.blobs} {
			maps.DeleteFunc(all, func(key string, _ []byte) bool { return strings.HasPrefix(key, repository+" ") })
		}
	})
}

// Tag returns what a tag points to, "" for none.
func (f *Foreign) Tag(repository, tag string) oci.Digest {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.tags[repository][tag]
}

// Has reports whether a repository has a blob or a manifest.
func (f *Foreign) Has(repository string, d oci.Digest) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, manifest := f.manifests[repository+" "+d.String()]
	_, blob := f.blobs[repository+" "+d.String()]
	return manifest || blob
}

// ServeHTTP answers a request.
func (f *Foreign) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	f.asked = append(f.asked, r.Method+" "+r.URL.Path)
	fault, account, secret := f.fault, f.account, f.secret
	f.mu.Unlock()
	if fault != nil && fault(w, r) {
		return
	}
	if name, given, _ := r.BasicAuth(); account != "" && (name != account || given != secret) {
		w.Header().Set("WWW-Authenticate", `Basic realm="foreign"`)
		refuse(w, http.StatusUnauthorized, "UNAUTHORIZED")
		return
	}
	path := strings.TrimPrefix(r.URL.Path, "/v2/")
	for word, serve := range map[string]func(http.ResponseWriter, *http.Request, string, string){
		"/manifests/": f.manifest, "/blobs/uploads/": f.upload, "/tags/list": f.list,
	} {
		if name, item, found := strings.Cut(path, word); found {
			serve(w, r, name, item)
			return
		}
	}
	if name, item, found := strings.Cut(path, "/blobs/"); found {
		f.blob(w, r, name, item)
		return
	}
	if path == "" {
		_, _ = io.WriteString(w, "{}")
		return
	}
	refuse(w, http.StatusNotFound, "UNSUPPORTED")
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	fmt.Fprintf(w, `{"errors":[{"code":%q,"message":"the foreign registry says so"}]}`, code)
}

func (f *Foreign) manifest(w http.ResponseWriter, r *http.Request, name, target string) {
	if r.Method == http.MethodPut {
		raw, _ := io.ReadAll(r.Body)
		tag := target
		if strings.Contains(target, ":") {
			tag = ""
		}
		d := f.PutRaw(name, tag, r.Header.Get("Content-Type"), raw)
		w.Header().Set("Docker-Content-Digest", d.String())
		w.WriteHeader(http.StatusCreated)
		return
	}
	f.mu.Lock()
	d := oci.Digest(target)
	if !strings.Contains(target, ":") {
		d = f.tags[name][target]
	}
	raw, there := f.manifests[name+" "+d.String()]
	mediaType := f.types[name+" "+d.String()]
	if r.Method == http.MethodDelete && there && !strings.Contains(target, ":") {
		delete(f.tags[name], target)
		delete(f.sorted, name)
	}
	f.mu.Unlock()
	switch {
	case !there:
		refuse(w, http.StatusNotFound, "MANIFEST_UNKNOWN")
	case r.Method == http.MethodDelete:
		w.WriteHeader(http.StatusAccepted)
	default:
		w.Header().Set("Docker-Content-Digest", d.String())
		w.Header().Set("Content-Type", mediaType)
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(raw))
	}
}

func (f *Foreign) blob(w http.ResponseWriter, r *http.Request, name, digest string) {
	f.mu.Lock()
	raw, there := f.blobs[name+" "+digest]
	f.mu.Unlock()
	if !there {
		refuse(w, http.StatusNotFound, "BLOB_UNKNOWN")
		return
	}
	w.Header().Set("Docker-Content-Digest", digest)
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(raw))
}

func (f *Foreign) upload(w http.ResponseWriter, r *http.Request, name, id string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if r.Method == http.MethodPost {
		id = strconv.Itoa(len(f.uploads) + 1)
		f.uploads[id] = nil
		w.Header().Set("Location", "/v2/"+name+"/blobs/uploads/"+id)
		w.WriteHeader(http.StatusAccepted)
		return
	}
	raw, _ := io.ReadAll(r.Body)
	there := append(f.uploads[id], raw...)
	switch r.Method {
	case http.MethodPatch:
		f.uploads[id] = there
		w.Header().Set("Location", "/v2/"+name+"/blobs/uploads/"+id)
		w.Header().Set("Range", fmt.Sprintf("0-%d", len(there)-1))
		w.WriteHeader(http.StatusAccepted)
	case http.MethodPut:
		digest := r.URL.Query().Get("digest")
		if oci.DigestOf(oci.SHA256, there).String() != digest {
			refuse(w, http.StatusBadRequest, "DIGEST_INVALID")
			return
		}
		f.blobs[name+" "+digest] = there
		w.WriteHeader(http.StatusCreated)
	case http.MethodDelete:
		w.WriteHeader(http.StatusNoContent)
	default:
		w.Header().Set("Range", fmt.Sprintf("0-%d", max(0, len(there)-1)))
		w.WriteHeader(http.StatusNoContent)
	}
}

func (f *Foreign) list(w http.ResponseWriter, r *http.Request, name, _ string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	tags, there := f.tags[name]
	if !there {
		refuse(w, http.StatusNotFound, "NAME_UNKNOWN")
		return
	}
	names := f.sorted[name]
	if names == nil {
		names = slices.Sorted(maps.Keys(tags))
		f.sorted[name] = names
	}
	from, found := slices.BinarySearch(names, r.URL.Query().Get("last"))
	if found {
		from++
	}
	names = names[from:]
	n, err := strconv.Atoi(r.URL.Query().Get("n"))
	if err != nil || n > f.page {
		n = f.page
	}
	if len(names) > n {
		names = names[:n]
		w.Header().Set("Link", fmt.Sprintf(`</v2/%s/tags/list?n=%d&last=%s>; rel="next"`, name, n, names[n-1]))
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"name": name, "tags": append([]string{}, names...)})
}
