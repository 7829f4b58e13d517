package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/manifest"
	"grainkeep/internal/store"
)

// A copy into a store that moves nothing may end half way: a line is lost, somebody stops it. What has arrived whole need
// not be sent again: the next copy of the same dump goes on with it. Whoever dumps there first clears it away.

// begunCopy notes in which folder a copy was begun, and of which dump.
func begunCopy(dir, id string) []byte { return []byte(dir + "\n" + id) }

// note writes into the session's hidden place where something was begun.
func (s *Session) note(ctx context.Context, text []byte) error {
	s.mu.Lock()
	s.into++
	name := fmt.Sprintf("%s/%s/%s/%d", workName, s.run, begunIn, s.into)
	s.mu.Unlock()
	if err := store.WriteNew(ctx, s.k.st, name, text); err != nil {
		return s.k.unwritable(err)
	}
	return nil
}

// Adopt takes over the copies that sessions which are no more have begun. The job's lease must be held, so that nobody else
// copies its dumps.
func (s *Session) Adopt(ctx context.Context, job string) error {
	if s.stage != nil || s.k.blind {
		return nil
	}
	k := s.k
	var runs []string
	err := k.st.List(ctx, workName, func(e store.Entry) error {
		if base := strings.TrimPrefix(e.Name, workName+"/"); e.Folder && hexID(base) && base != s.run {
			runs = append(runs, base)
		}
		return nil
	})
	if err = store.IgnoreAbsent(err); err != nil {
		return k.unwritable(err)
	}
	for _, run := range runs {
		lease, err := k.st.(store.Leaser).Lease(ctx, workName+"/"+run+leaseEnding)
		var held *store.HeldError
		if errors.As(err, &held) {
			continue // alive
		}
		if err == nil {
			err = errors.Join(s.adoptOf(ctx, run, job), lease.Release())
		}
		if err != nil {
			return k.unwritable(err)
		}
	}
	return nil
}

// adoptOf takes over the copies of a job that one session has begun.
func (s *Session) adoptOf(ctx context.Context, run, job string) error {
	k := s.k
	var notes []string
	err := k.st.List(ctx, workName+"/"+run+"/"+begunIn, func(e store.Entry) error {
		notes = append(notes, e.Name)
		return nil
	})
	if err = store.IgnoreAbsent(err); err != nil {
		return err
	}
	for _, note := range notes {
		text, err := store.ReadAll(ctx, k.st, note, maxSmall)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		dir, id, is := strings.Cut(string(text), "\n")
		if !is || !begunFolder(dir) || !strings.HasPrefix(dir, job+"/") || s.begun[id] != "" {
			continue
		}
		if err := s.note(ctx, text); err != nil {
			return err
		}
		if err := k.st.Remove(ctx, note); err != nil {
			return err
		}
		if s.begun == nil {
			s.begun = map[string]string{}
		}
		s.begun[id] = dir
	}
	return nil
}

// goOn takes up the copy of a dump that was begun, if one was: what lies there and is no file of the dump goes.
func (d *Draft) goOn(ctx context.Context, id string) error {
	d.copyOf = id
	dir := d.s.begun[id]
	if dir == "" {
		return nil
	}
	k := d.s.k
	if complete, err := store.Exists(ctx, k.st, dir+"/"+manifest.Name); complete || err != nil {
		return err
	}
	known := map[string]bool{}
	for _, f := range d.m.Files {
		known[dir+"/"+f.Path] = true
	}
	var strays []string
	var walk func(folder string) error
	walk = func(folder string) error {
		return store.IgnoreAbsent(k.st.List(ctx, folder, func(e store.Entry) error {
			switch {
			case e.Folder:
				return walk(e.Name)
			case !known[e.Name]:
				strays = append(strays, e.Name)
			}
			return nil
		}))
	}
	if err := walk(dir); err != nil {
		return err
	}
	for _, name := range strays {
		if err := k.st.Remove(ctx, name); err != nil {
			return err
		}
	}
	d.folder, d.adopted = dir, true
	return nil
}

// arrived says whether a file of a copy that goes on is there already, as it should be; what is otherwise is removed.
func (d *Draft) arrived(ctx context.Context, f manifest.File) (bool, error) {
	if !d.adopted {
		return false, nil
	}
	st, name := d.s.k.st, d.folder+"/"+f.Path
	e, err := st.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil && e.Bytes == f.Bytes && !e.Foreign && !e.Folder {
		r, err := st.Open(ctx, name, 0, -1)
		if err != nil {
			return false, err
		}
		defer r.Close()
		sum, n, err := blob.Digest(r, f.Bytes, func(int64) bool { return ctx.Err() == nil })
		if err != nil || ctx.Err() != nil {
			return false, errors.Join(err, context.Cause(ctx))
		}
		if sum == f.SHA256 && n == f.Bytes {
			return true, nil
		}
	}
	if err != nil {
		return false, err
	}
	return false, st.Remove(ctx, name)
}

// begunFolder says whether a text that comes from the keep is a folder in which a dump can have been begun.
func begunFolder(dir string) bool {
	parts := strings.Split(dir, "/")
	return store.CheckName(dir) == nil && len(parts) == 3 && IsJob(parts[0]) && !strings.HasPrefix(parts[2], ".")
}
