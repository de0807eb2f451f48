package main

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"warthesis/internal/oci"
)

// connections is how many keep-alive connections ask for manifests at once.
const connections = 32

// askFor is how long one run of small requests lasts.
const askFor = 2 * time.Second

// config is the one blob of the small images.
var config = []byte("{}")

func manifest(number int) []byte {
	return fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":"application/vnd.oci.empty.v1+json","digest":%q,"size":2},"layers":[],"annotations":{"number":"%d"}}`,
		oci.MediaTypeImage, oci.DigestOf(oci.SHA256, config), number)
}

func (s *service) pushManifest(repository, target string, raw []byte) error {
	return put(s.address+"/v2/"+repository+"/manifests/"+target, oci.MediaTypeImage, bytes.NewReader(raw), int64(len(raw)))
}

// manifests measures HEAD and GET by tag against a bare Gin handler, a process of
// its own, that answers the same bytes from memory.
func (b *bench) manifests() (err error) {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	raw := manifest(0)
	if err := upload(s.address, "bench/small", oci.DigestOf(oci.SHA256, config).String(), bytes.NewReader(config), 2); err != nil {
		return err
	}
	if err := s.pushManifest("bench/small", "latest", raw); err != nil {
		return err
	}
	if err := s.letIn("bench"); err != nil {
		return err
	}
	bearer, err := s.bearer("bench/small")
	if err != nil {
		return err
	}
	bare, stop, err := b.helper("-gin")
	if err != nil {
		return err
	}
	defer stop()
	defer func() {
		if err == nil {
			err = b.rates(fmt.Sprintf("manifest HEAD, bearer token, %d conn., anonymous", connections),
				func() (float64, error) { return ask(s.address, http.MethodHead, bearer) },
				func() (float64, error) { return ask(s.address, http.MethodHead, "") })
		}
	}()
	for _, method := range []string{http.MethodHead, http.MethodGet} {
		ours := func() (float64, error) { return ask(s.address, method, "") }
		yardstick := func() (float64, error) { return ask(bare, method, "") }
		if err := b.rates(fmt.Sprintf("manifest %s by tag, %d conn., bare Gin", method, connections), ours, yardstick); err != nil {
			return err
		}
	}
	return nil
}

// rates is pair for figures where more is better.
func (b *bench) rates(name string, ours, yardstick func() (float64, error)) error {
	var a, y, ratios []float64
	for i := range b.pairs + 1 {
		r1, err := ours()
		if err != nil {
			return err
		}
		r2, err := yardstick()
		if err != nil {
			return err
		}
		if i > 0 {
			a, y, ratios = append(a, r1), append(y, r2), append(ratios, r1/r2)
		}
	}
	fmt.Printf("%-42s %9.0f /s %9.0f /s %8.2f\n", name, median(a), median(y), median(ratios))
	return nil
}

// ask sends one request after the other over each connection and returns the
// answers per second. It speaks just enough HTTP, so that what is measured is
// the other side.
func ask(base, method, bearer string) (float64, error) {
	host := strings.TrimPrefix(base, "http://")
	authorization := ""
	if bearer != "" {
		authorization = "Authorization: Bearer " + bearer + "\r\n"
	}
	request := []byte(method + " /v2/bench/small/manifests/latest HTTP/1.1\r\nHost: " + host + "\r\n" + authorization + "Accept: " + oci.MediaTypeImage + "\r\n\r\n")
	var count atomic.Int64
	errs := make(chan error, connections)
	began := time.Now()
	for range connections {
		go func() { errs <- askOver(host, method, request, began.Add(askFor), &count) }()
	}
	for range connections {
		if err := <-errs; err != nil {
			return 0, err
		}
	}
	return float64(count.Load()) / time.Since(began).Seconds(), nil
}

func askOver(host, method string, request []byte, until time.Time, count *atomic.Int64) error {
	conn, err := net.Dial("tcp", host)
	if err != nil {
		return err
	}
	defer conn.Close()
	answers := bufio.NewReader(conn)
	for time.Now().Before(until) {
		if _, err := conn.Write(request); err != nil {
			return err
		}
		length := 0
		for first := true; ; first = false {
			line, err := answers.ReadSlice('\n')
			if err != nil {
				return err
			}
			if first && !bytes.Contains(line, []byte(" 200 ")) {
				return fmt.Errorf("answered with %s", line)
			}
			if len(line) == 2 {
				break
			}
			if rest, ok := bytes.CutPrefix(line, []byte("Content-Length: ")); ok {
				length, _ = strconv.Atoi(string(bytes.TrimSpace(rest)))
			}
		}
		if method == http.MethodGet {
			if _, err := answers.Discard(length); err != nil {
				return err
			}
		}
		count.Add(1)
	}
	return nil
}

