// Command bench measures the service against yardsticks on the same machine and
// prints ratios: medians of interleaved pairs, so that what else the machine does
// meets both sides alike.
package main

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

const mib = 1 << 20

func main() {
	binary := flag.String("binary", "bin/warthesis", "the program to measure")
	pairs := flag.Int("pairs", 5, "pairs of runs for each figure")
	size := flag.Int("size", 512, "size of the blob in MiB")
	large := flag.Int("large", 4096, "size in MiB of the blob by which memory is measured")
	only := flag.String("only", "", "measure only what has this in its name")
	receiver := flag.String("receiver", "", "be the bare receiver, writing to this folder")
	bare := flag.Bool("gin", false, "be the bare Gin handler")
	flag.Parse()
	if *bare {
		log.Fatal(bareGin())
	}
	if *receiver != "" {
		log.Fatal(receive(*receiver))
	}
	b := &bench{binary: *binary, pairs: *pairs, size: *size * mib, large: int64(*large) * mib, only: *only}
	if err := b.run(); err != nil {
		log.Fatal(err)
	}
}

type bench struct {
	binary string
	pairs  int
	size   int
	large  int64
	only   string
	folder string
	block  []byte
	count  uint64
}

func (b *bench) run() error {
	var err error
	if b.folder, err = os.MkdirTemp("", "warthesis-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.folder)
	b.block = randomBytes(b.size)
	fmt.Printf("%-42s %12s %12s %8s\n", "", "warthesis", "yardstick", "ratio")
	for _, part := range []struct {
		name string
		do   func() error
	}{
		{"hash", b.hash}, {"pull", b.pull}, {"push", b.push}, {"tls", b.pullTLS}, {"manifests", b.manifests}, {"logins", b.logins}, {"commits", b.commits},
		{"second", b.second}, {"scale", b.scale}, {"memory", b.memory},
	} {
		if !strings.Contains(part.name, b.only) {
			continue
		}
		if err := part.do(); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

func randomBytes(n int) []byte {
	p := make([]byte, n)
	chacha := rand.NewChaCha8([32]byte{7})
	_, _ = chacha.Read(p)
	return p
}

// fresh changes the block, so that no two pushes have one digest, and returns that.
func (b *bench) fresh() string {
	b.count++
	copy(b.block, strconv.FormatUint(b.count, 10)+"                ")
	return fmt.Sprintf("sha256:%x", sha256.Sum256(b.block))
}

// pair runs both sides in turn and prints the medians and their ratio. The runs
// return seconds.
func (b *bench) pair(name string, bytes float64, ours, yardstick func() (time.Duration, error)) error {
	var a, y, ratios []float64
	for i := range b.pairs + 1 {
		first, second := ours, yardstick
		if i%2 == 1 {
			first, second = yardstick, ours
		}
		t1, err := first()
		if err != nil {
			return err
		}
		t2, err := second()
		if err != nil {
			return err
		}
		if i%2 == 1 {
			t1, t2 = t2, t1
		}
		// The first pair warms caches and is not counted.
		if i > 0 {
			a, y, ratios = append(a, bytes/mib/t1.Seconds()), append(y, bytes/mib/t2.Seconds()), append(ratios, t2.Seconds()/t1.Seconds())
		}
	}
	fmt.Printf("%-42s %7.0f MiB/s %6.0f MiB/s %8.2f\n", name, median(a), median(y), median(ratios))
	return nil
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// hash prints the wall for pushes.
func (b *bench) hash() error {
	began := time.Now()
	sha256.Sum256(b.block)
	fmt.Printf("%-42s %12s %6.0f MiB/s\n", "sha256 of one core", "", float64(b.size)/mib/time.Since(began).Seconds())
	return nil
}

// service is a running registry under measurement.
type service struct {
	address, data string
	cmd           *exec.Cmd
}

func (b *bench) start(more ...string) (*service, error) {
	data, err := os.MkdirTemp(b.folder, "data-")
	if err != nil {
		return nil, err
	}
	return b.startOn(data, more...)
}

// admin is the account that may do everything, and its password.
const admin, password = "admin", "of-the-bench-alone"

func (b *bench) startOn(data string, more ...string) (*service, error) {
	cmd := exec.Command(b.binary, append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0"}, more...)...)
	cmd.Env = append(os.Environ(), "WARTHESIS_ADMIN_PASSWORD="+password)
	cmd.Stderr = io.Discard
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return nil, fmt.Errorf("the service does not start: %w", err)
	}
	return &service{strings.Fields(line)[2], data, cmd}, nil
}

func (s *service) kill() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

func (s *service) stop() {
	s.kill()
	os.RemoveAll(s.data)
}

var client = &http.Client{Transport: asAdmin{newTransport()}}

func newTransport() *http.Transport {
	return &http.Transport{
		MaxIdleConnsPerHost: 64, WriteBufferSize: mib, ReadBufferSize: mib, DisableCompression: true,
		// What is measured is no trust.
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
	}
}

// asAdmin lets requests come from the admin; a yardstick passes the header over.
type asAdmin struct{ http.RoundTripper }

func (a asAdmin) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	if r.Header.Get("Authorization") == "" {
		r.SetBasicAuth(admin, password)
	}
	return a.RoundTripper.RoundTrip(r)
}

// upload pushes the body as the client does: a session, then one PUT.
func upload(base, repository, digest string, body io.Reader, length int64) error {
	answer, err := client.Post(base+"/v2/"+repository+"/blobs/uploads/", "", nil)
	if err != nil {
		return err
	}
	answer.Body.Close()
	at, err := answer.Request.URL.Parse(answer.Header.Get("Location"))
	if err != nil {
		return err
	}
	at.RawQuery = url.Values{"digest": {digest}}.Encode()
	return put(at.String(), "application/octet-stream", body, length)
}

func put(at, mediaType string, body io.Reader, length int64) error {
	request, err := http.NewRequest(http.MethodPut, at, body)
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", mediaType)
	request.ContentLength = length
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusCreated {
		said, _ := io.ReadAll(answer.Body)
		return fmt.Errorf("%s: %s", answer.Status, said)
	}
	return nil
}

func download(at string, want int64) (time.Duration, error) {
	return downloadBy(client, at, want)
}

func downloadBy(client *http.Client, at string, want int64) (time.Duration, error) {
	began := time.Now()
	answer, err := client.Get(at)
	if err != nil {
		return 0, err
	}
	defer answer.Body.Close()
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, answer.Body, make([]byte, mib))
	if err == nil && (n != want || answer.StatusCode != http.StatusOK) {
		err = fmt.Errorf("%s: %d of %d bytes", answer.Status, n, want)
	}
	return time.Since(began), err
}

// pull measures against nginx serving the very file.
func (b *bench) pull() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	digest := b.fresh()
	if err := upload(s.address, "bench/pull", digest, bytesReader(b.block), int64(b.size)); err != nil {
		return err
	}
	nginx, stop, err := b.nginx(filepath.Join(s.data, "blobs"), "")
	if err != nil {
		return err
	}
	defer stop()
	hex := strings.TrimPrefix(digest, "sha256:")
	for _, connections := range []int{1, 16} {
		fetch := func(at string) func() (time.Duration, error) {
			return func() (time.Duration, error) {
				return together(connections, func(int) error { _, err := download(at, int64(b.size)); return err })
			}
		}
		err := b.pair(fmt.Sprintf("pull %d MiB, %d conn., nginx", b.size/mib, connections), float64(connections*b.size),
			fetch(s.address+"/v2/bench/pull/blobs/"+digest), fetch(nginx+"/sha256/"+hex[:2]+"/"+hex))
		if err != nil {
			return err
		}
	}
	return nil
}

// together runs something several times at once and returns how long all took.
func together(times int, do func(int) error) (time.Duration, error) {
	errs := make(chan error, times)
	began := time.Now()
	for i := range times {
		go func() { errs <- do(i) }()
	}
	for range times {
		if err := <-errs; err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}

// nginx serves a folder; with a pair of files, certificate:key, over TLS.
func (b *bench) nginx(root, pair string) (string, func(), error) {
	scheme, listen := "http", ""
	if certificate, key, found := strings.Cut(pair, ":"); found {
		scheme, listen = "https", fmt.Sprintf(" ssl http2; ssl_certificate %s; ssl_certificate_key %s; ssl_protocols TLSv1.2 TLSv1.3", certificate, key)
	}
	port, err := freePort()
	if err != nil {
		return "", nil, err
	}
	folder, err := os.MkdirTemp(b.folder, "nginx-")
	if err != nil {
		return "", nil, err
	}
	settings := fmt.Sprintf("daemon off; user root; worker_processes auto; pid %[1]s/pid; error_log %[1]s/error.log;\nevents {}\n"+
		"http { access_log off; sendfile on; tcp_nopush on; default_type application/octet-stream;\n"+
		"client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\n"+
		"server { listen 127.0.0.1:%[2]d%[4]s; root %[3]s; } }\n", folder, port, root, listen)
	file := filepath.Join(folder, "nginx.conf")
	if err := os.WriteFile(file, []byte(settings), 0o644); err != nil {
		return "", nil, err
	}
	cmd := exec.Command("nginx", "-c", file)
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop := func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }
	return fmt.Sprintf("%s://127.0.0.1:%d", scheme, port), stop, waitFor(port)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func waitFor(port int) error {
	for range 200 {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return c.Close()
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("nothing answers on port %d", port)
}

// push measures against the bare receiver, a process of its own.
func (b *bench) push() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	folder, err := os.MkdirTemp(b.folder, "bare-")
	if err != nil {
		return err
	}
	bare, stop, err := b.helper("-receiver", folder)
	if err != nil {
		return err
	}
	defer stop()
	err = b.pair(fmt.Sprintf("push %d MiB, 1 stream, bare receiver", b.size/mib), float64(b.size),
		func() (time.Duration, error) {
			digest := b.fresh()
			began := time.Now()
			err := upload(s.address, "bench/push", digest, bytesReader(b.block), int64(b.size))
			return time.Since(began), err
		},
		func() (time.Duration, error) {
			b.fresh()
			began := time.Now()
			err := put(bare+"/", "application/octet-stream", bytesReader(b.block), int64(b.size))
			return time.Since(began), err
		})
	if err != nil {
		return err
	}
	const streams = 8
	part := b.size / streams
	piece := func(i int) []byte { return b.block[i*part : (i+1)*part] }
	return b.pair(fmt.Sprintf("push %d x %d MiB, bare receiver", streams, part/mib), float64(b.size),
		func() (time.Duration, error) {
			var digests [streams]string
			for i := range digests {
				b.count++
				copy(piece(i), strconv.FormatUint(b.count, 10)+"                ")
				digests[i] = fmt.Sprintf("sha256:%x", sha256.Sum256(piece(i)))
			}
			return together(streams, func(i int) error {
				return upload(s.address, "bench/push", digests[i], bytesReader(piece(i)), int64(part))
			})
		},
		func() (time.Duration, error) {
			return together(streams, func(i int) error {
				return put(bare+"/", "application/octet-stream", bytesReader(piece(i)), int64(part))
			})
		})
}

// helper starts this program as one of the yardsticks and returns its address.
func (b *bench) helper(args ...string) (string, func(), error) {
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	cmd := exec.Command(self, args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return strings.TrimSpace(line), func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }, err
}

// memory prints the peak above idle while a blob far larger passes in and out.
func (b *bench) memory() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	// One small round first, so that idle means a service that has worked before.
	if err := upload(s.address, "bench/memory", b.fresh(), bytesReader(b.block), int64(b.size)); err != nil {
		return err
	}
	blob := func() io.Reader { return &repeated{block: b.block, length: b.large} }
	h := sha256.New()
	if _, err := io.Copy(h, blob()); err != nil {
		return err
	}
	digest := fmt.Sprintf("sha256:%x", h.Sum(nil))
	if _, err := peak(s.cmd.Process.Pid); err != nil {
		return err
	}
	idle, err := peak(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	if err := upload(s.address, "bench/memory", digest, blob(), b.large); err != nil {
		return err
	}
	if _, err := download(s.address+"/v2/bench/memory/blobs/"+digest, b.large); err != nil {
		return err
	}
	most, err := peak(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	fmt.Printf("%-42s %8.1f MiB above %.0f MiB idle\n", fmt.Sprintf("peak memory, %d MiB in and out", b.large/mib), most-idle, idle)
	return nil
}

// peak returns the process's peak of resident memory in MiB since it was last
// asked, and starts anew.
func peak(pid int) (float64, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			if err != nil {
				return 0, err
			}
			return kib / 1024, os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0o200)
		}
	}
	return 0, fmt.Errorf("the kernel does not tell the peak memory")
}

// repeated is a block over and over, up to a length.
type repeated struct {
	block      []byte
	at, length int64
}

func (r *repeated) Read(p []byte) (int, error) {
	if r.at == r.length {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), r.length-r.at)]
	n := copy(p, r.block[r.at%int64(len(r.block)):])
	r.at += int64(n)
	return n, nil
}
