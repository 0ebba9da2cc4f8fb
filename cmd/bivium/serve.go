package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/native/config"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/app/applying"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/packets"
	"bivium/internal/app/targets"
	"bivium/internal/app/watch"
	"bivium/internal/certificates"
	"bivium/internal/drivers"
	"bivium/internal/drivers/providers"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/server"
	"bivium/internal/standin"
	"bivium/internal/store"
	"bivium/internal/syslog"
	"bivium/internal/vault"
	"bivium/web"
)

// providerSecret is the environment variable with the secret of an OpenID Connect client.
const providerSecret = "BIVIUM_OIDC_SECRET"

// mailPassword is the environment variable with the password at the mail server.
const mailPassword = "BIVIUM_MAIL_PASSWORD"

// requestRate is how many requests a second one person may send for long: more than scrolling
// over a large board needs.
const requestRate = 200

type serveFlags struct {
	db, listen  string
	quiet       bool
	certificate string // files of TLS
	key         string
	proxied     bool
	names       []string // by which browsers know the server
	provider    server.Provider
	bgp         int
	mail        notices.Mail
	syslog      string
	watch       time.Duration
	banner      string // printed under the address
}

func (f *serveFlags) add(c *cobra.Command, db string) {
	c.Flags().StringVar(&f.db, "db", db, "the database `FILE`; created if missing")
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "the `ADDR` to listen on")
	c.Flags().DurationVar(&f.watch, "watch", 5*time.Minute, "how often accounts are compared with what they should hold (0: when somebody asks)")
	c.Flags().StringVar(&f.syslog, "syslog", "", "the `URL` of a syslog server to which the audit log is sent on: udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT")
	c.Flags().StringVar(&f.mail.Server, "smtp", "", "the `HOST:PORT` of a mail server, with which notices are sent as e-mail")
	c.Flags().StringVar(&f.mail.From, "mail-from", "bivium@localhost", "the e-mail `ADDRESS` that notices come from")
	c.Flags().StringVar(&f.mail.Name, "mail-name", "", "the `NAME` at the mail server; the password is read from "+mailPassword)
	c.Flags().StringVar(&f.certificate, "tls-cert", "", "the `FILE` of the certificate, with which the server speaks TLS; loaded anew when it changes")
	c.Flags().StringVar(&f.key, "tls-key", "", "the `FILE` of its key")
	c.Flags().BoolVar(&f.proxied, "behind-proxy", false, "a proxy in front speaks TLS: listen on addresses that other machines can reach without it, and believe what the proxy says of addresses")
	c.Flags().StringSliceVar(&f.names, "name", nil, "a host `NAME` by which browsers know the server")
	c.Flags().BoolVar(&f.quiet, "quiet", false, "log warnings and errors only")
}

// demoBanner says, under the address, what the demo is and what to do with it. Its values are
// where the simulated world is controlled, and the database.
const demoBanner = `
Bivium with the demo estate, Grayshoal Wind: open the address above in a browser.
Try:
  ask what happens from "crews" to "internet" on "web", in the line at the top
  Findings: see what is probably unintended, and why
  Lanes: drag the network tide-lab to a segment and a hub
Simulated clouds and sites are controlled at %s (see the README).
Edits are kept in %s. Press Ctrl+C to stop.
`

func demoCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start the server with the demo estate and its simulated clouds and sites",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			world, running, err := play(c, 0)
			if err != nil {
				return err
			}
			defer running.Close() //nolint:errcheck // the process ends
			first := func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) }
			f.quiet, f.banner = true, fmt.Sprintf(demoBanner, running.Play, f.db)
			return serve(c, f, first, func(ctx context.Context, a *app.App, register *people.Register) error {
				if err := holdAll(ctx, world, running, a.Now().Estate); err != nil {
					return err
				}
				if err := connectAll(ctx, a, world, running); err != nil {
					return err
				}
				if err := populate(ctx, register); err != nil {
					return err
				}
				a.Learn(0)
				return world.Speak(ctx, a.Speaker)
			})
		},
	}
	f.add(c, filepath.Join("data", "demo.db"))
	return c
}

// firstBanner tells how the first administrator gets in. Its values are the address, and the
// secret of the link.
const firstBanner = `
No person can sign in yet. Open this link within an hour to become the administrator; it works once:
%s/sign-in?link=%s
`

// populate adds the people of the demo, and lets anybody be any of them.
func populate(ctx context.Context, register *people.Register) error {
	names := make([]string, 0, len(demo.People))
	for _, p := range demo.People {
		names = append(names, p.Name)
		if register.Known(p.Name, "") != nil {
			continue
		}
		grants := make([]people.Grant, 0, len(p.Roles))
		for _, role := range p.Roles {
			grants = append(grants, people.Grant{Role: people.Role(role)})
		}
		if err := register.Put(ctx, people.System("demo"), people.Person{Name: p.Name, Called: p.Called, Active: true, Grants: grants}); err != nil {
			return fmt.Errorf("add the demo person %s: %w", p.Name, err)
		}
	}
	for team, members := range demo.Teams {
		if err := register.PutTeam(ctx, people.System("demo"), people.Team{Name: team, Members: members}); err != nil {
			return fmt.Errorf("add the demo team %s: %w", team, err)
		}
	}
	register.OpenDoors(names...)
	return nil
}

