// Package journal is the history of runs: what was done when, by whom, and what came of it. It lies in an
// SQLite file beside the logs of the runs, or in a PostgreSQL database that several machines share. It is a
// convenience: losing it never loses a dump, and what keeps can tell is put back from them.
package journal

import (
	"context"
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/state"
)

// Version is that of the schema.
const Version = 1

const (
	fileName = "journal.db"
	logsName = "logs"
)

//go:embed schema.sql
var schema string

// Journal is an open journal. Its methods may be called side by side, also by several processes.
type Journal struct {
	db     *sql.DB
	shared bool   // PostgreSQL
	folder string // of the logs, on this machine
	fresh  bool
	where  string
}

// Open opens the journal in a folder of this machine, and makes it if need be. A file that is damaged is put
// aside, and its new name given.
func Open(ctx context.Context, folder string) (j *Journal, aside string, err error) {
	if err := state.Folder(filepath.Join(folder, logsName)); err != nil {
		return nil, "", unusable(folder, err)
	}
	path := filepath.Join(folder, fileName)
	j, err = openFile(ctx, folder, path)
	if damagedFile(err) {
		aside = path + ".damaged-" + clock.Now().UTC().Format("20060102T150405Z")
		if err := os.Rename(path, aside); err != nil {
			return nil, "", unusable(folder, err)
		}
		for _, more := range []string{"-wal", "-shm"} { // they belong to the one before
			if err := os.Remove(path + more); err != nil && !errors.Is(err, os.ErrNotExist) {
				return nil, "", unusable(folder, err)
			}
		}
		j, err = openFile(ctx, folder, path)
	}
	if err != nil {
		return nil, "", unusable(folder, err)
	}
	return j, aside, nil
}

// uriPath is a path as a URI has it: one with a drive's letter begins with a slash too.
func uriPath(path string) string {
	if filepath.VolumeName(path) != "" {
		return "/" + filepath.ToSlash(path)
	}
	return path
}

func openFile(ctx context.Context, folder, path string) (*Journal, error) {
	if f, err := state.OpenFile(path, os.O_CREATE|os.O_RDWR); err != nil { // nobody else reads it
		return nil, err
	} else if err := f.Close(); err != nil {
		return nil, err
	}
	at := url.URL{Scheme: "file", Path: uriPath(path), RawQuery: "_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)" +
		"&_pragma=synchronous(NORMAL)&_txlock=immediate"}
	db, err := sql.Open("sqlite", at.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	j := &Journal{db: db, folder: folder, where: path}
	if err := j.prepare(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return j, nil
}

// damagedFile says whether an error is SQLite's for a file that is none of its, or broken.
func damagedFile(err error) bool {
	return err != nil && (strings.Contains(err.Error(), "malformed") || strings.Contains(err.Error(), "not a database"))
}

// Share uses a database of a PostgreSQL server as the journal, and makes its tables if need be; the logs stay
// in a folder of this machine. The journal closes the database.
func Share(ctx context.Context, db *sql.DB, where, folder string) (*Journal, error) {
	j := &Journal{db: db, shared: true, folder: folder, where: where}
	err := state.Folder(filepath.Join(folder, logsName))
	if err == nil {
		err = j.prepareShared(ctx)
	}
	if err != nil {
		return nil, unusable(where, errors.Join(err, db.Close()))
	}
	return j, nil
}

// prepareShared makes the tables while no other machine does.
func (j *Journal) prepareShared(ctx context.Context) error {
	c, err := j.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()           // its lock ends with it
	const making = 1735551857 // of ours, among the server's advisory locks
	if _, err := c.ExecContext(ctx, "SELECT pg_advisory_lock($1)", making); err != nil {
		return err
	}
	err = j.prepare(ctx)
	if err == nil {
		_, err = c.ExecContext(ctx, turnTable)
	}
	_, e := c.ExecContext(ctx, "SELECT pg_advisory_unlock($1)", making)
	return errors.Join(err, e)
}

func unusable(where string, err error) error {
	return fault.New("journal-unusable", err, "the journal in %s cannot be used", where).
		Advise("check who owns it and whether its disk is full; [journal] in the configuration names another place")
}

// prepare makes the tables of a new journal.
func (j *Journal) prepare(ctx context.Context) error {
	var version string
	err := j.db.QueryRowContext(ctx, "SELECT value FROM meta WHERE name = 'version'").Scan(&version)
	if err == nil {
		if n, err := strconv.Atoi(version); err != nil || n > Version {
			return fmt.Errorf("its version is %.20q, and this program knows versions up to %d", version, Version)
		}
		return nil
	}
	if damagedFile(err) {
		return err
	}
	for _, s := range strings.Split(schema, "\n\n") {
		if _, err := j.db.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	j.fresh = true
	_, err = j.exec(ctx, "INSERT INTO meta (name, value) VALUES ('version', ?) ON CONFLICT DO NOTHING",
		strconv.Itoa(Version))
	return err
}

// Fresh says that the journal was made just now: what keeps can tell is not in it yet.
func (j *Journal) Fresh() bool { return j.fresh }

// Where is the journal's place, for people.
func (j *Journal) Where() string { return j.where }

// Close closes it.
func (j *Journal) Close() error { return j.db.Close() }

// exec runs a statement, whose ? are its arguments in both dialects.
func (j *Journal) exec(ctx context.Context, text string, args ...any) (sql.Result, error) {
	return j.db.ExecContext(ctx, j.dialect(text), args...)
}

func (j *Journal) query(ctx context.Context, text string, args ...any) (*sql.Rows, error) {
	return j.db.QueryContext(ctx, j.dialect(text), args...)
}

func (j *Journal) dialect(text string) string {
	if !j.shared {
		return text
	}
	var b strings.Builder
	n := 0
	for _, c := range text {
		if c == '?' {
			n++
			fmt.Fprintf(&b, "$%d", n)
			continue
		}
		b.WriteRune(c)
	}
	return b.String()
}

// micros is a time as the journal writes it.
func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

func timeOf(micros int64) time.Time {
	if micros == 0 {
		return time.Time{}
	}
	return time.UnixMicro(micros).UTC()
}
