package service

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"warthesis/internal/authority"
	"warthesis/internal/cli/site"
	"warthesis/internal/config"
	"warthesis/internal/peer/walk"
	"warthesis/internal/serve"
)

// examineService examines this machine as the place of a service.
func examineService(ctx context.Context, c *site.Call, file string) error {
	settings := config.Default()
	e := walk.Begin(walk.Way{}, drawSteps(c))
	e.Step("settings", func() (string, error) {
		err := settings.Lay(file, environment(), nil)
		return fmt.Sprintf("data in %s, listening on %s", settings.Data, settings.Listen), err
	})
	running := false
	e.Step("folder", func() (found string, err error) {
		running, found, err = serve.LookFolder(settings)
		return found, err
	})
	e.Step("space", func() (string, error) {
		left, size, err := serve.LookSpace(settings)
		if err != nil {
			return "", err
		}
		said := fmt.Sprintf("%s of %s are free", humanize.IBytes(uint64(left)), humanize.IBytes(uint64(size)))
		if left < 2<<30 {
			return "", fmt.Errorf("only %s; uploads are refused below the floor of free space. Make room, or move the folder to a larger disk", said)
		}
		return said, nil
	})
	e.Step("port", func() (string, error) { return lookOwnPort(settings, running) })
	e.Step("name", func() (string, error) { return lookOwnNames(ctx, settings) })
	e.Step("certificate", func() (string, error) { return lookOwnCertificates(settings) })
	e.Step("clock", func() (string, error) {
		now := time.Now()
		if now.Year() < 2026 {
			return "", fmt.Errorf("it says %s, which is before this program was made. Set it: certificates and tokens go by it", now.Format(time.DateTime))
		}
		return now.Format(time.RFC3339), nil
	})
	return endOf(c, e)
}

func lookOwnPort(settings config.Config, running bool) (string, error) {
	listener, err := net.Listen("tcp", settings.Listen)
	if err == nil {
		return settings.Listen + " is free", listener.Close()
	}
	if running {
		return settings.Listen + " is taken, by the service that runs", nil
	}
	return "", fmt.Errorf("the service cannot listen on %s: %w. Stop what listens there, or give another address", settings.Listen, err)
}

func lookOwnNames(ctx context.Context, settings config.Config) (string, error) {
	outside, err := settings.Outside()
	if err != nil {
		return "", err
	}
	if len(outside) == 0 {
		return "no outside address is given; the service goes by what requests say", nil
	}
	var said []string
	for _, u := range outside {
		found, err := walk.Way{Registry: u.Host}.LookName(ctx)
		if err != nil {
			return "", err
		}
		said = append(said, found)
	}
	return strings.Join(said, "; "), nil
}

func lookOwnCertificates(settings config.Config) (string, error) {
	if !settings.TLS() {
		return "none: the service speaks plain HTTP", nil
	}
	if settings.PrivateAuthority {
		if _, err := os.Stat(filepath.Join(settings.Data, "keys")); err != nil {
			return "a private authority is made at the first start", nil
		}
		private, err := authority.OpenPrivate(filepath.Join(settings.Data, "keys"))
		if err != nil {
			return "", err
		}
		return "by the private authority with the fingerprint " + private.Fingerprint(), nil
	}
	pairs, err := settings.Pairs()
	if err != nil {
		return "", err
	}
	if _, err := authority.FromFiles(pairs); err != nil {
		return "", err
	}
	var said []string
	for _, pair := range pairs {
		loaded, err := tls.LoadX509KeyPair(pair[0], pair[1])
		if err != nil {
			return "", err
		}
		left := time.Until(loaded.Leaf.NotAfter)
		if left < 14*24*time.Hour {
			return "", fmt.Errorf("%s ends on %s; renew it, and the service takes it up by itself", pair[0], loaded.Leaf.NotAfter.Format(time.DateOnly))
		}
		said = append(said, fmt.Sprintf("%s for %s, good until %s", pair[0], strings.Join(walk.Certified(loaded.Leaf), ", "), loaded.Leaf.NotAfter.Format(time.DateOnly)))
	}
	return strings.Join(said, "; "), nil
}
