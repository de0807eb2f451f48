package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// examination is a walk along steps that stops at the first that fails.
type examination struct {
	t      term.Terminal
	failed error
}

// step runs one step: what was found, or why not and what to do.
func (e *examination) step(name string, look func() (found string, err error)) {
	if e.failed != nil {
		return
	}
	found, err := look()
	if err != nil {
		fmt.Fprintf(e.t.Out, "✗ %-12s %s\n", name, term.OneLine(err.Error()))
		e.failed = fmt.Errorf("stopped at the step %q", name)
		if code := codeOf(err); code != "" {
			e.failed = oci.Errorf(code, "stopped at the step %q", name)
		}
		return
	}
	fmt.Fprintf(e.t.Out, "✓ %-12s %s\n", name, term.OneLine(found))
}

// codeOf returns the kind of a refusal, for the exit code.
func codeOf(err error) oci.Code {
	var refusal *oci.Error
	if errors.As(err, &refusal) {
		return refusal.Code
	}
	return ""
}

func addDoctor(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var push, here bool
	var file string
	command := &cobra.Command{
		Use: "doctor [REGISTRY | REFERENCE]", GroupID: term.GroupLook, Short: "Walk from here to a registry step by step, and stop where it fails",
		Long: "Walks the way that a pull or a push takes, of any registry: name, port, TLS, API, login, and for a reference whether it may be read\n" +
			"and, with --push, pushed to, which is tried and cancelled. Stops at the first step that fails and says what to do.\n\n" +
			"With --service it examines this machine as the place of a service instead: folder, space, port, certificate, names and clock.",
		Example: "  warthesis doctor registry.larkspur.example:7070\n  warthesis doctor --push localhost:7070/timetable/planner\n  warthesis doctor --service --config warthesis.yaml",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if here {
				return examineService(c, t, file)
			}
			p := site.Place{Registry: site.DefaultRegistry()}
			var ref oci.Reference
			if len(args) > 0 {
				if registry, err := oci.ParseRegistry(args[0]); err == nil {
					p.Registry = registry
				} else if ref, err = site.Reference(args[0]); err != nil {
					return err
				} else {
					p = site.Place{Registry: ref.Registry, Name: ref.Name}
				}
			}
			if p.Registry == "" {
				return term.Usage("name a registry or a reference")
			}
			return examine(c.Context(), r, t, p, ref, push)
		},
	}
	f := command.Flags()
	f.BoolVar(&push, "push", false, "also try whether the repository may be pushed to; nothing is left behind")
	f.BoolVar(&here, "service", false, "examine this machine as the place of a service")
	f.StringVar(&file, configFlag, "", "with --service: the service's configuration")
	root.AddCommand(command)
}

func examine(ctx context.Context, r *site.Remote, t term.Terminal, p site.Place, ref oci.Reference, push bool) error {
	w, err := r.Way(p.Registry)
	if err != nil {
		return err
	}
	client, err := r.Peer(p.Registry)
	if err != nil {
		return err
	}
	e := &examination{t: t}
	e.step("name", func() (string, error) { return lookName(ctx, p.Registry, w) })
	e.step("port", func() (string, error) { return lookPort(ctx, p.Registry, w) })
	e.step("TLS", func() (string, error) { return lookTLS(ctx, p.Registry, w) })
	e.step("API", func() (string, error) { return lookAPI(ctx, w) })
	e.step("login", func() (string, error) { return lookLogin(ctx, r, client, p.Registry) })
	if p.Name == "" {
		return e.failed
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
	return e.failed
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

func lookTLS(ctx context.Context, registry string, w *site.Way) (string, error) {
	if w.Base.Scheme != "https" {
		return "plain HTTP is spoken to this registry: it is on this machine, or --unencrypted was said", nil
	}
	answer, err := ask(ctx, w, "v2/")
	if err != nil {
		return "", sayTLS(registry, err)
	}
	state := answer.TLS
	leaf := state.PeerCertificates[0]
	said := fmt.Sprintf("%s, certificate for %s, signed by %s, good until %s", tls.VersionName(state.Version),
		strings.Join(append(leaf.DNSNames, addresses(leaf)...), ", "), leaf.Issuer.CommonName, leaf.NotAfter.Format(time.DateOnly))
	if w.Registry.TLSClientConfig.InsecureSkipVerify {
		said += " (NOT CHECKED, as was asked for)"
	}
	return said, nil
}

func addresses(c *x509.Certificate) []string {
	var all []string
	for _, ip := range c.IPAddresses {
		all = append(all, ip.String())
	}
	return all
}

// sayTLS says what is wrong with a certificate, and what to do.
func sayTLS(registry string, err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		return fmt.Errorf("the certificate is signed by an authority that this machine does not know (%s). Trust it:  %s trust %s", unknown.Cert.Issuer.CommonName, term.ProgramName(), registry)
	case errors.As(err, &name):
		return fmt.Errorf("the certificate is not for %s but for %s. Use one of those names, or let whoever runs the registry add this one", site.HostOf(registry), strings.Join(append(name.Certificate.DNSNames, addresses(name.Certificate)...), ", "))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return fmt.Errorf("the certificate is good from %s to %s, and this machine's clock says %s. Renew it, or set the clock", invalid.Cert.NotBefore.Format(time.DateTime), invalid.Cert.NotAfter.Format(time.DateTime), time.Now().Format(time.DateTime))
	case errors.As(err, &record), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return fmt.Errorf("what answers does not speak TLS. If plain HTTP is meant, say --unencrypted")
	}
	return fmt.Errorf("no TLS connection comes about: %w", err)
}

func lookAPI(ctx context.Context, w *site.Way) (string, error) {
	answer, err := ask(ctx, w, "v2/")
	if err != nil {
		return "", fmt.Errorf("no answer comes: %w", errors.Unwrap(err))
	}
	if answer.StatusCode == http.StatusBadRequest && w.Base.Scheme == "http" {
		return "", fmt.Errorf("it answers %s to plain HTTP: perhaps it speaks TLS. Trust its certificate:  %s trust %s", answer.Status, term.ProgramName(), w.Base.Host)
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