// connectAll connects the accounts of the demo world at their addresses of today,
// and maps their tags if nobody has yet.
func connectAll(ctx context.Context, a *app.App, world *standin.World, running *standin.Running) error {
	if len(a.Now().Estate.Mappings) == 0 {
		if _, err := a.Make(ctx, &app.Edit{Edit: demo.MapTags()}, "demo"); err != nil {
			return fmt.Errorf("map the tags of the demo: %w", err)
		}
	}
	if err := a.ConnectHubs(ctx, running.Hubs, running.HubToken()); err != nil {
		return fmt.Errorf("connect the hubs of the demo: %w", err)
	}
	for name, c := range world.Credentials() {
		_, err := a.Connect(ctx, app.Connection{Name: name, Provider: c[0], Endpoint: running.Endpoints[c[0]], Account: name, Key: c[1], Secret: c[2]}, "demo")
		if err != nil {
			return fmt.Errorf("connect the demo account %s: %w", name, err)
		}
	}
	return nil
}

// play starts the demo world.
func play(c *cobra.Command, port int) (*standin.World, *standin.Running, error) {
	world, err := standin.Read(demo.World)
	if err != nil {
		return nil, nil, err
	}
	running, err := world.Serve(c.Context(), port)
	if err != nil {
		return nil, nil, err
	}
	world.Live(c.Context(), standin.Visitors)
	return world, running, nil
}

func standinsCommand() *cobra.Command {
	var port, many int
	c := &cobra.Command{
		Use:   "standins",
		Short: "Start only the simulated clouds and sites, and print their addresses and credentials",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			world, running, err := play(c, port)
			if err != nil {
				return err
			}
			defer running.Close() //nolint:errcheck // the process ends
			if many > 0 {
				for provider := range running.Endpoints {
					world.Add(standin.Many("many-"+provider, provider, max(1, many/50), many))
				}
			}
			credentials := world.Credentials()
			out := c.OutOrStdout()
			for _, name := range slices.Sorted(maps.Keys(credentials)) {
				a := credentials[name]
				who := fmt.Sprintf("key %q", a[1])
				if a[0] == config.Cirra { // which asks for the account, and for no key
					who = fmt.Sprintf("account %q", name)
				}
				fmt.Fprintf(out, "%-14s %-9s %s  %s  secret %q\n", name, a[0], running.Endpoints[a[0]], who, a[2])
			}
			fmt.Fprintf(out, "%-14s %-9s %s  token %q\n", "hubs", "hubs", running.Hubs, running.HubToken())
			fmt.Fprintf(out, "control interface (faults, machines that come and go): %s\n", running.Play)
			<-c.Context().Done()
			return nil
		},
	}
	c.Flags().IntVar(&port, "port", 8430, "the first of six loopback ports (`N` 0: any free ports)")
	c.Flags().IntVar(&many, "many", 0, "add an account with `N` workloads for each provider")
	return c
}

func serveCommand() *cobra.Command {
	var f serveFlags
	var file string
	c := &cobra.Command{
		Use:   "serve",
		Short: "Start the server on a database",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var first func() (*estate.Estate, error) // without one the browser offers ways to begin
			if file != "" {
				first = func() (*estate.Estate, error) {
					e, _, err := readEstate(c, file)
					return e, err
				}
			}
			return serve(c, f, first, func(_ context.Context, a *app.App, _ *people.Register) error {
				if f.bgp > 0 {
					a.Learn(f.bgp)
				}
				return nil
			})
		},
	}
	f.add(c, filepath.Join("data", "bivium.db"))
	c.Flags().StringVar(&f.provider.Issuer, "oidc-issuer", "", "the `URL` of the OpenID Connect provider that vouches for people; the client's secret is read from "+providerSecret)
	c.Flags().StringVar(&f.provider.Client, "oidc-client", "bivium", "the `ID` of this server with that provider")
	c.Flags().StringVar(&f.provider.Called, "oidc-called", "single sign-on", "what the sign-in page calls that provider")
	c.Flags().StringVar(&f.provider.Address, "address", "", "the `URL` of this server as browsers know it, for links in what it sends, and to which that provider sends them back")
	c.Flags().IntVar(&f.bgp, "bgp", 0, "the `PORT` on which hubs accept BGP sessions, usually 179 (0: off)")
	c.Flags().StringVar(&file, "import", "", "the estate `FILE` to load if the database is empty")
	return c
}