// bareGin is the yardstick for manifests.
func bareGin() error {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	raw := manifest(0)
	digest := oci.DigestOf(oci.SHA256, raw).String()
	answer := func(c *gin.Context) {
		c.Header("Docker-Content-Digest", digest)
		c.Header("ETag", `"`+digest+`"`)
		c.Header("Content-Type", oci.MediaTypeImage)
		c.Header("Content-Length", strconv.Itoa(len(raw)))
		if c.Request.Method == http.MethodHead {
			c.Status(http.StatusOK)
			return
		}
		c.Data(http.StatusOK, oci.MediaTypeImage, raw)
	}
	router.GET("/v2/*path", answer)
	router.HEAD("/v2/*path", answer)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Printf("http://%s\n", listener.Addr())
	return http.Serve(listener, router)
}

// commits prints manifest pushes per second: of many clients, whose commits are
// grouped, beside one client, whose pushes are one commit each.
func (b *bench) commits() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	if err := upload(s.address, "bench/commits", oci.DigestOf(oci.SHA256, config).String(), bytes.NewReader(config), 2); err != nil {
		return err
	}
	var number atomic.Int64
	push := func(clients int) (float64, error) {
		began, before := time.Now(), number.Load()
		var all sync.WaitGroup
		var failed atomic.Value
		for range clients {
			all.Go(func() {
				for time.Since(began) < askFor {
					n := int(number.Add(1))
					if err := s.pushManifest("bench/commits", fmt.Sprintf("t%d", n%100), manifest(n)); err != nil {
						failed.Store(err)
						return
					}
				}
			})
		}
		all.Wait()
		if err, ok := failed.Load().(error); ok {
			return 0, err
		}
		return float64(number.Load()-before) / time.Since(began).Seconds(), nil
	}
	if err := b.rates("manifest pushes, 16 clients, 1 client", func() (float64, error) { return push(16) }, func() (float64, error) { return push(1) }); err != nil {
		return err
	}
	return s.held()
}

// second counts the requests by which the client pushes a second version of an
// image of eight layers, one of which changed.
func (b *bench) second() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	defer s.stop()
	to, err := url.Parse(s.address)
	if err != nil {
		return err
	}
	var mu sync.Mutex
	counts := map[string]int{}
	proxy := httputil.NewSingleHostReverseProxy(to)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer listener.Close()
	go func() {
		_ = http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			what := "blobs"
			if strings.Contains(r.URL.Path, "/manifests/") {
				what = "manifests"
			} else if !strings.Contains(r.URL.Path, "/blobs/") {
				what = "token"
			}
			counts[r.Method+" "+what]++
			mu.Unlock()
			proxy.ServeHTTP(w, r)
		}))
	}()
	logins := filepath.Join(b.folder, "logins.json")
	auth := base64.StdEncoding.EncodeToString([]byte(admin + ":" + password))
	if err := os.WriteFile(logins, fmt.Appendf(nil, `{"auths":{%q:{"auth":%q}}}`, listener.Addr().String(), auth), 0o600); err != nil {
		return err
	}
	for version := range 2 {
		folder := filepath.Join(b.folder, fmt.Sprintf("version-%d", version))
		if err := writeLayout(folder, version); err != nil {
			return err
		}
		mu.Lock()
		clear(counts)
		mu.Unlock()
		push := exec.Command(b.binary, "push", folder, fmt.Sprintf("%s/bench/second:%d", listener.Addr(), version))
		push.Env = append(os.Environ(), "WARTHESIS_CLIENT_LOGIN_FILE="+logins)
		out, err := push.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s", out)
		}
	}
	total := 0
	for _, n := range counts {
		total += n
	}
	fmt.Printf("%-42s %d requests: %v\n", "second version, 1 of 8 layers changed", total, counts)
	return nil
}

// writeLayout writes an image of eight layers, whose last one is the version's own.
func writeLayout(folder string, version int) error {
	put := func(raw []byte) (string, error) {
		d := oci.DigestOf(oci.SHA256, raw)
		at := filepath.Join(folder, "blobs", "sha256", d.Encoded())
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return "", err
		}
		return fmt.Sprintf(`"digest":%q,"size":%d`, d, len(raw)), os.WriteFile(at, raw, 0o644)
	}
	var layers []string
	for i := range 8 {
		own := 0
		if i == 7 {
			own = version
		}
		d, err := put(bytes.Repeat(fmt.Appendf(nil, "layer %d of %d ", i, own), 1000))
		if err != nil {
			return err
		}
		layers = append(layers, `{"mediaType":"`+oci.MediaTypeLayer+`",`+d+`}`)
	}
	config, err := put(fmt.Appendf(nil, `{"os":"linux","architecture":"amd64","version":%d}`, version))
	if err != nil {
		return err
	}
	m, err := put([]byte(`{"schemaVersion":2,"mediaType":"` + oci.MediaTypeImage + `","config":{"mediaType":"` + oci.MediaTypeConfig + `",` + config + `},"layers":[` + strings.Join(layers, ",") + `]}`))
	if err != nil {
		return err
	}
	index := `{"schemaVersion":2,"manifests":[{"mediaType":"` + oci.MediaTypeImage + `",` + m + `}]}`
	return os.WriteFile(filepath.Join(folder, "index.json"), []byte(index), 0o644)
}
