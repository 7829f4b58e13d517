package sqlite

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

// working begins the name of the folder in which a file is being restored.
const working = ".grainkeep-restore-"

// Sweep has nothing to do: a drill's file lies in a scratch folder of this machine, and
// those are swept where they are made.
func (s *source) Sweep(context.Context, string) (engine.Swept, error) {
	return engine.Swept{}, nil
}

// Target makes a new file. It grows in a hidden folder beside its final place,
// which is locked while the restore lives.
func (s *source) Target(ctx context.Context, spec engine.TargetSpec) (engine.Target, error) {
	if spec.Add {
		return s.add(ctx, spec)
	}
	t := &target{s: s, spec: spec}
	parent := spec.Folder
	if err := checkFacts(spec.Facts); err != nil {
		return nil, err
	}
	if spec.Into {
		return nil, fault.Wrong("into-needless",
			"a SQLite file is always made anew").Advise("leave --into out; --replace renames an existing file aside")
	}
	if spec.Name != "" {
		if strings.ContainsRune(spec.Name, '/') || spec.Name == "." || spec.Name == ".." {
			return nil, fault.Wrong("name-impossible", "a SQLite file cannot be named %q", spec.Name)
		}
		parent = s.folder
		if err := s.Vacant(ctx, spec); err != nil {
			return nil, err
		}
		engine.SweepFolders(parent, working)
	}
	t.work = filepath.Join(parent, working+spec.Run)
	var err error
	if _, t.lock, err = engine.MakeLocked(func() (string, error) { return t.work, os.Mkdir(t.work, 0o700) }); err != nil {
		return nil, fault.New("target-unwritable", err, "cannot write to %s", parent)
	}
	t.file = filepath.Join(t.work, "database")
	t.c, err = openConn(t.file, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE, time.Second)
	if err == nil {
		err = t.c.exec(ctx, strings.TrimSuffix(header(spec.Facts), "BEGIN;\n")+fast+"BEGIN;\n")
	}
	if err != nil {
		t.Discard(ctx)
		return nil, err
	}
	return t, nil
}

// fast are settings that matter only while the file is nobody's yet.
const fast = "PRAGMA journal_mode=MEMORY;\nPRAGMA synchronous=OFF;\nPRAGMA cache_size=-16384;\nPRAGMA " +
	"locking_mode=EXCLUSIVE;\n"

type target struct {
	s    *source
	spec engine.TargetSpec
	work string
	file string
	lock *os.File
	c    *conn
}

func (t *target) place() string { return filepath.Join(t.s.folder, t.spec.Name) }

// Vacant fails when the target exists and may not be renamed aside.
func (s *source) Vacant(ctx context.Context, spec engine.TargetSpec) error {
	place := filepath.Join(s.folder, spec.Name)
	if _, err := os.Lstat(place); err != nil {
		return nil //nolint:nilerr // nothing is there
	}
	if !spec.Replace {
		return fault.New("target-exists", nil, "%s exists already", place).
			Advise("restore under another name with --as NAME, or add --replace: the old one is then renamed, not " +
				"deleted")
	}
	return unused(ctx, place)
}

// unused fails when another process has the old file open, and brings all of it
// into the one file.
func unused(ctx context.Context, place string) error {
	c, err := openConn(place, lib.SQLITE_OPEN_READWRITE, time.Second)
	if err == nil {
		defer c.close()
		err = c.exec(ctx, "PRAGMA locking_mode=EXCLUSIVE; BEGIN EXCLUSIVE; COMMIT; PRAGMA wal_checkpoint(TRUNCATE);")
	}
	if is(err, lib.SQLITE_BUSY) || is(err, lib.SQLITE_LOCKED) {
		return fault.New("target-in-use", err, "%s is in use", place).
			Advise("stop the application that has it open, then try again; nothing was changed")
	}
	return nil // a damaged file may be renamed aside too
}

func (t *target) Width() (rows, after int) { return 1, 1 }

func (t *target) Settings() []string {
	return []string{"journal in memory, no syncing until the file is complete"}
}

func (t *target) Missing(context.Context, []string) ([]string, error) { return nil, nil }

func (t *target) Session(context.Context) (engine.Session, error) { return &session{t.c}, nil }

