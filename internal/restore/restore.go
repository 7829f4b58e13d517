// Package restore brings a dump back: manifest → target.
package restore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"sort"
	"sync/atomic"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/stream"
	"grainkeep/internal/verify"
)

// Owners says what becomes of owners and grants.
type Owners string

// What can become of owners and grants.
const (
	Kept Owners = "kept" // as in the dump
	Mine Owners = "mine" // everything belongs to the restoring user
)

// Options are what a restore can be told.
type Options struct {
	Name    string   // the database to make
	Replace bool     // rename an existing one aside
	Only    []string // just these tables, with what they need; empty: all
	Owners  Owners
}

// Outcome is what came of a restore.
type Outcome struct {
	Name      string
	Aside     string // what an old database of that name is called now
	Rows      int64
	Tables    int
	Took      time.Duration
	Unchecked []string // rules that the rows break: added without testing them
	LeftOut   []string // rules that the rows break and the server cannot add at all
	Settings  []string
}

// Warnings are sentences about what did not come back as it was.
func (o *Outcome) Warnings() (list []string) {
	for _, r := range o.Unchecked {
		list = append(list, "the data breaks the "+r+": it was added without testing the rows that are there")
	}
	for _, r := range o.LeftOut {
		list = append(list, "the data breaks the "+r+": it is left out")
	}
	return list
}

// Run restores a dump into a new database of a source. Until it is complete, the
// database has a working name; if anything fails, it is removed.
func Run(ctx context.Context, d *keep.Dump, to engine.Location, opt Options, meter *stream.Meter) (out *Outcome, err error) {
	src, err := engine.Open(ctx, to)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if to.Engine != d.Manifest.Source.Engine {
		return nil, fault.Wrong("engine-differs", "the dump is of %s, and the target is %s", d.Manifest.Source.Engine, to.Engine).
			Advise("name a %s target with --to", d.Manifest.Source.Engine)
	}
	// What a killed restore or drill of this keep left is cleaned up by the next.
	if _, _, err := src.Sweep(ctx, d.Manifest.Keep); err != nil {
		return nil, err
	}
	t, err := src.Target(ctx, engine.TargetSpec{Name: opt.Name, Replace: opt.Replace, KeepID: d.Manifest.Keep,
		Run: keep.NewRun(), Facts: d.Manifest.Facts, Aside: time.Now()})
	if err != nil {
		return nil, err
	}
	out, err = Load(ctx, d, t, opt, meter)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err == nil {
		out.Aside, err = t.Finish(ctx)
	}
	if err != nil {
		clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if e := t.Discard(clean); e != nil {
			err = fmt.Errorf("%w (and the unfinished database could not be removed: %v)", err, e)
		}
		return nil, err
	}
	return out, nil
}

// loader is a restore under way.
type loader struct {
	d       *keep.Dump
	m       *manifest.Manifest
	t       engine.Target
	opt     Options
	meter   *stream.Meter
	out     *Outcome
	objects []manifest.ObjectEntry
	tables  []manifest.Table
	text    map[string][]byte // of the files that hold objects
}

// Load loads a dump into a target: structure, rows, keys, the rest.
func Load(ctx context.Context, d *keep.Dump, t engine.Target, opt Options, meter *stream.Meter) (*Outcome, error) {
	l := &loader{d: d, m: d.Manifest, t: t, opt: opt, meter: meter, text: map[string][]byte{},
		out: &Outcome{Name: opt.Name, Settings: t.Settings()}}
	start := time.Now()
	if bad := verify.Present(d); len(bad) > 0 {
		return nil, damaged(d, verify.Summary(bad))
	}
	if err := l.index(); err != nil {
		return nil, err
	}
	if err := l.choose(); err != nil {
		return nil, err
	}
	if err := l.roles(ctx); err != nil {
		return nil, err
	}
	if err := l.run(ctx); err != nil {
		return nil, err
	}
	l.out.Took = time.Since(start)
	return l.out, nil
}

func damaged(d *keep.Dump, what string) error {
	return fault.New("dump-damaged", errors.New(what), "the dump %s of %s cannot be used", d.Short(), d.Name()).
		Advise("use another dump; 'grainkeep list' shows them")
}

// Damaged says whether an error means that the dump's own files are at fault.
func Damaged(err error) bool { return fault.HasCode(err, "dump-damaged") }

// read gives the text of a file, checked against the manifest.
func (l *loader) read(path string) ([]byte, error) {
	f, err := stream.Open(filepath.Join(l.d.Path, path), stream.Compression(l.m.Compression))
	if err != nil {
		return nil, l.fileTrouble(path, err)
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err != nil {
		return nil, l.fileTrouble(path, err)
	}
	return text, l.checkSum(path, f)
}

func (l *loader) checkSum(path string, f *stream.Source) error {
	sum, err := f.Sum()
	if err != nil {
		return l.fileTrouble(path, err)
	}
	for _, known := range l.m.Files {
		if known.Path == path && known.SHA256 == sum {
			return nil
		}
	}
	return damaged(l.d, path+" does not match its digest")
}

// fileTrouble tells a damaged file from other causes: the digest decides.
func (l *loader) fileTrouble(path string, cause error) error {
	for _, f := range l.m.Files {
		if f.Path == path {
			if finding, err := verify.File(l.d, f); err == nil && finding != "" {
				return damaged(l.d, finding)
			}
		}
	}
	return fmt.Errorf("%s: %w", path, cause)
}

func (l *loader) index() error {
	data, err := l.read(manifest.ObjectsOf + stream.Compression(l.m.Compression).Ending())
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &l.objects); err != nil {
		return damaged(l.d, "its list of objects cannot be read: "+err.Error())
	}
	return nil
}

