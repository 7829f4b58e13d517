// Package restore brings a dump back: manifest → target.
package restore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/verify"
)

// Owners says what becomes of owners and grants.
type Owners string

// What can become of owners and grants.
const (
	Kept Owners = "kept" // as in the dump
	Mine Owners = "mine" // everything belongs to the restoring user
)

// Part is what of a dump is restored.
type Part string

// The parts of a dump.
const (
	Both      Part = "" // structure and rows
	Structure Part = "structure"
	Rows      Part = "rows"
)

// Options are what a restore can be told.
type Options struct {
	Name    string   // the database to make
	Replace bool     // rename an existing one aside
	Only    []string // just these tables, with what they need; empty: all
	Owners  Owners
	Into    bool // the database is there already: empty, or with the tables for just rows
	Part    Part
	Warn    func(string) // told before anything is loaded
	Passive bool         // leave out what acts by itself once it is there
}

// Outcome is what came of a restore.
type Outcome struct {
	Name      string
	Aside     string // what an old database of that name is called now
	Rows      int64
	Tables    int
	Took      time.Duration
	Unchecked []string // rules that the rows break: added without testing them
	LeftOut   []Lost   // what the target could not take, and went on without
	SelfNamed []string // what names the old database's name and so still means that one
	Notes     []string // what does not come back as it was
	Settings  []string
}

// Lost is an object that did not come back.
type Lost struct{ ID, Why string }

// Warnings are sentences about what did not come back as it was.
func (o *Outcome) Warnings() (list []string) {
	for _, r := range o.Unchecked {
		list = append(list, "the data breaks the "+r+": it was added without testing the rows that are there")
	}
	if len(o.SelfNamed) > 0 {
		list = append(list, "restored under another name, these still name the old database: the "+strings.Join(o.SelfNamed, ", the "))
	}
	for _, r := range o.LeftOut {
		list = append(list, "the "+r.ID+" is left out: "+r.Why)
	}
	return list
}

