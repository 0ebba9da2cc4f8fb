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
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/drivers"
	"bivium/internal/drivers/providers"
	"bivium/internal/server"
	"bivium/internal/standin"
	"bivium/internal/store"
	"bivium/internal/vault"
	"bivium/web"
)

type serveFlags struct {
	db, listen    string
	remote, quiet bool
	bgp           int
}

func (f *serveFlags) add(c *cobra.Command, db string) {
	c.Flags().StringVar(&f.db, "db", db, "the database `FILE`; it is made if it is missing")
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "the `ADDR` to answer on")
	c.Flags().BoolVar(&f.remote, "allow-remote", false, "let --listen be an address that other machines reach: whoever does can read and change everything")
	c.Flags().BoolVar(&f.quiet, "quiet", false, "log warnings and errors only")
}

func demoCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start the server with the demo estate and the world that it is read from, and print its address",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			world, running, err := play(c, 0)
			if err != nil {
				return err
			}
			defer running.Close() //nolint:errcheck // the process ends
			first := func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) }
			return serve(c, f, first, func(ctx context.Context, a *app.App) error {
				if err := connectAll(ctx, a, world, running); err != nil {
					return err
				}
				a.Learn(0)
				fmt.Fprintf(c.ErrOrStderr(), "the world outside is played with at %s\n", running.Play)
				return world.Speak(ctx, a.Speaker)
			})
		},
	}
	f.add(c, filepath.Join("data", "demo.db"))
	return c
}

// connectAll connects the accounts of the demo world at their addresses of today,
// and maps their tags if nobody has yet.
func connectAll(ctx context.Context, a *app.App, world *standin.World, running *standin.Running) error {
	if a.Now().Mapping == nil {
		if _, err := a.SetMapping(ctx, demo.Mapping, a.Now().Revision, "demo"); err != nil {
			return fmt.Errorf("map the tags of the demo: %w", err)
		}
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
		Short: "Start the world outside alone, and print how its accounts are reached",
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
				fmt.Fprintf(out, "%-14s %-9s %s  key %q  secret %q\n", name, a[0], running.Endpoints[a[0]], a[1], a[2])
			}
			fmt.Fprintf(out, "faults, and machines that come and go: %s\n", running.Play)
			<-c.Context().Done()
			return nil
		},
	}
	c.Flags().IntVar(&port, "port", 8430, "the first of five ports on loopback; `N` 0 for any that are free")
	c.Flags().IntVar(&many, "many", 0, "add an account of `N` workloads for each provider")
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
			return serve(c, f, first, func(_ context.Context, a *app.App) error {
				if f.bgp > 0 {
					a.Learn(f.bgp)
				}
				return nil
			})
		},
	}
	f.add(c, filepath.Join("data", "bivium.db"))
	c.Flags().IntVar(&f.bgp, "bgp", 0, "the `PORT` on which hubs listen for routers, 179 as a rule; 0 for not at all")
	c.Flags().StringVar(&file, "import", "", "the estate `FILE` to begin with, if the database is empty")
	return c
}

// checkListen refuses addresses that other machines reach, unless that is meant.
func checkListen(addr string, remote bool) error {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return fmt.Errorf("--listen %s: %w; write an address and a port, such as 127.0.0.1:8420", addr, err)
	}
	a, err := netip.ParseAddr(host)
	if remote || host == "localhost" || err == nil && a.IsLoopback() {
		return nil
	}
	return fmt.Errorf("--listen %s: other machines reach that address, and whoever does can read and change everything, as nobody has to sign in yet; listen on 127.0.0.1, or add --allow-remote if it is meant", addr)
}

// serve answers until the command's context ends. then, if given, is done before
// the first answer.
func serve(c *cobra.Command, f serveFlags, first func() (*estate.Estate, error), then func(context.Context, *app.App) error) (err error) {
	level := slog.LevelInfo
	if f.quiet {
		level = slog.LevelWarn
	}
	log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	if err := checkListen(f.listen, f.remote); err != nil {
		return err
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
	a, err := app.Open(ctx, app.Config{Store: s, Clock: time.Now, Vault: v, First: first, Dial: dial, Log: log})
	if err != nil {
		return errors.Join(err, l.Close())
	}
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	collectLess(m.HeapAlloc, servePercent)
	defer a.Close()
	if then != nil {
		if err := then(ctx, a); err != nil {
			return errors.Join(err, l.Close())
		}
	}
	fmt.Fprintf(c.OutOrStdout(), "http://%s\n", l.Addr())
	return server.Serve(c.Context(), l, server.New(server.Config{App: a, Files: web.Files(), Log: log, Demo: demo.Grayshoal}))
}
