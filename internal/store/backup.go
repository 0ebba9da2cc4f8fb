package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// Backup writes a copy of a database to a file that must not be there yet, and checks it. The
// database may be in use: the copy is as of one moment (SQLite's VACUUM INTO). Credentials in
// it stay sealed; the key that opens them is not in it.
func Backup(ctx context.Context, file, to string) (err error) {
	if _, err := os.Stat(file); err != nil {
		return fmt.Errorf("back up: %w", err)
	}
	if _, err := os.Stat(to); err == nil {
		return fmt.Errorf("back up: %s is there already; choose another file", to)
	}
	db, err := openFile(file)
	if err != nil {
		return fmt.Errorf("back up %s: %w", file, err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return fmt.Errorf("back up %s: %w", file, errors.Join(plain(err), os.Remove(to)))
	}
	if err := Verify(ctx, to); err != nil {
		return err
	}
	return os.Chmod(to, 0o600)
}

// Verify checks that a file is a whole database of this product or of an earlier version.
func Verify(ctx context.Context, file string) (err error) {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	db, err := openFile(file)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	s := &Store{db: db}
	if err := s.check(ctx); err != nil {
		return fmt.Errorf("%s: %w", file, plain(err))
	}
	var revision int64
	err = db.QueryRowContext(ctx, `SELECT coalesce(max(revision), 0) FROM estate`).Scan(&revision)
	if err != nil {
		return fmt.Errorf("%s is not a database of Bivium: %w", file, plain(err))
	}
	return nil
}

func openFile(file string) (*sql.DB, error) {
	return sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+url.Values{"_pragma": {"busy_timeout(5000)"}}.Encode())
}

// Restore puts a backup in the place of a database that no server has open. What was there is
// kept beside it, with ".before-restore" at the end of its name.
func Restore(ctx context.Context, from, file string) (err error) {
	if err := Verify(ctx, from); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	lock := flock.New(file+".lock", flock.SetPermissions(0o600))
	if held, err := lock.TryLock(); err != nil || !held {
		return errors.Join(err, fmt.Errorf("restore %s: a server is using it; stop that server first", file))
	}
	defer func() { err = errors.Join(err, lock.Unlock()) }()
	fresh := file + ".restored"
	if err := copyFile(from, fresh); err != nil {
		return err
	}
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(file+end, file+".before-restore"+end); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return os.Rename(fresh, file)
}

func copyFile(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close() //nolint:errcheck // it is read only
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, in); err == nil {
		err = out.Sync()
	}
	return errors.Join(err, out.Close())
}

// Reseal seals all credentials and secrets anew, all of them or none. use tells what a secret
// of the server is sealed for, and seal opens what was sealed and seals it again.
func (s *Store) Reseal(ctx context.Context, credential func(o *Source) ([]byte, error), secret func(name string, sealed []byte) ([]byte, error)) (count int, err error) {
	sources, err := s.Sources(ctx)
	if err != nil {
		return 0, err
	}
	err = s.inTransaction(ctx, func(tx *sql.Tx) error {
		for i := range sources {
			sealed, err := credential(&sources[i])
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE source SET sealed = ? WHERE account = ?`, sealed, sources[i].Account); err != nil {
				return err
			}
			count++
		}
		rows, err := tx.QueryContext(ctx, `SELECT name, sealed FROM secret`)
		if err != nil {
			return err
		}
		secrets := map[string][]byte{}
		for rows.Next() {
			var name string
			var sealed []byte
			if err := rows.Scan(&name, &sealed); err != nil {
				return errors.Join(err, rows.Close())
			}
			secrets[name] = sealed
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		for name, was := range secrets {
			sealed, err := secret(name, was)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE secret SET sealed = ? WHERE name = ?`, sealed, name); err != nil {
				return err
			}
			count++
		}
		return nil
	})
	return count, err
}