// choose leaves what is to be restored: everything, or some tables with what
// they need.
func (l *loader) choose() error {
	l.tables = l.m.Tables
	if l.opt.Owners == Mine {
		l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool { return o.Section == engine.Owners })
	}
	if len(l.opt.Only) == 0 {
		return nil
	}
	wanted, err := PickTables(l.m, l.opt.Only)
	if err != nil {
		return err
	}
	l.tables = slices.DeleteFunc(slices.Clone(l.tables), func(t manifest.Table) bool { return !wanted[t.ID] })
	l.objects = Needed(l.objects, wanted)
	return nil
}

// PickTables finds tables by the names that people write: as SQL writes them, or
// plainly, with or without the schema.
func PickTables(m *manifest.Manifest, names []string) (map[string]bool, error) {
	wanted := map[string]bool{}
	for _, n := range names {
		var hits []string
		for _, t := range m.Tables {
			if n == t.ID || n == t.Name || n == t.Schema+"."+t.Name {
				hits = append(hits, t.ID)
			}
		}
		switch len(hits) {
		case 0:
			return nil, fault.Wrong("table-absent", "the dump has no table %q", n).Advise("'grainkeep show' lists its tables")
		case 1:
			wanted[hits[0]] = true
		default:
			return nil, fault.Wrong("table-ambiguous", "the dump has several tables %q", n).Advise("name one of: %v", hits)
		}
	}
	return wanted, nil
}

// Needed gives the objects that belong to some tables, and all that those need,
// as long as that needs no other table. The order stays.
func Needed(objects []manifest.ObjectEntry, tables map[string]bool) []manifest.ObjectEntry {
	byID := map[string]*manifest.ObjectEntry{}
	for i := range objects {
		byID[objects[i].ID()] = &objects[i]
	}
	possible := map[string]bool{} // by object; false while being looked at
	var fits func(id string) bool
	fits = func(id string) bool {
		if ok, seen := possible[id]; seen {
			return ok
		}
		possible[id] = true // a circle does not make it impossible
		o := byID[id]
		ok := o == nil || o.Kind != "table" && o.Kind != "virtual table" || tables[o.Table] || tables[o.Name]
		if o != nil {
			for _, n := range o.Needs {
				ok = fits(n) && ok
			}
		}
		possible[id] = ok
		return ok
	}
	taken := map[string]bool{}
	var take func(id string)
	take = func(id string) {
		o := byID[id]
		if o == nil || taken[id] || !fits(id) {
			return
		}
		taken[id] = true
		for _, n := range o.Needs {
			take(n)
		}
	}
	for _, o := range objects {
		if o.Table != "" && tables[o.Table] || o.Kind == "table" && tables[o.Name] {
			take(o.ID())
		}
	}
	for _, o := range objects { // what describes a taken object: its value, owner, grants
		if o.Table == "" && len(o.Needs) > 0 && !slices.ContainsFunc(o.Needs, func(n string) bool { return !taken[n] }) {
			switch o.Kind {
			case "sequence value", "owner", "grants", "comment":
				take(o.ID())
			}
		}
	}
	var list []manifest.ObjectEntry
	for _, o := range objects {
		if taken[o.ID()] {
			list = append(list, o)
		}
	}
	return list
}

// roles refuses before anything is loaded when owners or grants name roles that
// the target lacks.
func (l *loader) roles(ctx context.Context) error {
	var objects []engine.Object
	for _, o := range l.objects {
		if o.Section == engine.Owners {
			full, err := l.sql(o)
			if err != nil {
				return err
			}
			o.Object.SQL = full
			objects = append(objects, o.Object)
		}
	}
	missing, err := l.t.Missing(ctx, objects)
	if err != nil || len(missing) == 0 {
		return err
	}
	return fault.New("roles-missing", nil, "the dump's owners and grants name roles that the target lacks: %v", missing).
		Advise("create them there (CREATE ROLE), or add '--owners mine': everything then belongs to the restoring user")
}

// sql cuts an object's SQL out of its file.
func (l *loader) sql(o manifest.ObjectEntry) (string, error) {
	text, ok := l.text[o.File]
	if !ok {
		var err error
		if text, err = l.read(o.File); err != nil {
			return "", err
		}
		l.text[o.File] = text
	}
	if o.Offset < 0 || o.Length < 0 || o.Offset+o.Length > int64(len(text)) {
		return "", damaged(l.d, "its list of objects points outside "+o.File)
	}
	return string(text[o.Offset : o.Offset+o.Length]), nil
}

