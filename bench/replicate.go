package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"warthesis/internal/kit/line"
)

// How large what is replicated is.
const (
	replicatedBlobs = 8
	replicatedSize  = 64 * mib
	// ratedFor is for how many seconds a copy at a bound goes on.
	ratedFor = 10
	dueTags  = 10_000
	// turnTags are pushed in turn to a place that a rule means and to one that none does, as
	// long as they are pairedTags at most.
	turnTags, pairedTags = 50, 4000
)

// replicated starts two registries of which the near one copies the namespaces large and many
// to the far one, where it is told to.
func (b *bench) replicated() (at sites, err error) {
	if at, err = b.twoSites(); err != nil {
		return at, err
	}
	for _, s := range []*service{at.near, at.far} {
		for _, name := range []string{"large", "many"} {
			err = errors.Join(err, manage(http.MethodPost, s.address+"/api/v1/namespaces", fmt.Sprintf(`{"name":%q}`, name)))
		}
	}
	if err != nil {
		at.end()
	}
	return at, err
}

// replicateLarge measures a rule that copies large blobs.
func (b *bench) replicateLarge() error {
	at, err := b.replicated()
	if err != nil {
		return err
	}
	defer at.end()
	return b.copies(at.near, at.far)
}

// replicateMany measures what ten thousand tags that are due take, and how long a comparison
// of them takes over a slow line.
func (b *bench) replicateMany() error {
	at, err := b.replicated()
	if err != nil {
		return err
	}
	defer at.end()
	plain, err := startBare(lineEach)
	if err != nil {
		return err
	}
	defer plain.close()
	if err := errors.Join(at.near.makePeer("plain", plain.address), manage(http.MethodPost, at.near.address+"/api/v1/namespaces", `{"name":"alone"}`)); err != nil {
		return err
	}
	return b.manyDue(at.near, plain)
}

// copies measures a rule that copies large blobs against a push of the like.
func (b *bench) copies(near, far *service) error {
	block := b.block
	b.block = make([]byte, replicatedSize)
	copy(b.block, block)
	defer func() { b.block = block }()
	made := 0
	// image makes the folder of an image that nobody has.
	image := func() (folder string, err error) {
		made++
		if folder, err = os.MkdirTemp("", "warthesis-bench-"); err != nil {
			return "", err
		}
		layers := make([][]byte, replicatedBlobs)
		for i := range layers {
			b.fresh()
			layers[i] = bytes.Clone(b.block)
		}
		return folder, layout(folder, fmt.Sprintf(`{"run":%d}`, made), layers)
	}
	run := func(input string, words ...string) error {
		command := exec.Command(b.binary, words...)
		command.Env = append(os.Environ(), "WARTHESIS_CLIENT_FOLDER="+b.folder+"/client", "WARTHESIS_CLIENT_LOGIN_FILE="+b.folder+"/logins.json")
		command.Stdin = strings.NewReader(input)
		if out, err := command.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", words[0], err, out)
		}
		return nil
	}
	for _, s := range []*service{near, far} {
		if err := run(password, "login", s.host(), "--account", admin, "--from-stdin"); err != nil {
			return err
		}
	}
	send := func(folder, reference string) error { return run("", "push", folder, reference) }
	if err := manage(http.MethodPost, near.address+"/api/v1/replications", `{"name":"large","copy":["large/*"],"to":"far"}`); err != nil {
		return err
	}
	copied := func() (time.Duration, error) {
		folder, err := image()
		if err != nil {
			return 0, err
		}
		defer os.RemoveAll(folder)
		if err := manage(http.MethodPost, near.address+"/api/v1/replications/large/pause", `{"paused":true}`); err != nil {
			return 0, err
		}
		if err := send(folder, near.host()+"/large/app:next"); err != nil {
			return 0, err
		}
		meant, err := tagAt(near, "large/app")
		if err != nil {
			return 0, err
		}
		began := time.Now()
		if err := manage(http.MethodPost, near.address+"/api/v1/replications/large/pause", `{"paused":false}`); err != nil {
			return 0, err
		}
		// Asking the rule how it goes would take from what is measured.
		for is := ""; is != meant; {
			if is, err = tagAt(far, "large/app"); err != nil {
				return 0, err
			}
			time.Sleep(5 * time.Millisecond)
		}
		took := time.Since(began)
		return took, rests(near, "large")
	}
	pushed := func() (time.Duration, error) {
		folder, err := image()
		if err != nil {
			return 0, err
		}
		defer os.RemoveAll(folder)
		began := time.Now()
		err = send(folder, far.host()+"/bench/straight:next")
		return time.Since(began), err
	}
	if err := b.pair(fmt.Sprintf("copy by rule, %d × %d MiB, push by client", replicatedBlobs, replicatedSize/mib), replicatedBlobs*replicatedSize, copied, pushed); err != nil {
		return err
	}
	// How well a bound on the rate is kept to.
	for _, asked := range []int{1, 8, 32} {
		if err := manage(http.MethodPut, near.address+"/api/v1/replications/large", fmt.Sprintf(`{"name":"large","copy":["large/*"],"to":"far","rate":"%dMiB"}`, asked)); err != nil {
			return err
		}
		b.block = b.block[:asked*mib*ratedFor/replicatedBlobs]
		took, err := copied()
		b.block = b.block[:replicatedSize]
		if err != nil {
			return err
		}
		fmt.Printf("%-42s %8.2f MiB/s\n", fmt.Sprintf("copy by rule, at most %d MiB/s", asked), float64(asked*ratedFor)/took.Seconds())
	}
	return nil
}