// Run restores a dump into a new database of a source. Until it is complete, the
// database has a working name; if anything fails, it is removed.
func Run(ctx context.Context, d *keep.Dump, to engine.Location, opt Options, meter *event.Meter) (out *Outcome, err error) {
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
	swept, err := src.Sweep(ctx, d.Manifest.Keep)
	swept.Removed, swept.Foreign = nil, nil // a drill tells of them
	for _, s := range swept.Sentences() {
		opt.Warn(s)
	}
	if err != nil {
		return nil, err
	}
	if err := compareVersions(ctx, src, d, opt.Warn); err != nil {
		return nil, err
	}
	tables, made, err := toFill(d, opt)
	if err != nil {
		return nil, err
	}
	t, err := src.Target(ctx, engine.TargetSpec{Name: opt.Name, Replace: opt.Replace, Into: opt.Into, Fill: tables, Made: made, Warn: opt.Warn, KeepID: d.Manifest.Keep,
		Run: keep.NewRun(), Facts: d.Manifest.Facts, Aside: time.Now()})
	if err != nil {
		return nil, err
	}
	out, err = Load(ctx, d, t, opt, meter)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err == nil {
		out.Aside, err = t.Finish(context.WithoutCancel(ctx)) // names change all at once
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

// toFill lists the tables that must be there, and empty, when just rows are restored, and
// how they were made.
func toFill(d *keep.Dump, opt Options) (tables []string, made []engine.Object, err error) {
	if opt.Part != Rows {
		return nil, nil, nil
	}
	wanted, err := PickTables(d.Manifest, opt.Only)
	if err != nil {
		return nil, nil, err
	}
	for _, t := range d.Manifest.Tables {
		if len(opt.Only) == 0 || wanted[t.ID] {
			tables = append(tables, t.ID)
		}
	}
	objects, err := Objects(d)
	for _, o := range objects {
		if o.Kind == "table" && slices.Contains(tables, o.Table) {
			made = append(made, o)
		}
	}
	return tables, made, err
}

// compareVersions warns of a target that is older than the dump's server.
func compareVersions(ctx context.Context, src engine.Source, d *keep.Dump, warn func(string)) error {
	server, err := src.Describe(ctx)
	if err != nil {
		return err
	}
	major := func(version string) (n int) {
		fmt.Sscanf(version, "%d", &n)
		return n
	}
	from := d.Manifest.Source
	if major(server.Version) < major(from.Version) && server.Product == from.Product {
		warn(fmt.Sprintf("the dump is of %s %s, and the target is the older %s: it may lack what the dump uses", from.Product, from.Version, server.Version))
	}
	return nil
}

// loader is a restore under way.
type loader struct {
	d       *keep.Dump
	m       *manifest.Manifest
	t       engine.Target
	opt     Options
	meter   *event.Meter
	out     *Outcome
	objects []manifest.ObjectEntry
	tables  []manifest.Table
	text    map[string][]byte // of the files that hold objects

	mu sync.Mutex // guards out and text while objects are made side by side
}

// Load loads a dump into a target: structure, rows, keys, the rest.
func Load(ctx context.Context, d *keep.Dump, t engine.Target, opt Options, meter *event.Meter) (*Outcome, error) {
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

func (l *loader) index() error {
	data, err := l.read(manifest.ObjectsOf + blob.Compression(l.m.Compression).Ending())
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &l.objects); err != nil {
		return damaged(l.d, "its list of objects cannot be read: "+err.Error())
	}
	return nil
}

// roles looks for the roles that the objects name. Before anything is loaded, those
// that the target lacks are an error; where everything is to belong to the restoring
// user, what names them is left out.
func (l *loader) roles(ctx context.Context) error {
	var named []string
	for _, o := range l.objects {
		if l.opt.Owners == Mine && o.Definer != "" {
			continue // it will act for the restoring user
		}
		for _, role := range o.Roles {
			if !slices.Contains(named, role) {
				named = append(named, role)
			}
		}
	}
	missing, err := l.t.Missing(ctx, named)
	if err != nil || len(missing) == 0 {
		return err
	}
	if l.opt.Owners != Mine {
		return fault.New("roles-missing", nil, "the dump names roles that the target lacks: %s", strings.Join(missing, ", ")).
			Advise("create them there, or restore them from the job's dump of the server (JOB/+server), or add '--owners mine': everything then belongs to the restoring user")
	}
	l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool {
		i := slices.IndexFunc(o.Roles, func(role string) bool { return slices.Contains(missing, role) })
		if o.Definer != "" {
			i = -1
		}
		if i >= 0 {
			l.out.LeftOut = append(l.out.LeftOut, Lost{o.ID(), "the target has no role " + o.Roles[i]})
		}
		return i >= 0
	})
	return nil
}

// sql cuts an object's SQL out of its file.
func (l *loader) sql(o manifest.ObjectEntry) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
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
	for _, section := range engine.Structure[1:] {
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
			engine.Keys: "keys", engine.References: "foreign keys", engine.Finish: "indexes and the rest", engine.Owners: "owners and grants", engine.Active: "what acts by itself"}[section]), len(list), 0)
	}
	if section == engine.Keys || section == engine.References || section == engine.Finish {
		return l.build(ctx, list)
	}
	for _, o := range list {
		if err := l.make(ctx, s, o); err != nil {
			return err
		}
	}
	return nil
}

func (l *loader) make(ctx context.Context, s engine.Session, o manifest.ObjectEntry) error {
	sql, err := l.sql(o)
	if err == nil {
		err = l.object(ctx, s, o.Object, sql)
	}
	if err == nil {
		l.meter.Done.Add(1)
	}
	return err
}

func (l *loader) object(ctx context.Context, s engine.Session, o engine.Object, sql string) error {
	if id, ok := l.lost(o.Needs); ok {
		l.leaveOut(o, "it needs the "+id)
		return nil
	}
	if l.opt.Owners == Mine {
		sql = o.AsCurrentUser(sql)
	}
	err := s.Exec(ctx, sql)
	if err == nil {
		l.note(o)
		return nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if fault.HasCode(err, engine.Trouble) || fault.HasCode(err, engine.RightsMissing) && !o.Rule {
		return fmt.Errorf("the %s could not be restored: %w", o.ID(), err)
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
		l.leaveOut(o, err.Error())
		return nil
	}
	if s.Exec(ctx, o.Unchecked) != nil {
		return wrapped
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.out.Unchecked = append(l.out.Unchecked, o.ID())
	return nil
}

func (l *loader) lost(needs []string) (string, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, lost := range l.out.LeftOut {
		if slices.Contains(needs, lost.ID) {
			return lost.ID, true
		}
	}
	return "", false
}

func (l *loader) leaveOut(o engine.Object, why string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.out.LeftOut = append(l.out.LeftOut, Lost{o.ID(), why})
}

func (l *loader) note(o engine.Object) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if o.SelfNamed && l.opt.Name != l.m.Database && l.opt.Name != "" {
		l.out.SelfNamed = append(l.out.SelfNamed, o.ID())
	}
	if o.Note != "" {
		l.out.Notes = append(l.out.Notes, "the "+o.ID()+" "+o.Note)
	}
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