// checkListen refuses addresses that other machines reach where passwords would go over the
// network as they are.
func checkListen(f *serveFlags) error {
	host, _, err := net.SplitHostPort(f.listen)
	if err != nil {
		return fmt.Errorf("--listen %s: %w; give an address and a port, such as 127.0.0.1:8420", f.listen, err)
	}
	if (f.certificate == "") != (f.key == "") {
		return fmt.Errorf("TLS needs a certificate and its key; give both --tls-cert and --tls-key")
	}
	a, err := netip.ParseAddr(host)
	if f.certificate != "" || f.proxied || host == "localhost" || err == nil && a.IsLoopback() {
		return nil
	}
	return fmt.Errorf("--listen %s: other machines can reach that address, and passwords would be sent unencrypted. Give --tls-cert and --tls-key, use 127.0.0.1, or add --behind-proxy if a proxy in front speaks TLS", f.listen)
}

// serve answers until the command's context ends. then, if given, is done before
// the first answer.
func serve(c *cobra.Command, f serveFlags, begin func() (*estate.Estate, error), then func(context.Context, *app.App, *people.Register) error) (err error) {
	level := slog.LevelInfo
	if f.quiet {
		level = slog.LevelWarn
	}
	log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	if err := checkListen(&f); err != nil {
		return err
	}
	var logs *syslog.Address
	if f.syslog != "" {
		var err error
		if logs, err = syslog.Parse(f.syslog); err != nil {
			return fmt.Errorf("--syslog %w", err)
		}
	}
	l, err := new(net.ListenConfig).Listen(c.Context(), "tcp", f.listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; choose another address with --listen", f.listen, err)
	}
	s, err := store.Open(c.Context(), f.db)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	v, err := vault.Open(f.db + ".key")
	if err != nil {
		return errors.Join(err, l.Close())
	}
	ctx := context.WithoutCancel(c.Context())
	dial := func(provider string, a drivers.Access) (drivers.Driver, error) {
		return providers.Open(provider, a, nil)
	}
	a, err := app.Open(ctx, app.Config{Store: s, Clock: time.Now, Vault: v, First: begin, Dial: dial, Log: log})
	if err != nil {
		return errors.Join(err, l.Close())
	}
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	collectLess(m.HeapAlloc, servePercent)
	defer a.Close()
	go a.Calendar(c.Context())
	register, err := people.Open(ctx, s, v, time.Now)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	if then != nil {
		if err := then(ctx, a, register); err != nil {
			return errors.Join(err, l.Close())
		}
	}
	if logs != nil {
		sent := &syslog.Sender{To: logs, Audit: register.Audit(), Log: log}
		go sent.Run(c.Context())
	}
	desk, err := drafts.Open(ctx, a, register)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	scheme := "http"
	if f.certificate != "" {
		scheme = "https"
		if l, err = certificates.Listen(l, f.certificate, f.key); err != nil {
			return err
		}
	}
	address := fmt.Sprintf("%s://%s", scheme, l.Addr())
	first, err := register.FirstLink(ctx)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	fmt.Fprintf(c.OutOrStdout(), "%s\n%s", address, f.banner)
	if first != "" {
		fmt.Fprintf(c.OutOrStdout(), firstBanner, address, first)
	}
	books := &targets.Books{}
	post := &f.mail
	if post.Server == "" {
		post = nil
	} else {
		post.Password = os.Getenv(mailPassword)
	}
	if f.provider.Address == "" {
		f.provider.Address = address
	}
	told := notices.New(notices.Config{Store: s, People: register, Log: log, Clock: time.Now, Mail: post, Base: f.provider.Address, Told: desk.Events.Noticed})
	desk.Notices = told
	go told.Run(c.Context())
	past := history.New(a, register, desk)
	var writer *applying.Service
	sender := packets.New(a, s, books, time.Now, func(ctx context.Context) string { return writer.Why(ctx) })
	writer = applying.New(applying.Config{
		App: a, Store: s, Books: books, Audit: register.Audit(), Log: log, Clock: time.Now, Told: desk.Events.Written, Notices: told, Stage: sender.Stage, AsOf: past.At, Back: past.TakeBack,
	})
	if err := writer.Start(ctx); err != nil {
		return errors.Join(err, l.Close())
	}
	defer writer.Close()
	looks := watch.New(watch.Config{
		App: a, Store: s, Books: books, People: register, Notices: told, Log: log, Clock: time.Now, Told: desk.Events.Written, Every: f.watch,
		Settled: func(ctx context.Context) bool {
			status, err := writer.Status(ctx)
			return err == nil && (status.State == applying.StateInForce || status.State == applying.StateUnconnected)
		},
	})
	go looks.Run(c.Context())
	config := server.Config{Watch: looks, Notices: told, Targets: books, Applying: writer, App: a, People: register, Drafts: desk, History: past, Store: s, Files: web.Files(), Log: log, Demo: demo.Grayshoal, Names: f.names, Proxied: f.proxied, Rate: requestRate}
	if f.provider.Issuer != "" {
		f.provider.Secret = os.Getenv(providerSecret)
		config.Provider = &f.provider
	}
	return server.Serve(c.Context(), l, server.New(config))
}
