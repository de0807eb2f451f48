package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// stepFound is what one step of an examination found.
type stepFound struct {
	Step string `json:"step"`
	Well bool   `json:"well"`
	Says string `json:"says"`
}

// examination is a walk along steps that stops at the first that fails.
type examination struct {
	c      *site.Call
	steps  []stepFound
	failed error
}

// step runs one step: what was found, or why not and what to do.
func (e *examination) step(name string, look func() (found string, err error)) {
	if e.failed != nil {
		return
	}
	found, err := look()
	mark := "✓"
	if err != nil {
		mark, found = "✗", err.Error()
		e.failed = term.NotRight("stopped at the step %q", name)
	}
	found = term.OneLine(found)
	e.steps = append(e.steps, stepFound{name, err == nil, found})
	if !e.c.JSON() {
		e.c.T.Say("%s %-12s %s", mark, name, found)
	}
}

// end tells what was found to scripts, and fails where a step did.
func (e *examination) end() error {
	if err := e.c.Tell(e.steps, func() {}); err != nil {
		return err
	}
	return e.failed
}

func doctorCommand() site.Command {
	var push, here bool
	var file string
	return site.Command{
		Name: "doctor", Group: term.GroupLook, Short: "Walk from here to a registry step by step, and stop where it fails",
		Long: "Walks the way that a pull or a push takes, of any registry: name, port, TLS, API, login, and for a repository or an image whether it may be\n" +
			"read and, with --push, pushed to, which is tried and cancelled. Stops at the first step that fails and says what to do.\n\n" +
			"With --service it examines this machine as the place of a service instead: folder, space, port, certificate, names and clock.",
		Example: "  warthesis doctor registry.larkspur.example:7070\n  warthesis doctor --push localhost:7070/timetable/planner\n  warthesis doctor --service --config warthesis.yaml",
		On:      site.OnAny, Args: []site.Arg{{Name: "REGISTRY | REFERENCE", Optional: true, Image: true}}, Facts: []stepFound{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&push, "push", false, "also try whether the repository may be pushed to; nothing is left behind")
			f.BoolVar(&here, "service", false, "examine this machine as the place of a service")
			f.StringVar(&file, configFlag, "", "with --service: the service's configuration")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if here {
				if len(c.Args) > 0 {
					return term.Usage("--service examines this machine; leave %s out", c.Args[0])
				}
				if err := c.Idle("--service examines this machine", "push", "unencrypted", "ca", "login-file"); err != nil {
					return err
				}
				return examineService(ctx, c, file)
			}
			if err := c.Idle("it is for --service", configFlag); err != nil {
				return err
			}
			p, ref, err := doctorPlace(c)
			if err != nil {
				return err
			}
			if p.Name == "" {
				if err := c.Idle("name the repository that is to be pushed to", "push"); err != nil {
					return err
				}
			}
			return examine(ctx, c, p, ref, push)
		},
	}
}

// doctorPlace reads what is to be examined: exactly what was written.
func doctorPlace(c *site.Call) (p site.Place, ref oci.Reference, err error) {
	p.Registry = c.R.DefaultRegistry()
	if len(c.Args) > 0 {
		if p.Registry, err = c.R.ExactRegistry(c.Args[0]); err != nil {
			ref, err = c.R.Reference(c.Args[0])
			p = site.Place{Registry: ref.Registry, Name: ref.Name}
		}
	}
	if err == nil && p.Registry == "" {
		err = term.Usage("name a registry or a reference")
	}
	return p, ref, err
}

func examine(ctx context.Context, c *site.Call, p site.Place, ref oci.Reference, push bool) error {
	w, err := c.R.Way(p.Registry)
	if err != nil {
		return err
	}
	client, err := c.R.Peer(p.Registry)
	if err != nil {
		return err
	}
	e := &examination{c: c}
	e.step("name", func() (string, error) { return lookName(ctx, p.Registry, w) })
	e.step("port", func() (string, error) { return lookPort(ctx, p.Registry, w) })
	e.step("TLS", func() (string, error) { return lookTLS(ctx, w) })
	e.step("API", func() (string, error) { return lookAPI(ctx, w) })
	e.step("login", func() (string, error) { return lookLogin(ctx, c.R, client, p.Registry) })
	if p.Name == "" {
		return e.end()
	}
	e.step("read", func() (string, error) {
		found, err := lookRead(ctx, client, p.Name, ref)
		if push && ref.Target() == "" && errors.Is(err, oci.CodeNameUnknown) {
			return fmt.Sprintf("%s is not there, or not for you to know of; a push may make it", p.Name), nil
		}
		return found, err
	})
	if push {
		e.step("push", func() (string, error) {
			if err := client.TryUpload(ctx, p.Name); err != nil {
				return "", err
			}
			return fmt.Sprintf("%s may be pushed to (an upload was begun and cancelled)", p.Name), nil
		})
	}
	return e.end()
}

