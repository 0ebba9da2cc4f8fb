package main

import (
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"bivium/internal/app"
	"bivium/internal/people"
	"bivium/internal/store"
	"bivium/internal/vault"
)

func defaultDB() string { return filepath.Join("data", "bivium.db") }

func backupCommand() *cobra.Command {
	var db string
	c := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write a consistent copy of a database to a file, and check it; the server may be running",
		Long:  "Credentials in the copy stay encrypted. Keep the key, which is in BIVIUM_KEY or beside the database, in another place.",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := store.Backup(c.Context(), db, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s holds a checked copy of %s\n", args[0], db)
			return nil
		},
	}
	c.Flags().StringVar(&db, "db", defaultDB(), "the database `FILE`")
	return c
}

func restoreCommand() *cobra.Command {
	var db string
	c := &cobra.Command{
		Use:   "restore FILE",
		Short: "Put a backup in the place of a database that no server is using",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := store.Restore(c.Context(), args[0], db); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s is restored from %s; what was there is in %s.before-restore\n", db, args[0], db)
			return nil
		},
	}
	c.Flags().StringVar(&db, "db", defaultDB(), "the database `FILE`")
	return c
}

func keyCommand() *cobra.Command {
	c := &cobra.Command{Use: "key", Short: "Manage the key with which credentials are encrypted"}
	var db string
	rotate := &cobra.Command{
		Use:   "rotate",
		Short: "Encrypt all credentials with a new key, in one transaction; the server must be stopped",
		Args:  cobra.NoArgs,
		RunE:  func(c *cobra.Command, _ []string) error { return rotateKey(c, db) },
	}
	rotate.Flags().StringVar(&db, "db", defaultDB(), "the database `FILE`")
	c.AddCommand(rotate)
	return c
}

func rotateKey(c *cobra.Command, db string) (err error) {
	if os.Getenv(vault.Variable) != "" {
		return fmt.Errorf("the key is in %s: unset it, and put the key into %s.key, to rotate it", vault.Variable, db)
	}
	if _, err := os.Stat(db); err != nil {
		return err
	}
	s, err := store.Open(c.Context(), db)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	file := db + ".key"
	was, err := vault.Open(file)
	if err != nil {
		return err
	}
	next, err := vault.Next(file)
	if err != nil {
		return err
	}
	count, err := s.Reseal(c.Context(),
		func(o *store.Source) ([]byte, error) { return app.Reseal(o, was, next) },
		func(name string, sealed []byte) ([]byte, error) { return people.Reseal(name, sealed, was, next) })
	if err != nil {
		return errors.Join(fmt.Errorf("nothing was changed: %w", err), vault.Abandon(file))
	}
	if err := vault.Adopt(file); err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "%d secrets are encrypted with the new key in %s; the old key is in %s.old, for old backups\n", count, file, file)
	return nil
}

func auditCommand() *cobra.Command {
	c := &cobra.Command{Use: "audit", Short: "Check the audit log"}
	var db, head string
	verify := &cobra.Command{
		Use:   "verify",
		Short: "Check that no entry of the audit log was changed, removed or swapped, and print its head",
		Long:  "With the head of an earlier time, entries that were cut off at the end are found, too. The exit status is 1 if the log does not hold.",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			if _, err := os.Stat(db); err != nil {
				return err
			}
			if _, err := hex.DecodeString(head); err != nil {
				return fmt.Errorf("--head %s: %w", head, err)
			}
			s, err := store.Open(c.Context(), db)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, s.Close()) }()
			v, err := vault.Open(db + ".key")
			if err != nil {
				return err
			}
			register, err := people.Open(c.Context(), s, v, time.Now)
			if err != nil {
				return err
			}
			count, now, err := register.Audit().Verify(c.Context(), head)
			var broken *people.Broken
			if errors.As(err, &broken) {
				fmt.Fprintln(c.OutOrStdout(), broken)
				return errFails
			}
			if err == nil {
				fmt.Fprintf(c.OutOrStdout(), "%d entries hold; head %s\n", count, now)
			}
			return err
		},
	}
	verify.Flags().StringVar(&db, "db", defaultDB(), "the database `FILE`, which no server is using; of a running one, verify a backup")
	verify.Flags().StringVar(&head, "head", "", "the `HEAD` that was printed at an earlier time")
	c.AddCommand(verify)
	return c
}
