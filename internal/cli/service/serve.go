package service

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/peer/walk"
	"warthesis/internal/serve"
)

// configFlag names a flag that is no setting itself.
const configFlag = "config"

func serveCommand(version string) site.Command {
	var file string
	flags := config.Default()
	var newRecords, acceptRecords bool
	return site.Command{
		Name: "serve", Group: term.GroupRun, Short: "Run the registry",
		Long: "Runs the registry on a data folder until it is told to stop.\n\n" +
			"Settings come from a YAML file (--config), over it from the environment (WARTHESIS_DATA, WARTHESIS_LISTEN and so on),\n" +
			"and over both from flags. Without TLS it listens on this machine only, unless --listen-unencrypted says otherwise.\n\n" +
			"The first start makes an account, admin, which may do everything. Its password is that of WARTHESIS_ADMIN_PASSWORD,\n" +
			"or one is made up and printed this once. With --trial there are no logins at all, for the first five minutes.",
		Example: "  warthesis serve --data /srv/warthesis --listen 127.0.0.1:7070\n  warthesis serve --trial",
		On:      site.OnNothing,
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&file, configFlag, "", "read settings from this YAML file")
			addSettings(f, &flags)
			f.BoolVar(&newRecords, "new-records", false, "begin with empty records, or those of another registry, although blobs are stored")
			f.BoolVar(&acceptRecords, "accept-records", false, "take the records as they are after another program wrote to them")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			settings := config.Default()
			if err := settings.Lay(file, environment(), flagsGiven(c, config.Keys()...)); err != nil {
				return term.Usage("%w", err)
			}
			settings.NewRecords, settings.AcceptRecords = newRecords, acceptRecords
			c.T.Patient.Store(true)
			slog.SetDefault(serve.Logger(settings, term.Unwrap(c.T.Err)))
			return serve.Run(ctx, settings, version, func(s serve.Started) error {
				slog.Info("serving", "address", s.Address, "data", settings.Data, "version", version)
				c.T.Say("%sWarthesis serves %s://%s (data in %s)", sayStart(s), s.Scheme, s.Address, settings.Data)
				return c.T.Fault()
			})
		},
	}
}

// environment returns the variables that may be settings.
func environment() []string { return os.Environ() }