func lookName(ctx context.Context, registry string, w *site.Way) (string, error) {
	host := site.HostOf(registry)
	if ip := net.ParseIP(host); ip != nil {
		return host + " is an address; there is no name to look up", nil
	}
	if proxied := w.Proxy(); proxied != nil {
		return fmt.Sprintf("%s is looked up by the proxy %s", host, proxied.Host), nil
	}
	found, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil {
		return "", fmt.Errorf("%s cannot be looked up: %w. Is it written right? Does this machine ask the right name server?", host, err)
	}
	return fmt.Sprintf("%s is %s", host, strings.Join(found, ", ")), nil
}

func lookPort(ctx context.Context, registry string, w *site.Way) (string, error) {
	proxied := w.Proxy()
	at, through := site.WithPort(registry, site.PortOf(w.Base.Scheme)), ""
	if proxied != nil {
		// Nothing but the proxy can be reached from here, as far as anybody knows.
		at, through = site.WithPort(proxied.Host, site.PortOf(proxied.Scheme)), "the proxy of the environment, "
	}
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", at)
	if err != nil && proxied != nil {
		return "", fmt.Errorf("%s%s, does not answer: %w. Are HTTPS_PROXY, HTTP_PROXY and NO_PROXY right?", through, at, err)
	}
	if err != nil {
		return "", fmt.Errorf("nothing answers at %s: %w. Does the service run, is the port right (a registry's address has it), does a firewall stand between?", at, err)
	}
	if proxied != nil {
		return through + at + ", answers", conn.Close()
	}
	return "something answers at " + at, conn.Close()
}

// ask sends a request on the way to the registry, and returns the answer's head.
func ask(ctx context.Context, w *site.Way, path string) (*http.Response, error) {
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Base.JoinPath(path).String(), nil)
	if err != nil {
		return nil, err
	}
	answer, err := w.Client(30 * time.Second).Do(call)
	if err != nil {
		return nil, err
	}
	return answer, answer.Body.Close()
}

func lookTLS(ctx context.Context, w *site.Way) (string, error) {
	answer, err := ask(ctx, w, "v2/")
	if errors.Is(err, oci.CodeDistrusted) {
		return "", bare(err)
	}
	if w.Base.Scheme != "https" {
		return "plain HTTP is spoken to this registry: it is on this machine, or --unencrypted was said", nil
	}
	if err != nil {
		return "", fmt.Errorf("no TLS connection comes about: %w", bare(err))
	}
	state := answer.TLS
	leaf := state.PeerCertificates[0]
	said := fmt.Sprintf("%s, certificate for %s, signed by %s, good until %s", tls.VersionName(state.Version),
		strings.Join(site.Certified(leaf), ", "), leaf.Issuer.CommonName, leaf.NotAfter.Format(time.DateOnly))
	if w.Registry.TLSClientConfig.InsecureSkipVerify {
		said += " (NOT CHECKED, as was asked for)"
	}
	return said, nil
}

// bare takes from an error which request it was of.
func bare(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

func lookAPI(ctx context.Context, w *site.Way) (string, error) {
	answer, err := ask(ctx, w, "v2/")
	if err != nil {
		return "", fmt.Errorf("no answer comes: %w", bare(err))
	}
	if answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusUnauthorized {
		return "", fmt.Errorf("it answers %s at /v2/, and so is no registry; is the address right, and the port?", answer.Status)
	}
	skew := ""
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		if off := time.Since(at).Round(time.Second); off.Abs() > time.Minute {
			skew = fmt.Sprintf("; its clock and this one differ by %s", off.Abs())
		}
	}
	return "it is a registry" + skew, nil
}

func lookLogin(ctx context.Context, r *site.Remote, client *peer.Client, registry string) (string, error) {
	file, err := login.Open(r.Place())
	if err != nil {
		return "", err
	}
	found, err := file.Find(ctx, registry)
	if err != nil {
		return "", err
	}
	if found.Empty() {
		misses := strings.Join(append([]string{""}, file.NearMisses(registry)...), "; ")
		if client.Check(ctx) == nil {
			return fmt.Sprintf("there is none in %s%s; the registry lets anybody in as far as it lets them", file.Path, misses), nil
		}
		return "", oci.Errorf(oci.CodeUnauthorized, "not logged in: %s has no entry for %s%s. Log in:  %s login %s", file.Path, registry, misses, term.ProgramName(), registry)
	}
	if err := client.Check(ctx); err != nil {
		return "", err
	}
	said := fmt.Sprintf("as %s, by %s", found.Account, found.From)
	for _, realm := range client.Realms() {
		// Where a login goes besides the registry is worth knowing.
		if u, err := url.Parse(realm); err == nil && u.Host != registry {
			said += fmt.Sprintf("; the registry has tokens fetched at %s, which gets the login", u.Host)
		}
	}
	return said, nil
}

func lookRead(ctx context.Context, client *peer.Client, name oci.Name, ref oci.Reference) (string, error) {
	if target := ref.Target(); target != "" {
		d, err := client.Resolve(ctx, name, target)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s is there: %s", ref, d.Digest), nil
	}
	tags, err := client.SomeTags(ctx, name)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s may be read; it has tags such as %s", name, term.OrDash(strings.Join(tags, ", "))), nil
}
