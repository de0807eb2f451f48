package image

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// How often a registry is asked that does not tell of changes, at first and at last, and
// one that does, which may lose some.
const (
	askEveryAtFirst = 2 * time.Second
	askEveryAtLast  = 15 * time.Second
	askBesides      = 30 * time.Second
)

// awaited is what a tag has to be.
type awaited struct {
	is, not string
	moved   bool
}

func (a *awaited) addTo(f *pflag.FlagSet) {
	f.BoolVar(&a.moved, "moved", false, "until it points to something else than now, or is there where it is not")
	f.StringVar(&a.not, "not", "", "until it is there and points to something else than this digest")
	f.StringVar(&a.is, "is", "", "until it points to this digest")
}

// read returns what holds of the digest, "" for no such tag, that is waited for, and that
// in words.
func (a *awaited) read(c *site.Call, now oci.Digest) (func(oci.Digest) bool, string, error) {
	given := 0
	for _, is := range []bool{a.is != "", a.not != "", a.moved} {
		if is {
			given++
		}
	}
	switch {
	case given > 1:
		return nil, "", term.Usage("--moved, --not and --is are three things to wait for; give one")
	case given == 1 && c.Image.Digest != "":
		return nil, "", term.Usage("%s names a digest, which never moves; without --moved, --not and --is it is waited for until it is there", c.Image)
	case a.moved:
		return func(d oci.Digest) bool { return d != "" && d != now }, "moved", nil
	case given == 0:
		return func(d oci.Digest) bool { return d != "" }, "is there", nil
	}
	flag, text := "is", a.is
	if a.not != "" {
		flag, text = "not", a.not
	}
	digest, err := oci.ParseDigest(text)
	if err != nil {
		return nil, "", term.Usage("--%s is %q, which is no whole digest, as identify prints it", flag, text)
	}
	if a.not != "" {
		return func(d oci.Digest) bool { return d != "" && d != digest }, "points to something else than " + term.Short(digest), nil
	}
	return func(d oci.Digest) bool { return d == digest }, "points to " + term.Short(digest), nil
}

func waitCommand() site.Command {
	var wanted awaited
	within := rule.Span(10 * time.Minute)
	return site.Command{
		Name: "wait", Group: term.GroupLook, Short: "Wait until a tag is there, has moved, or points to a digest",
		Long: "Waits until a tag or a digest is there, and prints its digest alone on one line. A Warthesis registry tells when something changed;\n" +
			"any other is asked again, at first every 2 and at last every 15 seconds. When the time is over the exit code is 5. What fails on the way\n" +
			"is tried again; a login that is not good, or a right that is missing, ends it.",
		Example: "  warthesis wait localhost:7070/timetable/planner:2.4.2\n  warthesis wait localhost:7070/timetable/planner:stable --moved --within 2h",
		On:      site.OnImage, Facts: identified{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			wanted.addTo(f)
			term.Span(f, &within, "within", "how long to wait, such as 90s or 2h")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			ask, err := asking(c)
			if err != nil {
				return err
			}
			if _, _, err := wanted.read(c, ""); err != nil {
				return err
			}
			limited, stop := context.WithTimeout(ctx, time.Duration(within))
			defer stop()
			now, err := ask(limited)
			if err != nil && limited.Err() != nil && ctx.Err() == nil {
				return term.NotRight("%s did not answer within %s", c.Registry, within)
			}
			if err != nil {
				return err
			}
			holds, words, err := wanted.read(c, now.Digest)
			if err != nil {
				return err
			}
			found, err := waitFor(limited, c, ask, now, holds)
			if err != nil {
				return err
			}
			if !holds(found.Digest) {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				is := "there is none"
				if found.Digest != "" {
					is = "it points to " + found.Digest.String()
				}
				return term.NotRight("the time of %s is over before %s %s; %s", within, c.Image, words, is)
			}
			ref := c.Image
			ref.Digest = found.Digest
			return c.Tell(identified{found.Digest, ref.String(), found.MediaType, found.Size}, func() { c.T.Say("%s", found.Digest) })
		},
	}
}

// asking returns a question for what the call's reference points to, which is nothing
// where it is not there.
func asking(c *site.Call) (func(context.Context) (oci.Descriptor, error), error) {
	client, err := c.R.Peer(c.Registry)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (oci.Descriptor, error) {
		d, err := client.Resolve(ctx, c.Image.Name, c.Image.Target())
		if errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeNameUnknown) {
			return oci.Descriptor{}, nil
		}
		return d, err
	}, nil
}

// waitFor asks until what it points to is as it has to be, or the context ends,
// which is no error; it returns what it pointed to at last.
func waitFor(ctx context.Context, c *site.Call, ask func(context.Context) (oci.Descriptor, error), now oci.Descriptor, holds func(oci.Digest) bool) (oci.Descriptor, error) {
	if holds(now.Digest) {
		return now, nil
	}
	ear := listen(ctx, c)
	pause := askEveryAtFirst
	for {
		every := pause
		if ear.open.Load() {
			every = askBesides
		} else {
			pause = min(askEveryAtLast, pause*5/4)
		}
		next := time.NewTimer(every)
		select {
		case <-ctx.Done():
			next.Stop()
			return now, nil
		case <-ear.heard:
		case <-next.C:
		}
		next.Stop()
		found, err := ask(ctx)
		switch {
		case err != nil && ctx.Err() != nil:
			return now, nil
		case errors.Is(err, oci.CodeUnauthorized), errors.Is(err, oci.CodeDenied), errors.Is(err, oci.CodeDistrusted):
			return now, err
		case err != nil:
			c.T.Warn("%s; going on", err)
		case holds(found.Digest):
			return found, nil
		default:
			now = found
		}
	}
}

// ear hears of changes in one repository.
type ear struct {
	// heard has something where there may have been a change.
	heard chan struct{}
	// open tells that changes are heard of.
	open atomic.Bool
}

// listen hears of changes in the call's repository until the context ends, at a registry
// that tells of them.
func listen(ctx context.Context, c *site.Call) *ear {
	e := &ear{heard: make(chan struct{}, 1)}
	go func() {
		for ctx.Err() == nil {
			err := e.stream(ctx, c)
			e.open.Store(false)
			if errors.Is(err, api.ErrOtherMake) || errors.Is(err, oci.CodeUnauthorized) || errors.Is(err, oci.CodeDenied) {
				return
			}
			select {
			case <-ctx.Done():
			case <-time.After(askEveryAtFirst):
			}
		}
	}()
	return e
}

// stream reads one stream of changes to its end (server-sent events).
func (e *ear) stream(ctx context.Context, c *site.Call) error {
	answer, err := c.Send(ctx, http.MethodGet, "/api/v1/changes", nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if !strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		return fmt.Errorf("%w", api.ErrOtherMake)
	}
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() {
		data, is := strings.CutPrefix(lines.Text(), "data:")
		var change api.Change
		if !is || json.Unmarshal([]byte(data), &change) != nil {
			continue
		}
		// The first word says that the stream is open: what was before it is asked for once.
		if first := e.open.CompareAndSwap(false, true); first || change.Repository == c.Image.Name {
			select {
			case e.heard <- struct{}{}:
			default:
			}
		}
	}
	return lines.Err()
}
