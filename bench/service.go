package main

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

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

// fileOf returns where content lies below the folder of blobs.
func (s *service) fileOf(digest string) (string, error) {
	hex := strings.TrimPrefix(digest, "sha256:")
	blobs := filepath.Join(s.data, "blobs")
	files, err := filepath.Glob(filepath.Join(blobs, "sha256", hex[:2], hex+"*"))
	if err != nil || len(files) != 1 {
		return "", fmt.Errorf("%d files of %s: %v", len(files), digest, err)
	}
	return strings.TrimPrefix(files[0], blobs), nil
}
