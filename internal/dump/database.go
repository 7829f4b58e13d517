package dump

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
	"grainkeep/internal/rows"
)

// one is a dump being made.
type one struct {
	*runner
	folder string
	guard  blob.Guard
	snap   engine.Snapshot
	cat    *engine.Catalog

	mu sync.Mutex // guards m.Files while tables are written side by side
	m  *manifest.Manifest
}

func (r *runner) database(ctx context.Context, src engine.Source, work *keep.Work, d engine.Database) (*Done, error) {
	started := time.Now().UTC()
	snap, err := src.Snapshot(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	o := &one{runner: r, folder: filepath.Join(work.Folder, keep.DatabaseFolder(d.Name)), guard: r.Keep.Guard(), snap: snap, cat: snap.Catalog()}
	if err := o.guard(1 << 30); err != nil { // look now, whatever was written since
		return nil, err
	}
	left := r.narrow(o.cat, d.Name)
	o.m = r.blank(d.Name, snap, started)
	o.m.LeftOut = left
	for _, w := range o.cat.Warnings {
		r.w.Warn(d.Name + ": " + w)
	}
	if err := o.structure(); err != nil {
		return nil, err
	}
	if err := o.rows(ctx); err != nil {
		return nil, err
	}
	if err := snap.Confirm(ctx); err != nil {
		return nil, err
	}
	if err := o.companions(); err != nil {
		return nil, err
	}
	id, err := o.seal()
	if err != nil {
		return nil, err
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	path, err := work.Place(o.folder, r.Name, d.Name, o.m.Moment, string(o.m.Kind))
	if err != nil {
		return nil, err
	}
	return &Done{Path: path, ID: id, Manifest: o.m}, nil
}

func (r *runner) blank(database string, snap engine.Snapshot, started time.Time) *manifest.Manifest {
	m := &manifest.Manifest{
		Format: manifest.Version, Tool: r.Tool, Keep: r.Keep.ID, Job: r.Name, Database: database, Kind: manifest.Full,
		Moment: snap.Moment().UTC(), Zone: r.Zone.String(), Started: started,
		Run: manifest.Run{ID: r.res.Run, Started: r.started},
		Source: manifest.Source{Name: r.Source.Name, Engine: r.Source.Engine, Where: r.Source.Server + r.Source.Path,
			Product: r.server.Product, Version: r.server.Version, User: r.server.User},
		Facts: snap.Catalog().Facts, Compression: string(r.Compression), Fingerprint: rows.FingerprintVersion,
		Objects: map[string]int{}, Warnings: snap.Catalog().Warnings, Position: snap.Catalog().Position, Tables: []manifest.Table{},
	}
	for _, d := range r.plan.Databases {
		m.Run.Databases = append(m.Run.Databases, d.Name)
	}
	return m
}

// file makes a file of the dump, lets fill write its text, and notes its digest.
func (o *one) file(path string, c blob.Compression, fill func(*blob.File) error) error {
	f, err := blob.Create(filepath.Join(o.folder, path), c, o.guard)
	if err != nil {
		return err
	}
	return o.closed(path, f, fill(f))
}

// closed ends a file, after the error that filling it ended in, and notes its digest.
func (o *one) closed(path string, f *blob.File, err error) error {
	info, closed := f.Close()
	if closed != nil {
		return closed // the disk's error is the cause
	}
	if err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.m.Files = append(o.m.Files, manifest.File{Path: path, Bytes: info.Stored, Raw: info.Raw, SHA256: info.SHA256})
	o.m.StoredBytes += info.Stored
	o.m.RawBytes += info.Raw
	return nil
}

// structure writes everything but rows, and the index that says where each
// object's SQL is.
func (o *one) structure() error {
	var index []manifest.ObjectEntry
	for _, section := range engine.Structure {
		path := string(section) + ".sql" + o.Compression.Ending()
		var sql []string
		at := int64(len(o.cat.Header))
		for _, obj := range o.cat.Objects {
			if obj.Section != section {
				continue
			}
			index = append(index, manifest.ObjectEntry{Object: obj, File: path, Offset: at, Length: int64(len(obj.SQL))})
			sql = append(sql, obj.SQL)
			at += int64(len(obj.SQL))
			o.m.Objects[obj.Kind]++
		}
		if len(sql) == 0 {
			continue
		}
		err := o.file(path, o.Compression, func(f *blob.File) error {
			for _, s := range append(append([]string{o.cat.Header}, sql...), o.cat.Trailer) {
				if _, err := f.Write([]byte(s)); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return o.file(manifest.ObjectsOf+o.Compression.Ending(), o.Compression, func(f *blob.File) error {
		return json.NewEncoder(f).Encode(index)
	})
}

// counts gives the rows of each table, and the queries that count them. A tree whose
// rows may land in other partitions is counted as one.
func (o *one) counts() (lines, queries string) {
	rows := map[string]int64{}
	var order []string
	for i, t := range o.cat.Tables {
		id := t.ID
		if t.Through != "" {
			id = t.Through
		}
		if _, seen := rows[id]; !seen {
			order = append(order, id)
			queries += t.Count
		}
		rows[id] += o.m.Tables[i].Rows
	}
	for _, id := range order {
		lines += fmt.Sprintf("%s|%d\n", id, rows[id])
	}
	return lines, queries
}

// companions writes what people need: the row counts and the README.
func (o *one) companions() error {
	counts, queries := o.counts()
	readme, err := o.readme()
	if err != nil {
		return err
	}
	for _, f := range []struct{ name, text string }{
		{manifest.CountSQL, queries}, {manifest.CountText, counts}, {manifest.Readme, readme},
	} {
		err := o.file(f.name, blob.None, func(w *blob.File) error {
			_, err := w.Write([]byte(f.text))
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// seal writes the digests and, last of all, the manifest. It gives the id.
func (o *one) seal() (string, error) {
	sort.Slice(o.m.Files, func(a, b int) bool { return o.m.Files[a].Path < o.m.Files[b].Path })
	o.m.Finished = time.Now().UTC()
	data, id, err := o.m.Encode()
	if err != nil {
		return "", err
	}
	if err := keep.WriteNew(filepath.Join(o.folder, manifest.Sums), []byte(o.m.SumLines(id))); err != nil {
		return "", err
	}
	return id, keep.WriteNew(filepath.Join(o.folder, manifest.Name), data)
}

func (o *one) readme() (string, error) {
	driver, err := engine.Find(o.Source.Engine)
	if err != nil {
		return "", err
	}
	owners := false
	for _, obj := range o.cat.Objects {
		owners = owners || obj.Section == engine.Owners
	}
	lines := driver.ByHand(engine.HandDump{Database: o.m.Database, Facts: o.m.Facts, Owners: owners, Unpack: o.Compression.Unpack()})
	m := o.m
	var b strings.Builder
	what := "the database " + phrase.OneLine(m.Database)
	if m.Database == engine.ServerWide {
		what = "what belongs to the server itself: its roles or users, and their rights"
	}
	fmt.Fprintf(&b, `A full dump of %s

  job         %s
  from        %s %s (%s)
  moment      %s
  rows        %s in %s
  size        %s, %s as text

To restore it with Grain Keep, give it this folder:

    grainkeep restore ./ --to SOURCE

To restore it by hand, with a shell, sha256sum, the decompressor and the
server's own client, run these lines one after the other in this folder. Each
must succeed before the next.

    sha256sum -c --quiet SHA256SUMS
`, what, m.Job, m.Source.Product, m.Source.Version, phrase.OneLine(m.Source.Where), phrase.Both(m.Moment, o.Zone),
		phrase.Count(m.Rows()), phrase.Plural(int64(len(m.Tables)), "table"), phrase.Bytes(m.StoredBytes), phrase.Bytes(m.RawBytes))
	for _, l := range lines {
		b.WriteString("    " + l + "\n")
	}
	if len(m.LeftOut) > 0 {
		b.WriteString("\nNot in this dump, as its job says: " + phrase.OneLine(strings.Join(m.LeftOut, ", ")) + "\n")
	}
	for _, t := range m.Tables {
		if t.Condition != "" {
			b.WriteString("\nOf " + phrase.OneLine(t.ID) + " it has only the rows where " + phrase.OneLine(t.Condition) + "\n")
		}
	}
	b.WriteString(`
The files are plain SQL. Their order by name is the order to load them in:
structure, rows, keys, then the rest. Loading stops at the first error. Where
the data itself breaks a rule (a foreign key, a check), that rule stops it: load
the file without that statement, or add NOT VALID to it where the server can.
`)
	return b.String(), nil
}
