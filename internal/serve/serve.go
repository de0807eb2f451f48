// Package serve puts the service together from its rooms and runs it until it is
// told to stop.
package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"warthesis/internal/access"
	"warthesis/internal/access/company"
	"warthesis/internal/authority"
	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/flow"
	"warthesis/internal/flow/bring"
	"warthesis/internal/flow/follow"
	"warthesis/internal/flow/replicate"
	"warthesis/internal/httpd"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
	"warthesis/internal/registry"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

// Home is an opened data folder: what a service, or a program that seeds one,
// works on.
type Home struct {
	Registry *registry.Registry
	Records  *record.Store
	Access   *access.Access
	Clock    clock.Clock
	// Work is what goes on beside requests, once it is started.
	Work    *work.Works
	Sweeper *sweep.Sweeper
	// Peers reaches other registries.
	Peers *flow.Peers
	// Follower brings what is not here from them.
	Follower *follow.Follower
	// Replicator copies to them and from them by rules.
	Replicator *replicate.Replicator
	// Bringer brings in what is named of them.
	Bringer *bring.Bringer
	lock    *blob.Lock
}

// OpenHome claims the data folder and opens what is in it. start returns the
// clock to use, given the served time that earlier runs reached.
func OpenHome(c config.Config, start func(before time.Duration) clock.Clock) (*Home, error) {
	lock, err := blob.LockFolder(c.Data)
	if err != nil {
		return nil, err
	}
	h := &Home{lock: lock}
	if err := h.open(c, start); err != nil {
		return nil, errors.Join(err, h.Close())
	}
	return h, nil
}

func (h *Home) open(c config.Config, start func(time.Duration) clock.Clock) error {
	loose, err := blob.MakePrivate(c.Data)
	if err != nil {
		return err
	}
	if len(loose) > 0 {
		slog.Warn("other users of this machine could read parts of the data folder; they can't any longer", "parts", len(loose), "first", loose[0])
	}
	blobs, err := blob.Open(c.Data, blob.Options{FreeSpace: c.FreeBytes})
	if err != nil {
		return err
	}
	if err := checkRecords(c, blobs); err != nil {
		return err
	}
	var clk clock.Clock
	h.Records, err = record.Open(filepath.Join(c.Data, recordsName), func(before time.Duration) clock.Clock {
		clk = start(before)
		h.Clock = clk
		return clk
	})
	if err != nil {
		return err
	}
	h.Registry, err = registry.New(blobs, h.Records, clk, registry.Limits{
		ManifestBytes: c.ManifestBytes, BlobBytes: c.BlobBytes, UploadsPerCaller: int(c.UploadsPerCaller), UploadIdle: time.Duration(c.UploadIdle),
		Grace: time.Duration(c.Grace), NewRecords: c.NewRecords,
	})
	if err != nil {
		return err
	}
	reach, err := issuersReach(c)
	if err != nil {
		return err
	}
	issuers := reach.Client(issuerPatience, issuerBytes)
	h.Access, err = access.Open(h.Records, clk, filepath.Join(c.Data, keysFolder), func(ctx context.Context) context.Context {
		return context.WithValue(ctx, oauth2.HTTPClient, issuers)
	})
	if err != nil {
		return err
	}
	if err := h.Records.Update(context.Background(), "windows", func(tx *record.Tx) error {
		settings := h.Records.Rights().Settings()
		if settings.ShortWindows = c.ShortWindows; c.RestoreWindow != 0 {
			settings.RestoreWindow = time.Duration(c.RestoreWindow)
		}
		return tx.SaveSettings(settings)
	}); err != nil {
		return err
	}
	if c.ShortWindows {
		slog.Warn("short_windows is true: windows below an hour count, so that what is removed is soon gone for good; this is for trying things out")
	}
	if h.Peers, err = openPeers(c, h.Records, clk); err != nil {
		return err
	}
	if h.Follower, err = follow.New(h.Registry, h.Records, h.Peers, clk); err != nil {
		return err
	}
	if h.Replicator, err = replicate.New(h.Registry, h.Records, h.Peers, clk); err != nil {
		return err
	}
	h.Bringer = bring.New(h.Registry, h.Records, h.Peers)
	at, wrong := schedule("sweep_at", c.SweepAt)
	retentionAt, bad := schedule("retention_at", c.RetentionAt)
	// At its end, a day is told as it was.
	samplesAt, worse := schedule("samples", "55 23 * * *")
	if err := errors.Join(wrong, bad, worse); err != nil {
		return err
	}
	h.Sweeper, err = sweep.New(h.Registry, h.Records, clk, filepath.Join(c.Data, "reports"), sweep.Settings{
		At: at, RetentionAt: retentionAt, Wait: time.Duration(c.RuleWait), SamplesAt: samplesAt, FilesPerSecond: c.SweepFilesPerSecond, BytesPerSecond: c.SweepBytesPerSecond,
		ScrubWithin: time.Duration(c.ScrubWithin), ScrubBytesPerSecond: c.ScrubBytesPerSecond,
	})
	if err != nil {
		return err
	}
	h.Work, err = work.New(h.Records, clk, chores(h, clk)...)
	return err
}

