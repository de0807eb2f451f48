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
	alone := false
	// Another one on this machine may be a peer, to try that out.
	settings.Data, settings.FreeBytes, settings.InsideNetworks = "warthesis-demo", 1, config.List{"127.0.0.0/8"}
	// The images are small: so are the prices not.
	settings.PriceGiBMonth, settings.PriceGiBOut = 2.50, 0.80
	return site.Command{
		Name: "demo", Group: term.GroupRun, Short: "Run a registry with sample data, to look around in",
		Long: "Runs two registries on this machine with the images of a made-up night train company and three months of history: that of headquarters and, on the\n" +
			"next port, that of a depot, to which headquarters copies. The folders DATA, DATA-depot and DATA-parcels are filled at the first start and kept; remove them\n" +
			"to start over.",
		On: site.OnNothing,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&settings.Data, "data", settings.Data, "folder for the sample data")
			f.StringVar(&settings.Listen, "listen", settings.Listen, "address to serve on, host:port")
			f.BoolVar(&alone, "alone", false, "without the depot's registry")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if err := settings.Check(); err != nil {
				return term.Usage("%w", err)
			}
			c.T.Patient.Store(true)
			slog.SetDefault(serve.Logger(settings, term.Unwrap(c.T.Err)))
			if err := seed(ctx, c.T, settings, fill); err != nil {
				return err
			}
			if alone {
				return serve.Run(ctx, settings, version, func(s serve.Started) error { return welcome(c.T, s.Address, "", "") })
			}
			depot, err := depotOf(settings)
			if err == nil {
				err = seed(ctx, c.T, depot, fillDepot)
			}
			if err != nil {
				return err
			}
			return serveBoth(ctx, settings, depot, version, func(here, depot string) error { return welcome(c.T, here, depot, settings.Data+"-parcels") })
		},
	}
}

// seed fills the data folder where it is not filled. It is filled under another
// name and renamed when it is whole, so that a stopped start leaves no half world.
func seed(ctx context.Context, t term.Terminal, settings config.Config, fill func(context.Context, *serve.Home, *clock.Set, string) error) error {
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
	err = fill(ctx, home, clk, settings.Data)
	if err := errors.Join(err, home.Close()); err != nil {
		return err
	}
	return os.Rename(settings.Data, final)
}

// fill makes the world of headquarters.
func fill(ctx context.Context, home *serve.Home, clk *clock.Set, data string) error {
	err := demo.Seed(ctx, home.Registry, &upkeep.Upkeep{Access: home.Access, Records: home.Records, Clock: clk, RuleWait: 24 * time.Hour}, clk, func(ctx context.Context) error {
		return home.Sweeper.Sample(ctx, func() error { return nil })
	}, demo.Password)
	if err == nil {
		err = demo.Rot(ctx, home.Registry, data)
	}
	if err == nil {
		err = demo.LookAround(ctx, home.Work)
	}
	return err
}

// fillDepot makes that of the depot, which is new.
func fillDepot(ctx context.Context, home *serve.Home, clk *clock.Set, _ string) error {
	clk.MoveTo(time.Now().Add(-24 * time.Hour))
	return demo.SeedDepot(ctx, home.Registry, home.Access)
}

func welcome(t term.Terminal, address, depot, parcels string) error {
	_, err := fmt.Fprintf(t.Out, `
Larkspur Night Rail's registry is at http://%[1]s - open it in a browser and sign in as
ines (platform engineer), teodor, marit, jun or ada (auditor); the password of all is  %[3]s
Or try these in another terminal:

  %[2]s login %[1]s --account ines
  %[2]s list %[1]s/timetable/planner
  %[2]s pull %[1]s/timetable/planner:2.4.1 ./planner
  %[2]s push ./planner %[1]s/timetable/planner:mine

`, address, term.ProgramName(), demo.Password)
	if err == nil && depot != "" {
		_, err = fmt.Fprintf(t.Out, "The Tarn depot's is at http://%s, with the same password for ines. Headquarters copies to it:\n\n  %[2]s replication list %[3]s\n\n"+
			"Signal box 14 has no network and gets a parcel a month; November's holds what October's did not:\n\n  %[2]s parcel show %[4]s/signal-box-14-november.parcel\n\n", depot, term.ProgramName(), address, parcels)
	}
	if err == nil {
		_, err = fmt.Fprintln(t.Out, "Ctrl-C stops it.")
	}
	return err
}
