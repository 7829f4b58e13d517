// Package restore brings a dump back: manifest → target.
package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/mask"
	"grainkeep/internal/payload"
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
	Passive bool     // leave out what acts by itself once it is there
	Held    []string // kinds of objects that are held back, with all that needs them
	Add     bool     // chosen tables go into the database where it has none of them, else beside it
	Any     bool     // take another version of an extension where the target lacks the dumped one

	Disconnect bool              // end the sessions of others in an existing database before it is renamed aside
	ReadOnly   bool              // leave the database so that it refuses changes
	Map        map[string]string // roles, or users, that take the place of others: plain names
	Server     *chain.Plan       // the dump of what belongs to the server, for roles that are missing; nil: none

	Masks   *mask.Set // what becomes of values on their way; nil: they stay
	After   []string  // SQL of an administrator's own, run when all is there and before the database has its name
	Salvage bool      // restore what is intact of a damaged dump

	mapper engine.RoleMapper // set where roles are mapped
	lost   *losses           // set where a damaged dump is salvaged
}

// Outcome is what came of a restore.
type Outcome struct {
	Name      string
	Added     bool     // to a database that was there
	Without   []string // what belongs to the chosen tables, and needs others
	Beside    string   // why the tables are not in the database of their name
	Aside     string   // what an old database of that name is called now
	Rows      int64
	Tables    int
	Took      time.Duration
	Unchecked []Lost   // rules that could not be tested, since the rows break them, say: added without
	LeftOut   []Lost   // what the target could not take, and went on without
	SelfNamed []string // what names the old database's name and so still means that one
	Notes     []string // what does not come back as it was
	Gone      []string // what of a damaged dump is lost
	Settings  []string
}

// Lost is an object that did not come back, or not tested.
type Lost struct {
	ID, Why string

	object engine.Object
	sql    string // to be tried again when all else is there; empty: in vain
}

// Warnings are sentences about what did not come back as it was.
func (o *Outcome) Warnings() (list []string) {
	for _, r := range o.Unchecked {
		if r.Why == "" {
			list = append(list, "the data breaks the "+r.ID+": it was added without testing the rows that are there")
			continue
		}
		list = append(list, "the "+r.ID+" could not be tested, and was added without testing the rows that are there: "+
			r.Why)
	}
	if len(o.SelfNamed) > 0 {
		list = append(list,
			"restored under another name, these still name the old database: the "+strings.Join(o.SelfNamed, ", the "))
	}
	list = append(list, o.Gone...)
	for _, r := range o.LeftOut {
		list = append(list, "the "+r.ID+" is left out: "+r.Why)
	}
	return list
}

// Run restores what a plan ends with into a new database of a source. Until it is
// complete, the database has a working name; if anything fails, it is removed.
func Run(ctx context.Context, plan *chain.Plan, to engine.Location, opt Options, feed *event.Feed) (out *Outcome,
	err error) {
	d := plan.Last()
	if err := plan.Whole(ctx); err != nil {
		return nil, err
	}
	if opt.Salvage {
		if plan, opt.lost, err = salvage(ctx, plan); err != nil {
			return nil, err
		}
		d = plan.Last()
	}
	src, err := engine.Open(ctx, to)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if to.Engine != d.Manifest.Source.Engine {
		return nil, fault.Wrong("engine-differs", "the dump is of %s, and the target is %s", d.Manifest.Source.Engine,
			to.Engine).
			Advise("name a %s target with --to", d.Manifest.Source.Engine)
	}
	// What a killed restore or drill of this keep left is cleaned up by the next.
	swept, err := src.Sweep(ctx, d.Manifest.Keep)
	swept.Removed, swept.Foreign = nil, nil // a drill tells of them
	for _, s := range swept.Sentences() {
		feed.Warn("swept", "", "%s", s)
	}
	if err != nil {
		return nil, err
	}
	if err := compareVersions(ctx, src, d, feed); err != nil {
		return nil, err
	}
	if err := opt.able(ctx, src); err != nil {
		return nil, err
	}
	beside, there := "", map[string]bool{}
	if opt.Add {
		if opt, there, beside, err = addOrBeside(ctx, src, plan, opt); err != nil {
			return nil, err
		}
	}
	tables, made, err := toFill(ctx, plan, opt)
	if err != nil {
		return nil, err
	}
	spec := engine.New(opt.Name, d.Manifest.Keep, keep.NewRun(), d.Manifest.Facts())
	spec.Replace, spec.Into, spec.Fill, spec.Made, spec.Aside = opt.Replace, opt.Into, tables, made, time.Now()
	spec.Add, spec.Disconnect = opt.Add, opt.Disconnect
	spec.Warn = func(s string) { feed.Warn("target", "", "%s", s) }
	t, err := src.Target(ctx, spec)
	var f *fault.Error
	if len(opt.Only) > 0 && errors.As(err, &f) && f.Code == "target-exists" { // no database is replaced by one table
		f.Do = "leave --as out: the table goes into the database, or beside it; or restore under another name"
	}
	if err != nil {
		return nil, err
	}
	done := false
	defer func() { // also when a defect is on its way up
		if done {
			return
		}
		if e := Discard(ctx, t, feed); e != nil && err != nil {
			err = fmt.Errorf("%w (and the unfinished database could not be removed: %v)", err, e)
		}
	}()
	out, err = load(ctx, plan, t, opt, there, feed)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return nil, err
	}
	if out.Aside, err = t.Finish(context.WithoutCancel(ctx)); err != nil { // names change all at once
		return nil, err
	}
	done = true
	out.Added, out.Beside = opt.Add, beside
	if opt.lost != nil {
		out.Gone = append(opt.lost.words, out.Gone...)
	}
	if opt.ReadOnly {
		if err := src.(engine.Freezer).Freeze(context.WithoutCancel(ctx), opt.Name); err != nil {
			return out, fault.New("read-only-failed", err, "%s is restored, and could not be left read-only", opt.Name)
		}
	}
	return out, nil
}

