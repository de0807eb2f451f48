package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// into runs a command whose standard output is a file.
func into(t *testing.T, out *os.File, args ...string) (said string, code int) {
	var errs bytes.Buffer
	cmd := exec.Command(kit.Binary(t), args...)
	cmd.Env = kit.ClientEnvironment()
	cmd.Stdout, cmd.Stderr = out, &errs
	_ = cmd.Run()
	return errs.String(), cmd.ProcessState.ExitCode()
}

// atTerminal runs a line at a terminal of so many columns, sends keys when the line has
// said something, and returns what was seen and the exit code.
func atTerminal(t *testing.T, columns int, line, until, keys string) (seen string, code int) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	line = fmt.Sprintf("stty rows 40 cols %d; trap : INT; %s", columns, line)
	terminal := exec.CommandContext(ctx, "script", "--quiet", "--return", "--flush", "--command", line, "/dev/null")
	terminal.Env = kit.ClientEnvironment()
	in, err := terminal.StdinPipe()
	require.NoError(t, err)
	out, err := terminal.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, terminal.Start())
	said := make([]byte, 0, 1<<16)
	for until != "" && !strings.Contains(string(said), until) {
		n, err := out.Read(said[len(said):cap(said)])
		said = said[:len(said)+n]
		require.NoError(t, err, "%s", said)
	}
	_, err = io.WriteString(in, keys)
	require.NoError(t, err)
	rest, _ := io.ReadAll(out)
	_ = terminal.Wait()
	return string(said) + string(rest), terminal.ProcessState.ExitCode()
}

