package service

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/peer/walk"
)

func doctorCommand() site.Command {
	var push, here bool
	var file string
	return site.Command{
		Name: "doctor", Group: term.GroupLook, Short: "Walk from here to a registry step by step, and stop where it fails",
		Long: "Walks the way that a pull or a push takes, of any registry: name, port, TLS, API, login, and for a repository or an image whether it may be\n" +
			"read and, with --push, pushed to, which is tried and cancelled. Stops at the first step that fails and says what to do.\n\n" +
			"With --service it examines this machine as the place of a service instead: folder, space, port, certificate, names and clock.",
		Example: "  warthesis doctor registry.larkspur.example:7070\n  warthesis doctor --push localhost:7070/timetable/planner\n  warthesis doctor --service --config warthesis.yaml",
		On:      site.OnAny, Args: []site.Arg{{Name: "REGISTRY | REFERENCE", Optional: true, Image: true}}, Facts: []walk.Step{}, Checks: true,
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
				if err := c.Idle("--service examines this machine", "push", "unencrypted", "ca", "client-certificate", "client-key", "login-file"); err != nil {
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

// drawSteps tells of each step as it is done.
func drawSteps(c *site.Call) func(walk.Step) {
	return func(s walk.Step) {
		mark := "✓"
		if !s.Well {
			mark = "✗"
		}
		if !c.JSON() {
			c.T.Say("%s %-12s %s", mark, s.Step, term.OneLine(s.Says))
		}
	}
}

// endOf tells what was found to scripts, and fails where a step did.
func endOf(c *site.Call, w *walk.Walk) error {
	steps, failed := w.Steps()
	if err := c.Tell(steps, func() {}); err != nil || failed == "" {
		return err
	}
	return term.NotRight("stopped at the step %q", failed)
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
	way := walk.Way{Registry: p.Registry, Base: w.Base, Transport: w, Proxy: w.Proxy(), Plainly: "it is on this machine, or --unencrypted was said", Client: client}
	if w.Registry.TLSClientConfig.InsecureSkipVerify {
		way.Unchecked = "NOT CHECKED, as was asked for"
	}
	e := walk.Begin(way, drawSteps(c))
	e.ToAPI(ctx)
	e.Step("login", func() (string, error) { return lookLogin(ctx, c.R, client, p.Registry) })
	if p.Name == "" {
		return endOf(c, e)
	}
	if push && ref.Target() == "" {
		e.ReadOrMake(ctx, p.Name)
	} else {
		e.Read(ctx, p.Name, ref.Target())
	}
	if push {
		e.Push(ctx, p.Name)
	}
	return endOf(c, e)
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
