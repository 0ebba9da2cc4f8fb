package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/demo"
	"bivium/internal/app"
	"bivium/internal/server"
	"bivium/internal/store"
	"bivium/web"
)

type serveFlags struct {
	db, listen string
	quiet      bool
}

func (f *serveFlags) add(c *cobra.Command, db string) {
	c.Flags().StringVar(&f.db, "db", db, "the database `FILE`; it is made if it is missing")
	c.Flags().StringVar(&f.listen, "listen", "127.0.0.1:8420", "the `ADDR` to answer on")
	c.Flags().BoolVar(&f.quiet, "quiet", false, "log warnings and errors only")
}

func demoCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start the server with the demo estate, and print its address",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return serve(c, f, func() (*estate.Estate, error) { return document.Read(demo.Grayshoal) })
		},
	}
	f.add(c, filepath.Join("data", "demo.db"))
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
			return serve(c, f, func() (*estate.Estate, error) {
				if file == "" {
					return nil, errors.New("the database is empty; give an estate to begin with by --import FILE")
				}
				e, _, err := readEstate(c, file)
				return e, err
			})
		},
	}
	f.add(c, filepath.Join("data", "bivium.db"))
	c.Flags().StringVar(&file, "import", "", "the estate `FILE` to begin with, if the database is empty")
	return c
}

// serve answers until the command's context ends.
func serve(c *cobra.Command, f serveFlags, first func() (*estate.Estate, error)) (err error) {
	level := slog.LevelInfo
	if f.quiet {
		level = slog.LevelWarn
	}
	log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	l, err := new(net.ListenConfig).Listen(c.Context(), "tcp", f.listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w; choose another address with --listen", f.listen, err)
	}
	s, err := store.Open(c.Context(), f.db)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	a, err := app.Open(context.WithoutCancel(c.Context()), s, time.Now, first)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	fmt.Fprintf(c.OutOrStdout(), "http://%s\n", l.Addr())
	return server.Serve(c.Context(), l, server.New(server.Config{App: a, Files: web.Files(), Log: log}))
}