const (
	discardIn   = 15 * time.Minute // thousands of tables take their time
	discardTold = 3 * time.Second  // then it is worth a word
)

// Discard removes an unfinished database, also after the context has ended, and tells when
// that takes long.
func Discard(ctx context.Context, t engine.Target, feed *event.Feed) error {
	clean, cancel := context.WithTimeout(context.WithoutCancel(ctx), discardIn)
	defer cancel()
	told := time.AfterFunc(discardTold, func() { feed.Note("", "removing the unfinished database …") })
	defer told.Stop()
	return t.Discard(clean)
}

// toFill lists the tables that must be there, and empty, when just rows are restored, and
// how they were made.
func toFill(ctx context.Context, plan *chain.Plan, opt Options) (tables []string, made []engine.Object, err error) {
	if opt.Part != Rows {
		return nil, nil, nil
	}
	d := plan.Last()
	wanted, err := PickTables(d.Manifest, opt.Only)
	if err != nil {
		return nil, nil, err
	}
	for _, t := range d.Manifest.Tables() {
		if len(opt.Only) == 0 || wanted[t.ID] {
			tables = append(tables, t.ID)
		}
	}
	parts, err := payload.NewChain(plan.Dumps())
	if err != nil {
		return nil, nil, err
	}
	objects, err := parts.Structure.Objects(ctx)
	for _, o := range objects {
		if o.Kind == "table" && slices.Contains(tables, o.Table) {
			made = append(made, o)
		}
	}
	return tables, made, err
}

// compareVersions warns of a target that is older than the dump's server.
func compareVersions(ctx context.Context, src engine.Source, d *keep.Dump, feed *event.Feed) error {
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
		feed.Warn("target-older", "",
			"the dump is of %s %s, and the target is the older %s: it may lack what the dump uses",
			from.Product, from.Version, server.Version)
	}
	return nil
}

// loader is a restore under way.
type loader struct {
	d        *keep.Dump
	m        *manifest.Manifest
	parts    *payload.Chain
	files    *payload.Reader            // of the structure
	layers   map[string][]payload.Layer // what makes the rows of each table, by its ID
	t        engine.Target
	opt      Options
	meter    *event.Meter
	out      *Outcome
	objects  []manifest.ObjectEntry
	tables   []manifest.Table
	plan     *chain.Plan
	stop     int64               // the last transaction that is wanted of the last dump; 0: all of them
	along    []string            // tables that were not chosen, and whose rows change together with those
	there    map[string]bool     // objects that the database has, by ID: they are not made
	joined   bool                // everything is part of one transaction
	asDumped map[string][]string // the roles that objects name in the dump, by ID, where they are mapped

	mu sync.Mutex // guards out while objects are made side by side
}

// Load loads what a plan ends with into a target: structure, rows, keys, changes, the rest.
func Load(ctx context.Context, plan *chain.Plan, t engine.Target, opt Options, feed *event.Feed) (*Outcome, error) {
	return load(ctx, plan, t, opt, nil, feed)
}

