package main

import (
	"bufio"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

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

// download pulls what has so many bytes; below zero it is not known how many.
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
	if err == nil && (want >= 0 && n != want || answer.StatusCode != http.StatusOK) {
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
	file, err := s.fileOf(digest)
	if err != nil {
		return err
	}
	for _, connections := range []int{1, 16} {
		fetch := func(at string) func() (time.Duration, error) {
			return func() (time.Duration, error) {
				return together(connections, func(int) error { _, err := download(at, int64(b.size)); return err })
			}
		}
		err := b.pair(fmt.Sprintf("pull %d MiB, %d conn., nginx", b.size/mib, connections), float64(connections*b.size),
			fetch(s.address+"/v2/bench/pull/blobs/"+digest), fetch(nginx+file))
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
