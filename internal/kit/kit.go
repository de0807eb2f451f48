// Package kit lets tests drive the real program: it starts the service on this
// machine with a data folder of its own, stops or kills it, and runs client
// commands against it.
package kit

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// patience is how long a test waits for what should come soon.
const patience = 2 * time.Minute

var build = sync.OnceValues(func() (string, error) {
	if given := os.Getenv("BINARY_UNDER_TEST"); given != "" {
		return given, nil
	}
	folder, err := os.MkdirTemp("", "warthesis-test-")
	if err != nil {
		return "", err
	}
	at := filepath.Join(folder, "warthesis")
	out, err := exec.Command("go", "build", "-o", at, "warthesis/cmd/warthesis").CombinedOutput()
	if err != nil {
		return "", errors.New(string(out))
	}
	return at, nil
})

// Binary returns the program under test: the one that BINARY_UNDER_TEST names, or
// one built for the run.
func Binary(t testing.TB) string {
	at, err := build()
	require.NoError(t, err, "build the program")
	return at
}

// Admin and Password are the account that may do everything.
const (
	Admin    = "admin"
	Password = "correct-horse-battery"
)

// AdminHeader is the Authorization of the admin.
var AdminHeader = "Basic " + base64.StdEncoding.EncodeToString([]byte(Admin+":"+Password))

// home is a folder for the client's files of this run.
var home = sync.OnceValue(func() string {
	folder, err := os.MkdirTemp("", "warthesis-client-")
	if err != nil {
		panic(err)
	}
	return folder
})

// LogInAs keeps a login for the commands of this run.
func LogInAs(t testing.TB, address, account, secret string) {
	loginMu.Lock()
	defer loginMu.Unlock()
	path := filepath.Join(home(), "config.json")
	var file struct {
		Auths map[string]map[string]string `json:"auths"`
	}
	if raw, err := os.ReadFile(path); err == nil {
		require.NoError(t, json.Unmarshal(raw, &file))
	}
	if file.Auths == nil {
		file.Auths = map[string]map[string]string{}
	}
	file.Auths[address] = map[string]string{"auth": base64.StdEncoding.EncodeToString([]byte(account + ":" + secret))}
	raw, err := json.Marshal(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path+".new", raw, 0o600))
	require.NoError(t, os.Rename(path+".new", path))
}

var loginMu sync.Mutex

// endsAtOnce lets a program that was built with the race detector end when it is done,
// and not a second later.
const endsAtOnce = "GORACE=atexit_sleep_ms=0"

// ClientFolder is where the client's commands keep things.
func ClientFolder() string { return home() }

// ClientEnvironment is the environment of the client's commands.
func ClientEnvironment() []string {
	environment := append(os.Environ(), "HOME="+home(), endsAtOnce)
	// A test may have files of its own.
	if os.Getenv("WARTHESIS_CLIENT_LOGIN_FILE") == "" {
		environment = append(environment, "WARTHESIS_CLIENT_LOGIN_FILE="+filepath.Join(home(), "config.json"), "WARTHESIS_CLIENT_FOLDER="+home())
	}
	return environment
}

// Service is a running registry.
type Service struct {
	// Address is host:port.
	Address string
	// Data is its data folder.
	Data string
	// Scheme is http or https.
	Scheme string

	t    testing.TB
	args []string
	// secret is the admin's login: unlike the password it costs no hashing after
	// each start.
	secret string
	cmd    *exec.Cmd
	// place runs what starts the process, nil for just here.
	place func(start func())
	// ended gets what the process ended with, once.
	ended chan error
	log   *buffer
}

// Start runs a registry on a data folder, with more flags where given, and waits
// until it is ready. It ends with the test.
func Start(t testing.TB, data string, more ...string) *Service {
	s := newService(t, data, more)
	s.start("127.0.0.1:0", "WARTHESIS_ADMIN_PASSWORD="+Password)
	s.logIn()
	LogInAs(s.t, s.Address, Admin, s.secret)
	return s
}

// StartAt is Start for a registry that listens on an address, and whose process is started in
// a place.
func StartAt(t testing.TB, listen string, place func(start func()), data string, more ...string) *Service {
	s := newService(t, data, more)
	s.place = place
	s.start(listen, "WARTHESIS_ADMIN_PASSWORD="+Password)
	s.logIn()
	return s
}

// StartAlone is Start for a registry whose first admin the kit does not know.
func StartAlone(t testing.TB, data string, more ...string) *Service {
	s := newService(t, data, more)
	s.start("127.0.0.1:0")
	return s
}

// StartTrial is Start for a registry without logins.
func StartTrial(t testing.TB, data string) *Service {
	s := newService(t, data, []string{"--trial"})
	s.start("127.0.0.1:0")
	return s
}

func newService(t testing.TB, data string, more []string) *Service {
	s := &Service{t: t, Data: data, log: &buffer{}, args: append([]string{"serve", "--data", data, "--free-bytes", "1"}, more...)}
	t.Cleanup(func() {
		s.Kill()
		if t.Failed() {
			log := s.Log()
			t.Logf("the service said at last:\n%s", log[max(0, len(log)-2500):])
		}
	})
	return s
}

var servesAt = regexp.MustCompile(`serves (https?)://(\S+)`)

// unchecked talks to services whose certificates no system knows.
var unchecked = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}

// client returns what the kit itself talks to the service with.
func (s *Service) client() *http.Client {
	if s.Scheme == "https" {
		return unchecked
	}
	return http.DefaultClient
}