// schedule reads when something runs by itself.
func schedule(key, s string) (work.Schedule, error) {
	if s == "never" {
		return work.Schedule{}, nil
	}
	at, err := work.ParseSchedule(s)
	if err != nil {
		err = fmt.Errorf("%s: %w, or never", key, err)
	}
	return at, err
}

// How long a question to an issuer of identities may take, and the longest answer.
const (
	issuerPatience = 10 * time.Second
	issuerBytes    = 1 << 20
)

// keysFolder is the folder of keys in the data folder.
const keysFolder = "keys"

// Close lets go of everything, what comes last first.
func (h *Home) Close() error {
	var err error
	if h.Work != nil {
		h.Work.Close()
	}
	if h.Access != nil {
		err = h.Access.Close()
	}
	if h.Replicator != nil {
		h.Replicator.Close()
	}
	if h.Follower != nil {
		h.Follower.Close()
	}
	if h.Registry != nil {
		err = errors.Join(err, h.Registry.Close())
	}
	if h.Records != nil {
		err = errors.Join(err, h.Records.Close())
	}
	h.lock.Release()
	return err
}

// Logger returns the logger that the settings ask for.
func Logger(c config.Config, w io.Writer) *slog.Logger {
	options := &slog.HandlerOptions{Level: slog.LevelInfo}
	if c.LogLevel == "debug" {
		options.Level = slog.LevelDebug
	}
	if c.LogFormat == "json" {
		return slog.New(slog.NewJSONHandler(w, options))
	}
	return slog.New(slog.NewTextHandler(w, options))
}

// RunningClock is the clock of a service that people use.
func RunningClock(before time.Duration) clock.Clock { return clock.NewRunning(before) }

// Started is what a service says once it answers.
type Started struct {
	// Address is the one it listens on, host:port, and Scheme http or https.
	Address, Scheme string
	// AdminPassword is that of the account admin, where the first start made one up.
	AdminPassword string
	// Outside is the address under which others reach it, with its scheme; "" for the
	// one it listens on.
	Outside string
	// Trial tells that anybody may do everything.
	Trial bool
	// Fingerprint is that of the private authority's certificate, where there is one.
	Fingerprint string
}

// Run serves until ctx is done, then lets requests in flight finish within the
// bound of the configuration. started is told once it can answer; where that fails
// nothing is served, and a first admin is not made.
func Run(ctx context.Context, c config.Config, version string, started func(Started) error) error {
	home, err := OpenHome(c, RunningClock)
	if err != nil {
		return err
	}
	s := &service{config: c, version: version, home: home, stopping: make(chan struct{})}
	return errors.Join(s.run(ctx, started), home.Close())
}

// service is a service on its opened data folder.
type service struct {
	config   config.Config
	version  string
	home     *Home
	stopping chan struct{}
	says     Started
}

func (s *service) run(ctx context.Context, started func(Started) error) error {
	certificates, private, err := s.certificates()
	if err != nil {
		return err
	}
	var trial *access.Caller
	if s.config.Trial {
		everybody, err := s.home.Access.BeginTrial(ctx)
		if err != nil {
			return err
		}
		trial, s.says.Trial = &everybody, true
	} else if err := s.home.Access.NoTrial(ctx); err != nil {
		return err
	}
	doors, err := s.doors(private, trial)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", s.config.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", s.config.Listen, err)
	}
	server := &http.Server{
		Handler:           doors,
		ReadHeaderTimeout: time.Duration(s.config.HeaderWithin),
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
	}
	defer listener.Close()
	s.says.Address, s.says.Scheme = listener.Addr().String(), "http"
	if certificates != nil {
		s.says.Scheme = "https"
		server.TLSConfig = certificates.Config()
	}
	if outside, err := s.config.Outside(); err == nil && len(outside) > 0 {
		s.says.Outside = outside[0].String()
	}
	if err := s.begin(ctx, started); err != nil {
		return err
	}
	s.home.Work.Start()
	s.home.Replicator.Start()
	waits := s.waitForLetters()
	defer waits()
	failed := make(chan error, 1)
	if certificates == nil {
		go func() { failed <- server.Serve(listener) }()
	} else {
		go func() { failed <- server.ServeTLS(listener, "", "") }()
	}
	select {
	case err = <-failed:
		close(s.stopping)
	case <-ctx.Done():
		close(s.stopping)
		err = stop(server, time.Duration(s.config.StopWithin))
		<-failed
	}
	return err
}