// settle ends the restore's transaction and gives the file its journal mode.
func (t *target) settle(ctx context.Context) error {
	if t.c == nil {
		return nil
	}
	if err := t.c.exec(ctx,
		"COMMIT; PRAGMA locking_mode=NORMAL; PRAGMA journal_mode="+t.spec.Facts["journal_mode"]+";"); err != nil {
		return err
	}
	t.c.close()
	t.c = nil
	f, err := os.OpenFile(t.file, os.O_RDWR, 0) // some systems sync only what may be written
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func (t *target) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	if err := t.settle(ctx); err != nil {
		return nil, err
	}
	c, err := openConn(t.file, lib.SQLITE_OPEN_READWRITE, time.Second)
	if err != nil {
		return nil, err
	}
	s, err := newSnapshot(ctx, c)
	if err != nil {
		c.close()
		return nil, err
	}
	return s, nil
}

func (t *target) Finish(ctx context.Context) (aside string, err error) {
	if err := t.settle(ctx); err != nil {
		return "", err
	}
	if _, err := os.Lstat(t.place()); err == nil {
		if err := t.s.Vacant(ctx, t.spec); err != nil {
			return "", err
		}
		if err := t.likeOld(); err != nil {
			return "", err
		}
		linked := false
		if aside, linked, err = t.moveAside(); err != nil {
			return "", err
		}
		if linked {
			if err := os.Rename(t.file, t.place()); err != nil {
				os.Remove(filepath.Join(t.s.folder, aside))
				return "", err
			}
			return aside, t.placed()
		}
	}
	if err := os.Link(t.file, t.place()); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return aside, t.s.Vacant(ctx, t.spec)
		}
		if err := os.Rename(t.file, t.place()); err != nil { // no hard links here
			return aside, err
		}
	}
	return aside, t.placed()
}

// placed makes the new name durable and removes the working folder.
func (t *target) placed() error {
	t.remove()
	return system.SyncFolder(t.s.folder)
}

// likeOld gives the new file the mode and the owner of the one that it replaces: the
// application must be able to use it, and nobody else.
func (t *target) likeOld() error {
	st, err := os.Stat(t.place())
	if err != nil || !st.Mode().IsRegular() {
		return err
	}
	if old, ok := system.FactsOf(st); ok {
		if err := os.Chown(t.file, old.UID, old.GID); err != nil {
			t.spec.Warn(fmt.Sprintf("the file belongs to another user than the one that it replaces (%d, group %d): chown it",
				old.UID, old.GID))
		}
	}
	return os.Chmod(t.file, st.Mode().Perm())
}

// moveAside gives the old file a name that tells when: a second one, where it can, so that
// the new file can take the first in one step. What its journal may have left goes along.
func (t *target) moveAside() (name string, linked bool, err error) {
	ext := filepath.Ext(t.spec.Name)
	aside := strings.TrimSuffix(t.spec.Name, ext) + "-before-" + t.spec.Aside.UTC().Format("20060102T150405Z") + ext
	if _, err := os.Lstat(filepath.Join(t.s.folder, aside)); err == nil {
		return "", false, fault.New("target-exists", nil, "%s exists already", filepath.Join(t.s.folder, aside))
	}
	if !t.hasTails() && os.Link(t.place(), filepath.Join(t.s.folder, aside)) == nil {
		return aside, true, nil
	}
	for _, tail := range append([]string{""}, tails...) {
		err := os.Rename(t.place()+tail, filepath.Join(t.s.folder, aside+tail))
		if err != nil && !(tail != "" && errors.Is(err, os.ErrNotExist)) {
			return "", false, err
		}
	}
	os.Remove(t.place() + "-shm")
	return aside, false, nil
}

// tails are what a journal beside the file may be called.
var tails = []string{"-wal", "-journal"}

func (t *target) hasTails() bool {
	return slices.ContainsFunc(tails, func(tail string) bool {
		_, err := os.Lstat(t.place() + tail)
		return !errors.Is(err, os.ErrNotExist)
	})
}

func (t *target) remove() {
	_ = system.RemoveLocked(t.work, t.lock) // what is left is swept by the next
}

func (t *target) Discard(context.Context) error {
	if t.c != nil {
		t.c.close()
		t.c = nil
	}
	t.remove()
	return nil
}

type session struct{ c *conn }

func (s *session) Close() error { return nil }

func (s *session) Exec(ctx context.Context, sql string) error { return s.c.exec(ctx, sql) }

// Load runs the INSERT statements of a data file; the session has its settings.
func (s *session) Load(ctx context.Context, text io.Reader, seen func(int64)) (rows int64, err error) {
	done := s.c.watch(ctx)
	defer func() { err = done(err) }()
	return engine.Inserts(text, seen, func(sql []byte) (int64, error) {
		if err := s.c.execText(sql[max(0, bytes.Index(sql, []byte("INSERT INTO "))):]); err != nil {
			return 0, err
		}
		return lib.Xsqlite3_changes64(s.c.tls, s.c.db), nil
	})
}
