package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/access/upkeep"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/demo"
	"warthesis/internal/serve"
)

func demoCommand(version string) site.Command {
	settings := config.Default()
	// Another one on this machine may be a peer, to try that out.
	settings.Data, settings.FreeBytes, settings.InsideNetworks = "warthesis-demo", 1, config.List{"127.0.0.0/8"}
	// The images are small: so are the prices not.
	settings.PriceGiBMonth, settings.PriceGiBOut = 2.50, 0.80
	return site.Command{
		Name: "demo", Group: term.GroupRun, Short: "Run a registry with sample data, to look around in",
		Long: "Runs a registry on this machine with the images of a made-up night train company and three months of history.\n" +
			"The data folder is filled at the first start and kept; remove it to start over.",
		On: site.OnNothing,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&settings.Data, "data", settings.Data, "folder for the sample data")
			f.StringVar(&settings.Listen, "listen", settings.Listen, "address to serve on, host:port")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if err := settings.Check(); err != nil {
				return term.Usage("%w", err)
			}
			c.T.Patient.Store(true)
			slog.SetDefault(serve.Logger(settings, term.Unwrap(c.T.Err)))
			if err := seed(ctx, c.T, settings); err != nil {
				return err
			}
			return serve.Run(ctx, settings, version, func(s serve.Started) error { return welcome(c.T, s.Address) })
		},
	}
}

// seed fills the data folder where it is not filled. It is filled under another
// name and renamed when it is whole, so that a stopped start leaves no half world.
func seed(ctx context.Context, t term.Terminal, settings config.Config) error {
	if _, err := os.Stat(filepath.Join(settings.Data, "warthesis.db")); err == nil {
		return nil
	}
	final := settings.Data
	settings.Data = final + ".new"
	if err := os.RemoveAll(settings.Data); err != nil {
		return err
	}
	fmt.Fprintln(t.Err, "Making the sample world ...")
	clk := clock.NewSet(demo.Start(time.Now()))
	home, err := serve.OpenHome(settings, func(time.Duration) clock.Clock { return clk })
	if err != nil {
		return err
	}
	err = demo.Seed(ctx, home.Registry, &upkeep.Upkeep{Access: home.Access, Records: home.Records, Clock: clk, RuleWait: 24 * time.Hour}, clk, func(ctx context.Context) error {
		return home.Sweeper.Sample(ctx, func() error { return nil })
	}, demo.Password)
	if err == nil {
		err = demo.Rot(ctx, home.Registry, settings.Data)
	}
	if err == nil {
		err = demo.LookAround(ctx, home.Work)
	}
	if err := errors.Join(err, home.Close()); err != nil {
		return err
	}
	return os.Rename(settings.Data, final)
}

func welcome(t term.Terminal, address string) error {
	_, err := fmt.Fprintf(t.Out, `
Larkspur Night Rail's registry is at http://%[1]s - open it in a browser and sign in as
ines (platform engineer), teodor, marit, jun or ada (auditor); the password of all is  %[3]s
Or try these in another terminal:

  %[2]s login %[1]s --account ines
  %[2]s list %[1]s/timetable/planner
  %[2]s pull %[1]s/timetable/planner:2.4.1 ./planner
  %[2]s push ./planner %[1]s/timetable/planner:mine

Ctrl-C stops it.
`, address, term.ProgramName(), demo.Password)
	return err
}