// begin says that the service is there and makes the first admin, in this order: a
// password that was never shown would be nobody's.
func (s *service) begin(ctx context.Context, started func(Started) error) error {
	needed, err := s.home.Access.NeedsAdmin(ctx)
	if err != nil {
		return err
	}
	password := s.config.AdminPassword
	if needed && password == "" {
		password = access.MadeUpPassword()
		s.says.AdminPassword = password
	}
	if err := started(s.says); err != nil {
		return fmt.Errorf("say that the service is there: %w; nothing was changed, start it with an output that can be written to", err)
	}
	if !needed {
		return nil
	}
	if err := s.home.Access.MakeFirstAdmin(ctx, password); err != nil {
		return fmt.Errorf("make the account of the first admin: %w; the password that was shown is nobody's", err)
	}
	return nil
}

// certificates returns what TLS is served by: nil for none, and the private
// authority where there is one.
func (s *service) certificates() (*authority.Certificates, *authority.Private, error) {
	if s.config.PrivateAuthority {
		private, err := authority.OpenPrivate(filepath.Join(s.config.Data, keysFolder))
		if err != nil {
			return nil, nil, err
		}
		s.says.Fingerprint = private.Fingerprint()
		certificates, err := authority.FromAuthority(private, s.config.Hosts())
		return certificates, private, err
	}
	pairs, err := s.config.Pairs()
	if err != nil || len(pairs) == 0 {
		return nil, nil, err
	}
	certificates, err := authority.FromFiles(pairs)
	return certificates, nil, err
}

func (s *service) doors(private *authority.Private, trial *access.Caller) (http.Handler, error) {
	outside, err := s.config.Outside()
	if err != nil {
		return nil, err
	}
	trusted, err := s.config.Trusted()
	if err != nil {
		return nil, err
	}
	o := httpd.Options{
		Registry: s.home.Registry, Records: s.home.Records, Access: s.home.Access, Work: s.home.Work, Sweeper: s.home.Sweeper, Peers: s.home.Peers, Follower: s.home.Follower, Replicator: s.home.Replicator, Version: s.version, Outside: outside, Trusted: trusted,
		BodyIdle: time.Duration(s.config.BodyIdle), ManifestBytes: s.config.ManifestBytes, Stopping: s.stopping, Trial: trial,
		RuleWait: time.Duration(s.config.RuleWait),
		Prices:   desk.Prices{GiBMonth: s.config.PriceGiBMonth, GiBOut: s.config.PriceGiBOut, Currency: s.config.Currency},
	}
	if private != nil {
		o.Authority = private.PEM()
	}
	if s.config.CompanyIssuer != "" {
		secret, err := s.companySecret()
		if err != nil {
			return nil, err
		}
		o.CompanyName = s.config.CompanyName
		o.Company, err = company.New(s.home.Access, s.home.Clock, company.Settings{
			Issuer: s.config.CompanyIssuer, Client: s.config.CompanyClient, Secret: secret,
			AccountClaim: s.config.CompanyAccountClaim, GroupsClaim: s.config.CompanyGroupsClaim,
		})
		if err != nil {
			return nil, err
		}
	}
	return httpd.New(o)
}

// companySecret reads the secret of the registry's client at the company's issuer.
func (s *service) companySecret() (string, error) {
	if s.config.CompanySecretFile == "" {
		return "", nil
	}
	raw, err := os.ReadFile(s.config.CompanySecretFile)
	if err != nil {
		return "", fmt.Errorf("read the secret of the company's login: %w", err)
	}
	return strings.TrimSpace(string(raw)), nil
}

// stop refuses new work and waits for what is in flight; what is not done within
// the bound is cut, and uploads keep what they have.
func stop(server *http.Server, within time.Duration) error {
	slog.Info("stopping", "within", within)
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	err := server.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		slog.Warn("requests were still running and are cut")
		return server.Close()
	}
	return err
}