// A place is written in one way in every command, and the default registry left out.
func TestPlacesAreWrittenInOneWayEverywhere(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"berths"}`)
	kit.MakeAccount(t, s, "marit")
	layout := kit.NewImage(t, kit.Bytes(91, 1000)).Layout(t)
	host, _, _ := strings.Cut(s.Address, ":")
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, kit.Password, "login", "http://"+s.Address+"/", "--account", kit.Admin, "--from-stdin").Code)
	kit.Must(t, "push", layout, "berths/seatmap:1")
	for _, registry := range []string{"", s.Address, "http://" + s.Address, host} {
		at := func(place string) string { return strings.TrimPrefix(registry+"/"+place, "/") }
		with := func(command []string, args ...string) []string {
			if registry != "" {
				command = append(command, registry)
			}
			return append(command, args...)
		}
		for _, args := range [][]string{
			{"list", at("berths")}, {"list", at("berths/seatmap"), "--wide"}, {"members", at("berths/seatmap")}, {"audit", at("berths")}, {"audit", at("berths/seatmap")},
			{"namespace", "show", at("berths")}, {"repository", "show", at("berths/seatmap")}, {"identify", at("berths/seatmap:1")},
			{"grant", at("berths"), "reader", "marit"}, {"repository", "rename", at("berths/seatmap"), at("berths/other")}, {"repository", "rename", at("berths/other"), "berths/seatmap"},
			with([]string{"account", "show"}, "marit"), with([]string{"group", "show"}, "berths"), with([]string{"group", "add"}, "berths", "marit"),
			with([]string{"token", "make"}, "build "+registry, "--scope", "berths/*:pull"), with([]string{"identity", "list"}), with([]string{"runs", "list"}), with([]string{"settings", "show"}),
			with([]string{"whoami"}), with([]string{"list"}),
		} {
			r := kit.Run(t, args...)
			assert.Equal(t, 0, r.Code, "%v: %s", args, r.Err)
		}
	}
	for says, args := range map[string][]string{
		"does not speak TLS":            {"list", "https://" + s.Address},
		"takes --unencrypted":           {"list", "http://registry.larkspur.example"},
		"by which no registry":          {"list", "ftp://" + s.Address},
		"NAME is missing behind":        {"token", "make", s.Address},
		"ACCOUNT is missing":            {"account", "show"},
		"names more than a registry":    {"account", "show", s.Address + "/berths", "marit"},
		"is no namespace":               {"namespace", "show", "berths/seatmap"},
		"not the whole name":            {"repository", "rename", "berths/seatmap", "seats"},
		"there is no namespace nothing": {"list", "nothing"},
	} {
		r := kit.Run(t, args...)
		assert.Contains(t, r.Err, strings.Replace(says, " behind", "", 1), "%v", args)
		assert.Contains(t, []int{1, 2, 4}, r.Code, "%v", args)
		assert.NotEqual(t, 0, r.Code)
	}
}

func TestWrongUseIsTwoAndSaidInOurWords(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	for _, c := range []struct{ line, says string }{
		{"toke", `there is no command "toke"; is token meant?`}, {"account create x", "is make meant?"}, {"list --outptu json", "is --output meant?"},
		{"list --output xml", `--output is "xml": it is table or json`}, {"list --sort", "--sort needs a value"}, {"runs list --limit many", "it is a whole number from 1 to 1000"},
		{"runs list --state dead", "it is waiting, going, stopped, done or failed"}, {"account change {} x --admin=maybe", "it is true or false"}, {"audit --from yesterday", "no span of time"},
		{"account make {} Bad", "is no name for an account"}, {"grant {}/a king x", `role is "king": it is one of reader, writer, curator, owner`},
		{"identify {}/a/b:1 --whole --output json", "--whole has no effect here"}, {"doctor --config x", "--config has no effect here"}, {"list {} --wide", "--wide has no effect here"},
		{"login {} --company --account x", "--account has no effect here"}, {"list {} --unencrypted --ca x", "say the opposite"}, {"serve --ca x", "there is no flag --ca here"},
		{"account change {} x", "say what is to be changed"}, {"namespace remove {}/a", "there is no namespace a"}, {"logins check /nowhere", "there is no file /nowhere"},
		{"identity make {} r --issuer x --audience a --subject s", "--account is missing"}, {"login {} x", `nothing that "x" could be`},
	} {
		r := kit.Run(t, strings.Fields(strings.ReplaceAll(c.line, "{}", s.Address))...)
		want := 2
		if strings.Contains(c.says, "there is no namespace") {
			want = 4
		}
		assert.Equal(t, want, r.Code, c.line)
		assert.Contains(t, r.Err, c.says, c.line)
		assert.Empty(t, r.Out, c.line)
	}
	// What the service finds wrong is said in our words too.
	answer, raw := s.Do(http.MethodPost, "/api/v1/tokens", strings.NewReader(`{"name":"","days":9999,"more":1}`), "Content-Type", "application/json")
	assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode)
	var problem struct{ Detail string }
	require.NoError(t, json.Unmarshal(raw, &problem))
	for _, says := range []string{"name: it must not be empty", "days: it is at most 3650", "more: there is nothing of this name"} {
		assert.Contains(t, problem.Detail, says)
	}
}

// A write that fails is a command that fails; a secret that nobody got is worth nothing.
func TestWhatCannotBeWrittenFailsAndASecretIsRevoked(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(92, 1000)).Layout(t), s.Address+"/berths/seatmap:1")
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	_, broken, err := os.Pipe()
	require.NoError(t, err)
	at := s.Address
	for _, args := range [][]string{
		{"list", at}, {"list", at + "/berths/seatmap"}, {"identify", at + "/berths/seatmap:1"}, {"show", at + "/berths/seatmap:1"}, {"whoami", at}, {"audit", at, "--output", "json"},
		{"account", "list", at, "--output", "json"}, {"doctor", at}, {"pull", at + "/berths/seatmap:1", "-"}, {"token", "make", at, "gone", "--scope", "*:pull"}, {"pull-secret", at + "/berths"}, {"--help"},
	} {
		said, code := into(t, full, args...)
		assert.Equal(t, 1, code, "%v", args)
		assert.Contains(t, said, "no space left", "%v", args)
	}
	r, _, err := os.Pipe()
	require.NoError(t, err)
	r.Close()
	closed, w, err := os.Pipe()
	require.NoError(t, err)
	closed.Close()
	said, code := into(t, w, "token", "make", at, "gone", "--scope", "*:pull")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "so it was revoked")
	broken.Close()
	assert.NotContains(t, kit.Must(t, "token", "list", at), "gone")
	assert.NotContains(t, kit.Must(t, "token", "list", at), "pull secret")
}

func TestHintsGoToATerminalAloneAndTablesFitIt(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(93, 1000)).Layout(t), s.Address+"/berths/seatmap:1")
	r := kit.Run(t, "account", "make", s.Address, "ci-berths", "--kind", "machine", "--description", strings.Repeat("who builds the seat map ", 5))
	assert.Empty(t, r.Err, "no hint where nobody sits")
	seen, code := atTerminal(t, 60, kit.Binary(t)+" account list "+s.Address+"; "+kit.Binary(t)+" list "+s.Address+"/berths/seatmap", "", "")
	assert.Equal(t, 0, code)
	for line := range strings.SplitSeq(seen, "\n") {
		if !strings.HasPrefix(line, "The addresses to copy") {
			assert.LessOrEqual(t, len([]rune(strings.TrimSpace(line))), 60, "%q", line)
		}
	}
	assert.Contains(t, seen, "The addresses to copy")
	assert.NotContains(t, kit.Must(t, "list", s.Address+"/berths/seatmap"), "The addresses to copy")
	var facts []map[string]any
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "list", s.Address+"/berths/seatmap", "--output", "json")), &facts))
	assert.Equal(t, "admin", facts[0]["moved_by"])
}

// Every question ends at once by Ctrl-C and Ctrl-D, with the terminal as it was.
func TestEveryQuestionEndsByCtrlCAndCtrlD(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(94, 1000)).Layout(t), s.Address+"/berths/seatmap:1")
	for _, key := range []string{"\x03", "\x04"} {
		for line, until := range map[string]string{
			"login {}": "Account at", "login {} --account x": "Password or token:", "account password {} admin": "current password:", "namespace remove {}/berths": "Type yes:",
			"token make {} x --scope *:pull --from-stdin": "Password of your", "trust {}": "",
		} {
			if until == "" {
				continue
			}
			began := time.Now()
			line = strings.ReplaceAll(line, "{}", s.Address)
			seen, code := atTerminal(t, 120, kit.Binary(t)+" "+line+`; code=$?; stty -a | grep -o ' echo '; exit $code`, until, key)
			assert.Equal(t, 1, code, "%s: %s", line, seen)
			assert.Contains(t, seen, " echo ", line)
			assert.Less(t, time.Since(began), 10*time.Second, line)
		}
	}
	seen, code := atTerminal(t, 120, kit.Binary(t)+" account password "+s.Address+" admin", "current password:", kit.Password+"\ranother good one\ranother good one\r")
	assert.Equal(t, 0, code, seen)
	assert.Contains(t, seen, "your other logins and sessions have ended, this one and your tokens go on")
	assert.NotContains(t, seen, "another good one", "what is typed does not show")
	kit.Must(t, "whoami", s.Address)
}

func TestImagesComeAndGoAsStreamsAndToSeveralRegistries(t *testing.T) {
	t.Parallel()
	one, two := kit.Start(t, t.TempDir()), kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(95, 5000))
	kit.Must(t, "push", image.Layout(t), one.Address+"/berths/seatmap:1")
	digest := strings.TrimSpace(kit.Must(t, "identify", one.Address+"/berths/seatmap:1"))
	tar := kit.Must(t, "pull", one.Address+"/berths/seatmap@"+digest, "-", "--name", "1.0.0")
	r := kit.RunWith(t, tar, "push", "-", one.Address+"/berths/copy:1", one.Address+"/berths/copy:2", two.Address+"/seatmap:1", "--output", "json", "--image", "1.0.0")
	require.Equal(t, 0, r.Code, r.Err)
	var report struct {
		Digest     string
		References []string
	}
	require.NoError(t, json.Unmarshal([]byte(r.Out), &report))
	assert.Equal(t, digest, report.Digest)
	assert.Len(t, report.References, 3)
	assert.Contains(t, r.Err, "The push made the namespace seatmap, since a name of one word")
	out := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", two.Address+"/seatmap:1", out)
	kit.SameFiles(t, image, out)
	r = kit.RunWith(t, "no tar", "push", "-", one.Address+"/a/b:1")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "what came on standard input cannot be pushed")
	assert.Equal(t, 2, kit.Run(t, "pull", one.Address+"/berths/seatmap:1", "-", "--output", "json").Code)
}

func TestCompletionComesFromTheRegistryThatIsMeant(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(96, 1000)).Layout(t), s.Address+"/berths/seatmap:1.0.0")
	kit.MakeAccount(t, s, "marit")
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, kit.Password, "login", s.Address, "--account", kit.Admin, "--from-stdin").Code)
	for line, offers := range map[string]string{
		"list be": "berths/", "pull berths/se": "berths/seatmap:", "pull {}/berths/seatmap:1": "{}/berths/seatmap:1.0.0", "account show {} m": "marit", "account show ma": "marit",
		"grant berths w": "writer", "grant berths writer ma": "marit", "runs list --state f": "failed", "token make --account ma": "marit", "namespace show {}/b": "{}/berths",
		"push x berths/seatmap:1": "berths/seatmap:1.0.0",
	} {
		args := strings.Fields(strings.ReplaceAll(line, "{}", s.Address))
		assert.Contains(t, strings.Split(kit.Must(t, append([]string{"__complete"}, args...)...), "\n"), strings.ReplaceAll(offers, "{}", s.Address), line)
	}
	silent := lyingRegistry(t, func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	began := time.Now()
	kit.Must(t, "__complete", "list", silent+"/x")
	assert.Less(t, time.Since(began), 5*time.Second, "soon or not at all")
}

func TestARoleIsNarrowedInOneStepAndMembersShowWhereRolesComeFrom(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	at := s.Address
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"berths"}`)
	for _, name := range []string{"marit", "jun"} {
		kit.MakeAccount(t, s, name)
	}
	kit.Must(t, "grant", at+"/berths", "writer", "marit")
	kit.Must(t, "grant", at, "reader", "jun")
	layout := kit.NewImage(t, kit.Bytes(97, 1000)).Layout(t)
	admin := os.Getenv("WARTHESIS_CLIENT_LOGIN_FILE")
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, kit.MemberPassword, "login", at, "--account", "marit", "--from-stdin").Code)
	kit.Must(t, "push", layout, at+"/berths/seatmap:1", at+"/berths/pricing:1")
	t.Setenv("WARTHESIS_CLIENT_LOGIN_FILE", admin)

	members := kit.Must(t, "members", at+"/berths/seatmap")
	for _, says := range []string{"marit", "group berths", "jun", "registry admin"} {
		assert.Contains(t, members, says)
	}
	narrow := []string{"grant", at + "/berths/seatmap", "writer", "marit", "--instead-of", at + "/berths"}
	r := kit.Run(t, narrow...)
	assert.Equal(t, 2, r.Code, "it asks")
	assert.Contains(t, r.Err, "push     berths/pricing")
	assert.NotContains(t, r.Err, "push     berths/seatmap")
	kit.Must(t, append(narrow, "--yes")...)
	members = kit.Must(t, "members", at+"/berths")
	assert.Contains(t, members, "berths/seatmap")
	assert.Equal(t, 1, strings.Count(members, "marit"), "the wide role is gone: %s", members)
	assert.Equal(t, 4, kit.Run(t, append(narrow, "--yes")...).Code, "and is not taken twice")
	assert.Equal(t, 2, kit.Run(t, "grant", at+"/berths", "writer", "marit", "--instead-of", at+"/berths/seatmap").Code, "narrow is within wide")

	assert.Equal(t, 4, kit.Run(t, "pull-secret", at+"/nothing").Code)
	r = kit.Run(t, "pull-secret", at+"/berths/pricing", "--account", "marit")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "grant "+at+"/berths/pricing reader marit")
	assert.Contains(t, kit.Must(t, "token", "list", at, "--account", "marit"), "login", "and no token is left")
	assert.NotContains(t, kit.Must(t, "token", "list", at, "--account", "marit"), "pull secret")
	assert.Contains(t, kit.Must(t, "pull-secret", at+"/berths/seatmap", at+"/berths"), `"auths"`)
}