// addSettings adds a flag for each setting, named as the key in the file, with dashes.
func addSettings(f *pflag.FlagSet, flags *config.Config) {
	f.StringVar(&flags.Data, "data", flags.Data, "folder that holds everything the registry keeps")
	f.StringVar(&flags.Listen, "listen", flags.Listen, "address to serve on, host:port")
	f.BoolVar(&flags.ListenUnencrypted, "listen-unencrypted", false, "listen beyond this machine without TLS, as behind a load balancer that ends it")
	f.Var(&flags.OutsideAddresses, "outside-addresses", "addresses under which the registry is reached, such as https://registry.larkspur.example")
	f.Var(&flags.TrustedProxies, "trusted-proxies", "addresses or networks of load balancers whose forwarded headers count")
	f.Var(&flags.InsideNetworks, "inside-networks", "networks that are not public and that the service may connect to all the same, such as 10.20.0.0/16:443")
	f.BoolVar(&flags.OutwardProxy, "outward-proxy", false, "connect to peers through the proxy of the environment")
	f.Var(&flags.Certificates, "certificates", "files of certificates with those of their keys, certificate:key")
	f.BoolVar(&flags.PrivateAuthority, "private-authority", false, "serve TLS by an authority of the registry's own, made at the first start")
	f.StringVar(&flags.CompanyIssuer, "company-issuer", "", "address of the company's OpenID Connect issuer")
	f.StringVar(&flags.CompanyName, "company-name", flags.CompanyName, "what the button of the company's login says")
	f.StringVar(&flags.CompanyClient, "company-client", "", "the registry's client ID at the issuer")
	f.StringVar(&flags.CompanySecretFile, "company-secret-file", "", "file with the client's secret")
	f.StringVar(&flags.CompanyAccountClaim, "company-account-claim", flags.CompanyAccountClaim, "claim that names the account")
	f.StringVar(&flags.CompanyGroupsClaim, "company-groups-claim", flags.CompanyGroupsClaim, "claim that lists the groups")
	f.Var(&flags.StopWithin, "stop-within", "how long requests in flight may take to finish at a stop")
	f.Var(&flags.BodyIdle, "body-idle", "how long a sender or receiver may stall")
	f.Int64Var(&flags.ManifestBytes, "manifest-bytes", flags.ManifestBytes, "largest manifest that is taken, in bytes")
	f.Int64Var(&flags.BlobBytes, "blob-bytes", flags.BlobBytes, "largest blob that is taken, in bytes")
	f.Int64Var(&flags.UploadsPerCaller, "uploads-per-caller", flags.UploadsPerCaller, "how many uploads one account or address may have open")
	f.Var(&flags.UploadIdle, "upload-idle", "how long an upload that nobody sends to is kept")
	f.Var(&flags.Grace, "grace", "how long what was touched stays, though nothing needs it")
	f.Var(&flags.RestoreWindow, "restore-window", "for how long removals can be undone, as of each start; without it, as the registry has it")
	f.BoolVar(&flags.ShortWindows, "short-windows", false, "let spans below an hour count, for trying things out: what is removed is soon gone for good")
	f.Float64Var(&flags.PriceGiBMonth, "price-gib-month", flags.PriceGiBMonth, "what a GiB costs that is held for a month; 0 for no price")
	f.Float64Var(&flags.PriceGiBOut, "price-gib-out", flags.PriceGiBOut, "what a GiB costs that goes out; 0 for no price")
	f.StringVar(&flags.Currency, "currency", flags.Currency, "in which money prices are")
	f.StringVar(&flags.RetentionAt, "retention-at", flags.RetentionAt, "when retention rules act by themselves: an interval, a cron expression in UTC, or never")
	f.Var(&flags.RuleWait, "rule-wait", "how long a list of rules waits that could take more than before")
	f.StringVar(&flags.SweepAt, "sweep-at", flags.SweepAt, "when sweeps run by themselves: an interval, a cron expression in UTC, or never")
	f.Int64Var(&flags.SweepFilesPerSecond, "sweep-files-per-second", flags.SweepFilesPerSecond, "how many files a sweep takes in a second; 0 for no bound")
	f.Int64Var(&flags.SweepBytesPerSecond, "sweep-bytes-per-second", 0, "how many bytes a sweep takes in a second; 0 for no bound")
	f.Var(&flags.ScrubWithin, "scrub-within", "within which span scrubs read everything once")
	f.Int64Var(&flags.ScrubBytesPerSecond, "scrub-bytes-per-second", 0, "how many bytes a scrub reads in a second; 0 for what that needs")
	f.Var(&flags.HeaderWithin, "header-within", "how long a request's headers may take to come")
	f.Int64Var(&flags.FreeBytes, "free-bytes", 0, "disk space that uploads leave free, in bytes; 0 for the smaller of 1 GiB and 2 %")
	f.StringVar(&flags.LogLevel, "log-level", flags.LogLevel, "info, or debug to log every read as well")
	f.StringVar(&flags.LogFormat, "log-format", flags.LogFormat, "form of the log: text or json")
	f.BoolVar(&flags.Trial, "trial", false, "an empty registry in which anybody on this machine may do everything without a login, for the first five minutes")
}

// flagsGiven returns the settings among the flags that were given, as key and value.
func flagsGiven(c *site.Call, keys ...string) [][2]string {
	var given [][2]string
	for _, key := range keys {
		if flag := strings.ReplaceAll(key, "_", "-"); c.Given(flag) {
			given = append(given, [2]string{key, c.Value(flag)})
		}
	}
	return given
}

// sayStart is what is said at a start and nowhere else.
func sayStart(s serve.Started) string {
	// What others reach it by, as they write it.
	registry, scheme := s.Address, s.Scheme
	if s.Outside != "" {
		scheme, registry, _ = strings.Cut(s.Outside, "://")
	}
	said := ""
	if s.Trial {
		said += fmt.Sprintf("THIS IS A TRIAL: anybody and anything on this machine may do everything in it, without a login.\nNothing that must last belongs here.\n\n"+
			"Try:\n\n  %[1]s push IMAGE.tar %[2]s/first/image:1\n  %[1]s list %[2]s/first/image\n\n", term.ProgramName(), registry)
	}
	if s.Fingerprint != "" {
		said += fmt.Sprintf("Certificates are signed by the registry's own authority, whose fingerprint is\n  %s\nLet a client trust it:  %s trust %s\n\n", s.Fingerprint, term.ProgramName(), registry)
	}
	if s.AdminPassword != "" {
		plain := ""
		if scheme == "http" && !config.IsLoopback(walk.HostOf(registry)) {
			plain = " --unencrypted"
		}
		said += fmt.Sprintf("The account admin is made, with the password  %s\nIt is shown this once. Log in with it:  %s login %s --account admin%s\n\n", s.AdminPassword, term.ProgramName(), registry, plain)
	}
	return said
}