func (l *loader) run(ctx context.Context) error {
	s, err := l.t.Session(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := l.exec(ctx, s, engine.Schema); err != nil {
		return err
	}
	if err := l.rows(ctx); err != nil {
		return err
	}
	for _, section := range []engine.Section{engine.Keys, engine.Finish, engine.Owners} {
		if err := l.exec(ctx, s, section); err != nil {
			return err
		}
	}
	return nil
}

// exec runs the objects of a section. The first that fails stops it, except a
// rule that the rows themselves break: the rows still come back.
func (l *loader) exec(ctx context.Context, s engine.Session, section engine.Section) error {
	var list []manifest.ObjectEntry
	for _, o := range l.objects {
		if o.Section == section {
			list = append(list, o)
		}
	}
	if section != engine.Schema {
		l.meter.Begin(fmt.Sprintf("restoring %s: %s", l.m.Database, map[engine.Section]string{
			engine.Keys: "keys", engine.Finish: "indexes and the rest", engine.Owners: "owners and grants"}[section]), len(list), 0)
	}
	for _, o := range list {
		sql, err := l.sql(o)
		if err != nil {
			return err
		}
		if err := l.object(ctx, s, o.Object, sql); err != nil {
			return err
		}
		l.meter.Done.Add(1)
	}
	return nil
}

func (l *loader) object(ctx context.Context, s engine.Session, o engine.Object, sql string) error {
	err := s.Exec(ctx, sql)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	wrapped := fault.New("restore-failed", err, "the %s could not be restored", o.ID())
	if !o.Rule {
		return wrapped
	}
	if o.Unchecked == "" {
		// Only if the session still works was it the rule that failed.
		if s.Exec(ctx, "SELECT 1;") != nil {
			return wrapped
		}
		l.out.LeftOut = append(l.out.LeftOut, fmt.Sprintf("%s (%v)", o.ID(), err))
		return nil
	}
	if s.Exec(ctx, o.Unchecked) != nil {
		return wrapped
	}
	l.out.Unchecked = append(l.out.Unchecked, o.ID())
	return nil
}

// rows loads all tables, the largest first, in as many sessions as are useful. The
// parts of one table are loaded side by side too.
func (l *loader) rows(ctx context.Context) error {
	type piece struct {
		table int
		path  string
	}
	order := slices.Clone(l.tables)
	sort.SliceStable(order, func(a, b int) bool { return order[a].Bytes > order[b].Bytes })
	var pieces []piece
	var bytes int64
	for i, t := range order {
		for _, path := range t.Files {
			pieces = append(pieces, piece{i, path})
		}
		bytes += t.Bytes
		l.out.Rows += t.Rows
	}
	l.out.Tables = len(order)
	loaded := make([]atomic.Int64, len(order))
	l.meter.Begin("restoring "+l.m.Database, len(pieces), bytes)
	err := stream.InParallel(ctx, l.t.Width(), pieces, func(ctx context.Context, next func() (piece, bool)) error {
		s, err := l.t.Session(ctx)
		if err != nil {
			return err
		}
		defer s.Close()
		for p, ok := next(); ok; p, ok = next() {
			n, err := l.file(ctx, s, p.path)
			if err != nil {
				return err
			}
			loaded[p.table].Add(n)
			l.meter.Done.Add(1)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, t := range order {
		if n := loaded[i].Load(); n != t.Rows {
			return fault.New("rows-missing", nil, "the target took %d rows of %s, and the dump has %d", n, t.ID, t.Rows)
		}
	}
	return nil
}

func (l *loader) file(ctx context.Context, s engine.Session, path string) (int64, error) {
	f, err := stream.Open(filepath.Join(l.d.Path, path), stream.Compression(l.m.Compression))
	if err != nil {
		return 0, l.fileTrouble(path, err)
	}
	defer f.Close()
	rows, err := s.Load(ctx, &metered{f, l.meter}, func(n int64) { l.meter.Rows.Add(n) })
	if err != nil {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		return 0, l.loadTrouble(path, err)
	}
	return rows, l.checkSum(path, f)
}

// loadTrouble tells rows that are damaged from rows that the server refuses.
func (l *loader) loadTrouble(path string, cause error) error {
	err := l.fileTrouble(path, cause)
	if Damaged(err) {
		return err
	}
	return fault.New("restore-failed", err, "rows could not be loaded")
}

type metered struct {
	io.Reader
	meter *stream.Meter
}

func (m *metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	m.meter.Bytes.Add(int64(n))
	return n, err
}

// Objects reads a dump's objects with their SQL, in load order.
func Objects(d *keep.Dump) ([]engine.Object, error) {
	l := &loader{d: d, m: d.Manifest, text: map[string][]byte{}}
	if err := l.index(); err != nil {
		return nil, err
	}
	list := make([]engine.Object, len(l.objects))
	for i, o := range l.objects {
		sql, err := l.sql(o)
		if err != nil {
			return nil, err
		}
		list[i] = o.Object
		list[i].SQL = sql
	}
	return list, nil
}