func TestATrialTakesEverybodyOnThisMachineAndNobodyElse(t *testing.T) {
	data := t.TempDir()
	kit.OwnClient(t)
	s := kit.StartTrial(t, data)
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(98, 1000)).Layout(t), s.Address+"/first/image:1")
	assert.Contains(t, kit.Must(t, "whoami", s.Address), "the registry is a trial")
	kit.Must(t, "repository", "remove", s.Address+"/first/image", "--yes")
	assert.Contains(t, s.Log(), "THIS IS A TRIAL")
	_, raw := s.Do(http.MethodGet, "/api/v1/service", nil)
	assert.Contains(t, string(raw), `"trial":true`)
	for _, headers := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Origin", "http://elsewhere.example"}} {
		for _, path := range []string{"/v2/a/b/blobs/uploads/", "/api/v1/accounts"} {
			answer, _ := s.Do(http.MethodPost, path, strings.NewReader(`{"name":"x"}`), append(headers, "Content-Type", "text/plain")...)
			assert.Equal(t, http.StatusForbidden, answer.StatusCode, "a page elsewhere does nothing by the browser here: %s", path)
		}
	}
	request, err := http.NewRequest(http.MethodGet, s.URL("/v2/_catalog"), nil)
	require.NoError(t, err)
	request.Host = "rebound.example"
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	s.Stop()

	r := kit.Run(t, "serve", "--data", data, "--listen", "127.0.0.1:0")
	assert.Equal(t, 1, r.Code, "who could do everything is believed no more")
	assert.Contains(t, r.Err, "is a trial's")
	real := kit.Start(t, t.TempDir())
	real.Stop()
	r = kit.Run(t, "serve", "--trial", "--data", real.Data, "--listen", "127.0.0.1:0")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "registry with logins")
	for _, more := range []string{"--listen=0.0.0.0:0", "--private-authority", "--outside-addresses=https://x.example"} {
		assert.Equal(t, 2, kit.Run(t, "serve", "--trial", "--data", t.TempDir(), more).Code, more)
	}
}
