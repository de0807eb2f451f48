package service

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/serve"
)

// configFlag and fromStdinFlag name flags that are no settings themselves.
const (
	configFlag    = "config"
	FromStdinFlag = "from-stdin"
)

func addServe(root *cobra.Command, t term.Terminal, version string) {
	var file string
	flags := config.Default()
	command := &cobra.Command{
		Use:     "serve",
		GroupID: term.GroupRun,
		Short:   "Run the registry",
		Long: "Runs the registry on a data folder until it is told to stop.\n\n" +
			"Settings come from a YAML file (--config), over it from the environment (WARTHESIS_DATA, WARTHESIS_LISTEN and so on),\n" +
			"and over both from flags. Without TLS it listens on this machine only, unless --listen-unencrypted says otherwise.\n\n" +
			"The first start makes an account, admin, which may do everything. Its password is that of WARTHESIS_ADMIN_PASSWORD,\n" +
			"or one is made up and printed this once.",
		Example: "  warthesis serve --data /srv/warthesis --listen 127.0.0.1:7070",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			settings, err := settle(c, file)
			if err != nil {
				return term.Usage("%w", err)
			}
			t.Patient.Store(true)
			slog.SetDefault(serve.Logger(settings, term.Unwrap(t.Err)))
			return serve.Run(c.Context(), settings, version, func(s serve.Started) error {
				slog.Info("serving", "address", s.Address, "data", settings.Data, "version", version)
				_, err := fmt.Fprintf(t.Out, "%sWarthesis serves %s://%s (data in %s)\n", sayStart(s), s.Scheme, s.Address, settings.Data)
				return err
			})
		},
	}
	f := command.Flags()
	f.StringVar(&file, configFlag, "", "read settings from this YAML file")
	f.StringVar(&flags.Data, "data", flags.Data, "folder that holds everything the registry keeps")
	f.StringVar(&flags.Listen, "listen", flags.Listen, "address to serve on, host:port")
	f.BoolVar(&flags.ListenUnencrypted, "listen-unencrypted", false, "listen beyond this machine without TLS, as behind a load balancer that ends it")
	f.Var(&flags.OutsideAddresses, "outside-addresses", "addresses under which the registry is reached, such as https://registry.larkspur.example")
	f.Var(&flags.TrustedProxies, "trusted-proxies", "addresses or networks of load balancers whose forwarded headers count")
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
	f.Var(&flags.HeaderWithin, "header-within", "how long a request's headers may take to come")
	f.Int64Var(&flags.FreeBytes, "free-bytes", 0, "disk space that uploads leave free, in bytes; 0 for the smaller of 1 GiB and 2 %")
	f.StringVar(&flags.LogLevel, "log-level", flags.LogLevel, "info, or debug to log every read as well")
	f.StringVar(&flags.LogFormat, "log-format", flags.LogFormat, "form of the log: text or json")
	root.AddCommand(command)
}

// sayStart is what is said at a start and nowhere else.
func sayStart(s serve.Started) string {
	said := ""
	if s.AdminPassword != "" {
		said += fmt.Sprintf("The account admin is made, with the password  %s\nIt is shown this once. Log in with it:  %s login %s\n\n", s.AdminPassword, term.ProgramName(), s.Address)
	}
	if s.Fingerprint != "" {
		said += fmt.Sprintf("Certificates are signed by the registry's own authority, whose fingerprint is\n  %s\nLet a client trust it:  %s trust %s\n\n", s.Fingerprint, term.ProgramName(), s.Address)
	}
	return said
}

// settle lays the settings over each other, flags that were given last.
func settle(c *cobra.Command, file string) (config.Config, error) {
	settings := config.Default()
	if file != "" {
		if err := settings.ReadFile(file); err != nil {
			return settings, err
		}
	}
	if err := settings.ReadEnvironment(os.Environ()); err != nil {
		return settings, err
	}
	var wrong error
	c.Flags().Visit(func(f *pflag.Flag) {
		// Flags that every command has, and the file's own, are no settings. The
		// others are named as the key in the file, with dashes.
		if f.Name == configFlag || f.Name == FromStdinFlag || c.InheritedFlags().Lookup(f.Name) != nil {
			return
		}
		wrong = errors.Join(wrong, settings.Set(strings.ReplaceAll(f.Name, "-", "_"), f.Value.String()))
	})
	if wrong != nil {
		return settings, wrong
	}
	return settings, settings.Check()
}