func (s *Service) start(listen string, environment ...string) {
	s.log = &buffer{}
	s.cmd = exec.Command(Binary(s.t), append(s.args, "--listen", listen)...)
	s.cmd.Env = append(append(os.Environ(), endsAtOnce), environment...)
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	var err error
	begin := func() { err = s.cmd.Start() }
	if s.place != nil {
		s.place(begin)
	} else {
		begin()
	}
	require.NoError(s.t, err)
	ended := make(chan error, 1)
	cmd := s.cmd
	go func() { ended <- cmd.Wait() }()
	s.ended = ended
	Eventually(s.t, "the service is ready", func() bool {
		if len(ended) > 0 {
			require.FailNow(s.t, "the service ended at its start", s.log.String())
		}
		found := servesAt.FindStringSubmatch(s.log.String())
		if found == nil {
			return false
		}
		s.Scheme, s.Address = found[1], found[2]
		answer, err := s.client().Get(s.URL("/healthz/ready"))
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == http.StatusOK
	}, s.log.String)
}

// logIn gets the admin's login, which outlives restarts.
func (s *Service) logIn() {
	answer, raw := s.Do(http.MethodPost, "/api/v1/tokens", strings.NewReader(`{"name":"the test","login":true}`),
		"Authorization", AdminHeader, "Content-Type", "application/json")
	require.Equal(s.t, http.StatusOK, answer.StatusCode, "%s", raw)
	var made struct{ Secret string }
	require.NoError(s.t, json.Unmarshal(raw, &made))
	s.secret = made.Secret
}

// URL returns an address of the service.
func (s *Service) URL(path string) string { return s.Scheme + "://" + s.Address + path }

// Log returns what the service has written so far.
func (s *Service) Log() string { return s.log.String() }

// Process returns the service's process ID.
func (s *Service) Process() int { return s.cmd.Process.Pid }

// Kill ends the service as a power cut ends a process.
func (s *Service) Kill() {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Kill()
	s.ended <- <-s.ended
}

// Stop asks the service to end, and waits until it has.
func (s *Service) Stop() {
	require.NoError(s.t, s.cmd.Process.Signal(syscall.SIGTERM))
	err := <-s.ended
	s.ended <- err
	require.NoError(s.t, err, "the service ends without an error: %s", s.log)
}

// Restart starts the service again on the same data and address.
func (s *Service) Restart() { s.start(s.Address) }

// RestartOnceWith is Restart with more flags for this one start.
func (s *Service) RestartOnceWith(more ...string) {
	args := s.args
	s.args = append(slices.Clone(args), more...)
	s.start(s.Address)
	s.args = args
}

// RefusesToStart starts the service again, which must refuse, and returns what it said.
func (s *Service) RefusesToStart(more ...string) string {
	cmd := exec.Command(Binary(s.t), append(slices.Clone(s.args), append(more, "--listen", "127.0.0.1:0")...)...)
	cmd.Env = append(os.Environ(), endsAtOnce)
	out, err := cmd.CombinedOutput()
	require.Error(s.t, err, "%s", out)
	return string(out)
}

// Do sends a request to the service and returns the answer with its whole body.
func (s *Service) Do(method, path string, body io.Reader, headers ...string) (*http.Response, []byte) {
	s.t.Helper()
	answer, raw, err := s.Try(method, path, body, headers...)
	require.NoError(s.t, err)
	return answer, raw
}

// Try is Do for requests that may fail. Headers are given as name, value, name,
// value. The request comes from the admin, unless an Authorization is given; an
// empty one is nobody's.
func (s *Service) Try(method, path string, body io.Reader, headers ...string) (*http.Response, []byte, error) {
	request, err := http.NewRequest(method, s.URL(path), body)
	if err != nil {
		return nil, nil, err
	}
	request.Header.Set("Authorization", "Bearer "+s.secret)
	for i := 0; i+1 < len(headers); i += 2 {
		if request.Header.Set(headers[i], headers[i+1]); headers[i+1] == "" {
			request.Header.Del(headers[i])
		}
	}
	answer, err := s.client().Do(request)
	if err != nil {
		return nil, nil, err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	return answer, raw, err
}

// Result is what a command left.
type Result struct {
	Out, Err string
	Code     int
}

// Run runs a client command to its end.
func Run(t testing.TB, args ...string) Result {
	t.Helper()
	return RunWith(t, "", args...)
}

// RunWith is Run with something on standard input.
func RunWith(t testing.TB, input string, args ...string) Result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, Binary(t), args...)
	cmd.Env = ClientEnvironment()
	cmd.Stdin = strings.NewReader(input)
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		require.NoError(t, err)
	}
	return Result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// Must runs a client command that has to succeed, and returns what it printed.
func Must(t testing.TB, args ...string) string {
	t.Helper()
	r := Run(t, args...)
	require.Equal(t, 0, r.Code, "warthesis %s: %s", strings.Join(args, " "), r.Err)
	return r.Out
}

// Eventually waits until a condition holds. explain adds to the message where it does not.
func Eventually(t testing.TB, what string, holds func() bool, explain ...func() string) {
	t.Helper()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if holds() {
			return
		}
	}
	more := ""
	for _, e := range explain {
		more += "\n" + e()
	}
	require.FailNow(t, "waited in vain until "+what, more)
}

// buffer is a bytes.Buffer that a process writes while a test reads.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}