func load(ctx context.Context, plan *chain.Plan, t engine.Target, opt Options, there map[string]bool,
	feed *event.Feed) (*Outcome, error) {
	start := time.Now()
	for _, d := range plan.Dumps() {
		if opt.lost != nil { // every file was read
			break
		}
		bad, err := verify.Present(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(bad) > 0 {
			return nil, payload.Damage(d, verify.Summary(bad))
		}
	}
	l, without, err := picked(ctx, plan, opt)
	if err != nil {
		return nil, err
	}
	if opt.Part == Rows && l.removes() {
		return nil, fault.Wrong("rows-of-chain", "the rows of %s lie in dumps that build on each other, and to put them "+
			"together rows are removed on the way: not in tables that are there, with their keys and triggers", plan.Last().Name()).
			Advise("restore it under another name, or take the rows of a full")
	}
	if err := l.stopInside(); err != nil {
		return nil, err
	}
	if err := l.chooseMasks(ctx); err != nil {
		return nil, err
	}
	l.t, l.there, l.meter = t, there, feed.Gauge()
	l.out = &Outcome{Name: opt.Name, Settings: t.Settings(), Without: without}
	l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool { return l.there[o.ID()] })
	if len(l.along) > 0 {
		l.out.Notes = append(l.out.Notes, fmt.Sprintf("%s came along: foreign keys tie the rows of the chosen tables to "+
			"theirs, and the server's log tells only of both", strings.Join(l.along, ", ")))
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

// roles looks for the roles that the objects name. Before anything is loaded, those
// that the target lacks are an error; where everything is to belong to the restoring
// user, what names them is left out.
func (l *loader) roles(ctx context.Context) error {
	if err := l.mapRoles(); err != nil {
		return err
	}
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
	if err == nil && len(missing) > 0 && l.opt.Server != nil {
		if err = l.bring(ctx, missing); err == nil {
			missing, err = l.t.Missing(ctx, named)
		}
	}
	if err != nil || len(missing) == 0 {
		return err
	}
	if l.opt.Owners != Mine {
		return fault.New("roles-missing", nil, "the dump names roles that the target lacks: %s", strings.Join(missing,
			", ")).
			Advise("create them there, or bring them from the job's dump of the server with --with-roles, or name others " +
				"with --owner OLD=NEW, or add '--owners mine': everything then belongs to the restoring user")
	}
	l.objects = slices.DeleteFunc(l.objects, func(o manifest.ObjectEntry) bool {
		i := slices.IndexFunc(o.Roles, func(role string) bool { return slices.Contains(missing, role) })
		if o.Definer != "" {
			i = -1
		}
		if i >= 0 {
			l.out.LeftOut = append(l.out.LeftOut, Lost{ID: o.ID(), Why: "the target has no role " + o.Roles[i]})
		}
		return i >= 0
	})
	return nil
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
		if section == engine.Keys {
			if err := l.changes(ctx); err != nil {
				return err
			}
		}
		if section == engine.References { // foreign keys act on rows, and the log does not tell of it
			if err := l.replay(ctx); err != nil {
				return err
			}
		}
	}
	if err := l.again(ctx, s); err != nil {
		return err
	}
	for i, sql := range l.opt.After {
		if err := s.Exec(ctx, strings.TrimRight(sql, "; \n")+";\n"); err != nil {
			return fault.New("sql-failed", err, "statement %d of those that follow the restore failed", i+1).
				Advise("the database that was there is as it was; correct the statement, and try again")
		}
	}
	return nil
}

// again tries what was left out, now that all else is there: the order of what needs what
// is not always known to the server, and a thing that failed may be what others need.
func (l *loader) again(ctx context.Context, s engine.Session) error {
	for more := true; more; {
		more = false
		for _, lost := range slices.Clone(l.out.LeftOut) {
			if id, ok := l.lost(lost.object.Needs); ok && id != lost.ID || lost.sql == "" {
				continue
			}
			err := s.Exec(ctx, lost.sql)
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if fault.HasCode(err, engine.Trouble) {
				return fmt.Errorf("the %s could not be restored: %w", lost.ID, err)
			}
			if err == nil {
				l.out.LeftOut = slices.DeleteFunc(l.out.LeftOut, func(x Lost) bool { return x.ID == lost.ID })
				l.note(lost.object)
				more = true
			}
		}
	}
	return nil
}

// steps are the sections after the rows, as people call them.
var steps = map[engine.Section]string{engine.Keys: "keys", engine.References: "foreign keys",
	engine.Finish: "indexes and the rest",
	engine.Owners: "owners and grants", engine.Active: "what acts by itself"}

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
		l.meter.Begin(fmt.Sprintf("restoring %s: %s", l.m.Database, steps[section]), len(list), 0)
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
	sql, err := l.files.SQL(ctx, o)
	if err == nil && l.opt.mapper != nil {
		_, sql, err = l.opt.mapper.MapRoles(l.unmapped(o), sql, l.opt.Map)
	}
	if err == nil {
		err = l.object(ctx, s, o.Object, sql)
	}
	if err == nil {
		l.meter.Done.Add(1)
	}
	return err
}

func (l *loader) object(ctx context.Context, s engine.Session, o engine.Object, sql string) error {
	if l.opt.Owners == Mine {
		sql = o.AsCurrentUser(sql)
	}
	if id, ok := l.lost(o.Needs); ok {
		l.leaveOut(o, sql, "it needs the "+id)
		return nil
	}
	err := s.Exec(ctx, sql)
	if err == nil {
		l.note(o)
		return nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if l.opt.Any && o.Otherwise != "" && s.Exec(ctx, o.Otherwise) == nil {
		o.Note = "came in the version that the target has"
		l.note(o)
		return nil
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
		l.leaveOut(o, sql, err.Error())
		return nil
	}
	if s.Exec(ctx, o.Unchecked) != nil {
		return wrapped
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	lost := Lost{ID: o.ID()}
	if !fault.HasCode(err, engine.RuleBroken) {
		lost.Why = err.Error()
	}
	l.out.Unchecked = append(l.out.Unchecked, lost)
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

func (l *loader) leaveOut(o engine.Object, sql, why string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.out.LeftOut = append(l.out.LeftOut, Lost{ID: o.ID(), Why: why, object: o, sql: sql})
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
