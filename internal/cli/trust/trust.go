package trust

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/authority"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// trusted is how a registry is trusted from now on.
type trusted struct {
	Registry    string `json:"registry"`
	Signer      string `json:"signer,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	Unverified  bool   `json:"unverified"`
}

func trustCommand() site.Command {
	var fingerprint string
	var unverified, verified bool
	return site.Command{
		Name: "trust", Group: term.GroupRun, Short: "Trust a registry's own certificate authority",
		Long: "Fetches the certificate of the authority that signs the registry's, shows its fingerprint, to be compared with the one that the\n" +
			"registry printed when it started, and keeps it for this client. Tells which file goes where for container engines and clusters.",
		Example: "  warthesis trust registry.larkspur.example:7070\n  warthesis trust registry.larkspur.example:7070 --fingerprint 4F:0A:…",
		On:      site.OnAny, Args: []site.Arg{{Name: "REGISTRY"}}, Facts: trusted{}, Checks: true, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&fingerprint, "fingerprint", "", "the fingerprint that the registry printed; with it nothing is asked")
			f.BoolVar(&unverified, "unverified", false, "do not check this registry's certificate at all; every command then warns")
			f.BoolVar(&verified, "verified", false, "check this registry's certificate by the system's authorities again, and forget what was trusted besides")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			registry, err := c.R.ExactRegistry(c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Idle("a certificate is fetched unchecked, and compared by its fingerprint", "unencrypted", "ca", "client-certificate", "client-key", "login-file"); err != nil {
				return err
			}
			ways := 0
			for _, flag := range []string{"fingerprint", "unverified", "verified"} {
				if c.Given(flag) {
					ways++
				}
			}
			if ways > 1 {
				return term.Usage("--fingerprint, --unverified and --verified are three ways to trust; give one of them")
			}
			// Whether they fit each other is found out before anything is kept.
			shown, err := c.R.Shown()
			if err != nil {
				return err
			}
			switch {
			case unverified:
				return trustAnything(ctx, c, registry)
			case verified:
				if err := trustHost(ctx, c, registry, login.Host{}); err != nil {
					return err
				}
				return c.Tell(trusted{Registry: registry}, func() {
					c.T.Say("The certificate of %s is checked by the system's authorities from now on", registry)
				})
			}
			return trust(ctx, c, registry, fingerprint, shown)
		},
	}
}

// trustHost keeps how a registry is trusted, with the client certificate that was named; an
// empty host is by the system alone.
func trustHost(ctx context.Context, c *site.Call, registry string, host login.Host) (err error) {
	if c.R.ClientCertificate != "" {
		if host.ClientCertificate, err = filepath.Abs(c.R.ClientCertificate); err == nil {
			host.ClientKey, err = filepath.Abs(c.R.ClientKey)
		}
		if err != nil {
			return err
		}
	}
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return err
	}
	return hosts.Change(ctx, func(now *login.Hosts) {
		delete(now.Known, registry)
		if host != (login.Host{}) {
			now.Known[registry] = host
		}
	})
}

func trustAnything(ctx context.Context, c *site.Call, registry string) error {
	if err := trustHost(ctx, c, registry, login.Host{Unverified: true}); err != nil {
		return err
	}
	c.T.Warn("WARNING: the certificate of %s is not checked from now on. Whoever is on the way can read and change what passes, logins included.\n"+
		"Check it again:  %s trust --verified %s", registry, term.ProgramName(), registry)
	return c.Tell(trusted{Registry: registry, Unverified: true}, func() {})
}

func trust(ctx context.Context, c *site.Call, registry, expected string, shown []tls.Certificate) error {
	certificate, err := fetchAuthority(ctx, registry, shown)
	if err != nil {
		return err
	}
	found := authority.Fingerprint(certificate.Raw)
	signer := term.OneLine(certificate.Subject.CommonName)
	if !c.JSON() {
		c.T.Say("%s is signed by: %s, good until %s\nFingerprint (SHA-256):\n  %s", registry, signer, certificate.NotAfter.Format(time.DateOnly), found)
	}
	if expected != "" && !strings.EqualFold(strings.ReplaceAll(expected, ":", ""), strings.ReplaceAll(found, ":", "")) {
		return term.NotRight("that is not the fingerprint you gave, so it is not trusted; somebody else may be answering for %s", registry)
	}
	if expected == "" && !term.AsksSomebody() {
		return term.Usage("compare it with the one that the registry printed when it started, and give that as --fingerprint: there is no terminal to ask at")
	}
	if expected == "" {
		if err := c.Confirm(ctx, "Is it the fingerprint that the registry printed when it started?"); err != nil {
			return err
		}
	}
	if err := answersBy(ctx, registry, certificate, shown); err != nil {
		return err
	}
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return err
	}
	file := filepath.Join(hosts.Folder(), strings.ReplaceAll(registry, ":", "_")+".pem")
	// The certificate that was compared, and not a byte more.
	if err := login.WriteSecret(file, pem.EncodeToMemory(&pem.Block{Type: pemCertificate, Bytes: certificate.Raw})); err != nil {
		return err
	}
	if err := trustHost(ctx, c, registry, login.Host{Authority: file}); err != nil {
		return err
	}
	return c.Tell(trusted{Registry: registry, Signer: signer, Fingerprint: found, Certificate: file}, func() { sayWhereItGoes(c.T, registry, file) })
}

// sayWhereItGoes tells which file goes where on other machines and for other tools.
func sayWhereItGoes(t term.Terminal, registry, file string) {
	name := strings.ReplaceAll(registry, ":", "-")
	fmt.Fprintf(t.Out, `
Trusted, for this client. The certificate is in  %[1]s
For others, put that file here:

  this laptop, all programs   /usr/local/share/ca-certificates/%[2]s.crt   then run  update-ca-certificates
  container engine            /etc/docker/certs.d/%[3]s/ca.crt   or   /etc/containers/certs.d/%[3]s/ca.crt
  cluster node                /etc/containerd/certs.d/%[3]s/ca.crt, and beside it hosts.toml with the lines
                                server = "https://%[3]s"
                                ca = "ca.crt"
`, file, name, registry)
}

// trustPatience is how long a question about a certificate may take.
const trustPatience = 30 * time.Second

// pemCertificate is the type of a PEM block that holds a certificate (RFC 7468).
const pemCertificate = "CERTIFICATE"

// fetchAuthority fetches the certificate of a registry's authority: unchecked, since it
// cannot be checked yet, and people compare the fingerprint. Exactly one certificate,
// and that of an authority, will do.
func fetchAuthority(ctx context.Context, registry string, shown []tls.Certificate) (*x509.Certificate, error) {
	base := &url.URL{Scheme: "https", Host: registry}
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, base.JoinPath(site.AuthorityPath).String(), nil)
	if err != nil {
		return nil, err
	}
	answer, err := site.NewWay(base, &tls.Config{}, &tls.Config{InsecureSkipVerify: true, Certificates: shown}).Client(trustPatience).Do(call)
	if errors.Is(err, oci.CodeDistrusted) {
		return nil, errors.Unwrap(err)
	}
	if err != nil {
		return nil, fmt.Errorf("%s does not answer over TLS: %w", registry, errors.Unwrap(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, oci.Errorf(oci.CodeNameUnknown, "%s has no authority of its own: its certificate comes from elsewhere; ask whoever runs it which authority signs it, and give that with --ca", registry)
	}
	raw, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	none := oci.Errorf(oci.CodeDenied, "what %s serves at %s is not one certificate of an authority and nothing else; it is not trusted", registry, site.AuthorityPath)
	block, rest := pem.Decode(raw)
	if block == nil || block.Type != pemCertificate || len(bytes.TrimSpace(rest)) > 0 {
		return nil, none
	}
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil || !certificate.IsCA {
		return nil, errors.Join(none, err)
	}
	return certificate, nil
}

// answersBy checks that the registry's own certificate is signed by the authority
// and for its name.
func answersBy(ctx context.Context, registry string, authority *x509.Certificate, shown []tls.Certificate) error {
	pool := x509.NewCertPool()
	pool.AddCert(authority)
	base := &url.URL{Scheme: "https", Host: registry}
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, base.JoinPath("v2/").String(), nil)
	if err != nil {
		return err
	}
	answer, err := site.NewWay(base, &tls.Config{}, &tls.Config{RootCAs: pool, Certificates: shown}).Client(trustPatience).Do(call)
	if err != nil {
		return fmt.Errorf("the registry's certificate does not fit: %w; does the registry know that it is reached as %s? Its outside_addresses say", errors.Unwrap(err), registry)
	}
	return answer.Body.Close()
}