// tagAt is what the tag next of a repository points to, "" for no such tag.
func tagAt(s *service, repository string) (digest string, err error) {
	answer, err := client.Head(s.address + "/v2/" + repository + "/manifests/next")
	if err != nil {
		return "", err
	}
	answer.Body.Close()
	return answer.Header.Get("Docker-Content-Digest"), nil
}

// layout writes an image of layers as a folder.
func layout(folder, config string, layers [][]byte) error {
	put := func(raw []byte) (string, error) {
		sum := fmt.Sprintf("%x", sha256.Sum256(raw))
		at := filepath.Join(folder, "blobs", "sha256")
		return fmt.Sprintf(`"digest":"sha256:%s","size":%d`, sum, len(raw)), errors.Join(os.MkdirAll(at, 0o755), os.WriteFile(filepath.Join(at, sum), raw, 0o644))
	}
	of, err := put([]byte(config))
	if err != nil {
		return err
	}
	const manifestType, mediaType = "application/vnd.oci.image.manifest.v1+json", "application/vnd.example.bench"
	var all []string
	for _, raw := range layers {
		is, err := put(raw)
		if err != nil {
			return err
		}
		all = append(all, fmt.Sprintf(`{"mediaType":%q,%s}`, mediaType, is))
	}
	is, err := put(fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":%q,%s},"layers":[%s]}`, manifestType, mediaType, of, strings.Join(all, ",")))
	if err != nil {
		return err
	}
	return errors.Join(
		os.WriteFile(filepath.Join(folder, "index.json"), fmt.Appendf(nil, `{"schemaVersion":2,"manifests":[{"mediaType":%q,%s}]}`, manifestType, is), 0o644),
		os.WriteFile(filepath.Join(folder, "oci-layout"), []byte(`{"imageLayoutVersion":"1.0.0"}`), 0o644))
}

// get reads an answer whole.
func get(at string) ([]byte, error) {
	answer, err := client.Get(at)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return io.ReadAll(answer.Body)
}

// standing is what is asked of a rule.
type standing struct {
	Due, Places, Conflicting, Copies int64
	Error                            string
}

func standingOf(s *service, rule string) (is standing, err error) {
	answer, err := client.Get(s.address + "/api/v1/replications/" + rule)
	if err != nil {
		return is, err
	}
	defer answer.Body.Close()
	return is, json.NewDecoder(answer.Body).Decode(&is)
}

// rests waits until nothing is due by a rule.
func rests(s *service, rule string) error {
	for {
		is, err := standingOf(s, rule)
		if err != nil || is.Error != "" {
			return errors.Join(err, fmt.Errorf("the rule %s: %s", rule, is.Error))
		}
		if is.Due+is.Places == 0 {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
}

var changeSum = regexp.MustCompile(`(?m)^warthesis_records_change_seconds_(sum|count)\{change="push-manifest"\} (\S+)$`)

// writerTime returns how long changes that take manifests held the writer so far, and how
// many they were.
func writerTime(s *service) (seconds, count float64, err error) {
	raw, err := get(s.address + "/metrics")
	for _, m := range changeSum.FindAllStringSubmatch(string(raw), -1) {
		n, err := strconv.ParseFloat(m[2], 64)
		if err != nil {
			return 0, 0, err
		}
		if m[1] == "sum" {
			seconds = n
		} else {
			count = n
		}
	}
	return seconds, count, err
}

// manyDue lets ten thousand images that share layers become due, and be copied and compared.
func (b *bench) manyDue(near *service, plain *bare) error {
	const manifestType, mediaType = "application/vnd.oci.image.manifest.v1+json", "application/vnd.example.bench"
	layer := bytes.Repeat([]byte("shared"), 10_000)
	digest := fmt.Sprintf("sha256:%x", sha256.Sum256(layer))
	config := []byte("{}")
	configDigest := fmt.Sprintf("sha256:%x", sha256.Sum256(config))
	prepare := func(repository string) error {
		return errors.Join(upload(near.address, repository, digest, bytes.NewReader(layer), int64(len(layer))), upload(near.address, repository, configDigest, bytes.NewReader(config), int64(len(config))))
	}
	tag := func(repository string, i int) error {
		document := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":%q,"digest":%q,"size":%d},"layers":[{"mediaType":%q,"digest":%q,"size":%d}],"annotations":{"number":"%s %d"}}`,
			manifestType, mediaType, configDigest, len(config), mediaType, digest, len(layer), repository, i)
		return put(fmt.Sprintf("%s/v2/%s/manifests/t%d", near.address, repository, i), manifestType, strings.NewReader(document), int64(len(document)))
	}
	// What marking costs the writer: the like in a place that a rule means, and in one that none
	// does, in turn.
	if err := errors.Join(prepare("many/app"), prepare("alone/app"), manage(http.MethodPost, near.address+"/api/v1/replications", `{"name":"many","copy":["many/*"],"to":"slow"}`),
		manage(http.MethodPost, near.address+"/api/v1/replications/many/pause", `{"paused":true}`)); err != nil {
		return err
	}
	turn := func(repository string, from int) (each float64, err error) {
		before, n, err := writerTime(near)
		for j := 0; j < turnTags && err == nil; j++ {
			err = tag(repository, from+j)
		}
		if err != nil {
			return 0, err
		}
		after, m, err := writerTime(near)
		return (after - before) / (m - n), err
	}
	var more, of []float64
	for i := 0; i < dueTags; i += turnTags {
		marked, err := turn("many/app", i)
		if err != nil {
			return err
		}
		if i >= pairedTags {
			continue
		}
		unmarked, err := turn("alone/app", i)
		if err != nil {
			return err
		}
		more, of = append(more, marked-unmarked), append(of, unmarked)
	}
	fmt.Printf("%-42s %8.0f µs more than %.0f µs\n", "writer's time of a push that a rule means", 1e6*middle(more), 1e6*middle(of))
	pid := near.cmd.Process.Pid
	if _, err := peak(pid); err != nil {
		return err
	}
	idle, err := peak(pid)
	if err != nil {
		return err
	}
	began := time.Now()
	if err := errors.Join(manage(http.MethodPost, near.address+"/api/v1/replications/many/pause", `{"paused":false}`), rests(near, "many")); err != nil {
		return err
	}
	first := time.Since(began)
	most, err := peak(pid)
	if err != nil {
		return err
	}
	fmt.Printf("%-42s %8.1f MiB above %.0f MiB idle\n", fmt.Sprintf("peak memory, %d tags due", dueTags), most-idle, idle)
	began = time.Now()
	if err := errors.Join(manage(http.MethodPost, near.address+"/api/v1/replications/many/run", `{}`), rests(near, "many")); err != nil {
		return err
	}
	fmt.Printf("%-42s %8.1f s, again %.1f s\n", fmt.Sprintf("copy %d tags over a line of 20 ms", dueTags), first.Seconds(), time.Since(began).Seconds())
	for rule, peer := range map[string]string{"many": "one of ours", "plain": "a plain one"} {
		if rule == "plain" {
			plain.fill(near, dueTags)
			if err := manage(http.MethodPost, near.address+"/api/v1/replications", `{"name":"plain","copy":["many/*"],"to":"plain","when":"by hand"}`); err != nil {
				return err
			}
		}
		took, says, err := compare(near, rule)
		if err != nil {
			return err
		}
		fmt.Printf("%-42s %8.1f s: %s\n", fmt.Sprintf("drift of %d tags to %s, 20 ms", dueTags, peer), took.Seconds(), says)
	}
	return nil
}

// middle returns the median.
func middle(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// compare compares both sides of a rule.
func compare(s *service, rule string) (took time.Duration, says string, err error) {
	began := time.Now()
	if err := manage(http.MethodPost, s.address+"/api/v1/replications/"+rule+"/drift", `{}`); err != nil {
		return 0, "", err
	}
	for {
		raw, err := get(s.address + "/api/v1/replications/" + rule + "/drift")
		if err != nil {
			return 0, "", err
		}
		var is struct{ State, Says, Error string }
		if err := json.Unmarshal(raw, &is); err != nil {
			return 0, "", err
		}
		if is.State == "done" || is.State == "failed" {
			return time.Since(began), is.Says + is.Error, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// bare is a registry that lists tags and tells what they point to, and no more.
type bare struct {
	address string
	server  *http.Server
	end     func()
	tags    []string
	digests map[string]string
}

// startBare starts one behind a line that takes a time for each way.
func startBare(each time.Duration) (*bare, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &bare{digests: map[string]string{}}
	b.server = &http.Server{Handler: b}
	go func() { _ = b.server.Serve(listener) }()
	b.address, b.end, err = line.Start(listener.Addr().String(), each)
	return b, err
}

func (b *bare) close() {
	b.end()
	b.server.Close()
}

// fill gives it the tags of a registry, but for some: each thousandth is missing, and each
// thousandth but one has another digest.
func (b *bare) fill(s *service, count int) {
	for i := range count {
		name := fmt.Sprintf("t%d", i)
		answer, err := client.Head(s.address + "/v2/many/app/manifests/" + name)
		if err != nil || i%1000 == 7 {
			continue
		}
		answer.Body.Close()
		b.tags = append(b.tags, name)
		b.digests[name] = answer.Header.Get("Docker-Content-Digest")
		if i%1000 == 8 {
			b.digests[name] = fmt.Sprintf("sha256:%064x", i)
		}
	}
	b.tags = append(b.tags, "zz-extra")
	b.digests["zz-extra"] = fmt.Sprintf("sha256:%064x", 1)
}

func (b *bare) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/v2/many/app/tags/list" {
		_ = json.NewEncoder(w).Encode(map[string]any{"name": "many/app", "tags": b.tags})
		return
	}
	if tag, found := strings.CutPrefix(r.URL.Path, "/v2/many/app/manifests/"); found && b.digests[tag] != "" {
		w.Header().Set("Docker-Content-Digest", b.digests[tag])
		w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
		w.Header().Set("Content-Length", "100")
		return
	}
	if r.URL.Path == "/v2/" {
		_, _ = w.Write([]byte("{}"))
		return
	}
	w.WriteHeader(http.StatusNotFound)
}
