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
	"path/filepath"
	"time"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/httpd"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// Home is an opened data folder: what a service, or a program that seeds one,
// works on.
type Home struct {
	Registry *registry.Registry
	Records  *record.Store
	lock     *blob.Lock
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
	blobs, err := blob.Open(c.Data, blob.Options{FreeSpace: c.FreeBytes})
	if err != nil {
		return err
	}
	var clk clock.Clock
	h.Records, err = record.Open(filepath.Join(c.Data, "warthesis.db"), func(before time.Duration) clock.Clock {
		clk = start(before)
		return clk
	})
	if err != nil {
		return err
	}
	h.Registry, err = registry.New(blobs, h.Records, clk, registry.Limits{
		ManifestBytes: c.ManifestBytes, BlobBytes: c.BlobBytes, UploadsPerCaller: int(c.UploadsPerCaller), UploadIdle: time.Duration(c.UploadIdle),
	})
	return err
}

// Close lets go of everything, what comes last first.
func (h *Home) Close() error {
	var err error
	if h.Registry != nil {
		err = h.Registry.Close()
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

// Run serves until ctx is done, then lets requests in flight finish within the
// bound of the configuration. started is told the address once it answers.
func Run(ctx context.Context, c config.Config, version string, started func(address string)) error {
	home, err := OpenHome(c, RunningClock)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return errors.Join(fmt.Errorf("listen on %s: %w", c.Listen, err), home.Close())
	}
	stopping := make(chan struct{})
	doors, err := httpd.New(httpd.Options{
		Registry: home.Registry, Records: home.Records, Version: version,
		BodyIdle: time.Duration(c.BodyIdle), ManifestBytes: c.ManifestBytes, Stopping: stopping,
	})
	if err != nil {
		return errors.Join(err, listener.Close(), home.Close())
	}
	server := &http.Server{
		Handler:           doors,
		ReadHeaderTimeout: time.Duration(c.HeaderWithin),
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
	}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	started(listener.Addr().String())
	select {
	case err = <-failed:
		close(stopping)
	case <-ctx.Done():
		close(stopping)
		err = stop(server, time.Duration(c.StopWithin))
		<-failed
	}
	return errors.Join(err, home.Close())
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
