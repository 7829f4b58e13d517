package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/config"
	"grainkeep/internal/dump"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/system"
)

type restoreFlags struct {
	from, to, at, as, into, owners, part string
	only                                 []string
	replace, any, dry                    bool
	disconnect, readOnly, roles, salvage bool
	owner                                []string
}

func (a *app) restoreCommand() *cobra.Command {
	var r restoreFlags
	cmd := explain(&cobra.Command{
		Use: "restore JOB/DATABASE", Short: "Restore a dump, beside what is there or in its place",
		Args:              args(1, 1, "a dump"),
		RunE:              func(_ *cobra.Command, names []string) error { return a.restore(names[0], r) },
		ValidArgsFunction: a.dumpNames(&r.from),
	}, usage{`Restores a dump into a new database. An existing one is never touched, unless
--replace is given: then it is renamed, not deleted, and its new name is printed.
Until a restore is complete, its database has a working name. Where increments come from the
server's log, --at stops at any moment between two dumps, and takes what 'find' prints under
Transaction too: 0-1-4711, or 'before 0-1-4711'.`, [2]string{
		"grainkeep restore nightly/bookings --as bookings_yesterday",
		"grainkeep restore nightly/bookings --at 2026-03-14T14:05:30 --only booking"}})
	f := cmd.Flags()
	a.fromFlag(cmd, &r.from)
	atFlag(cmd, &r.at)
	f.StringVar(&r.to, "to", "",
		"restore into this `SOURCE`: a configured name, a URL or a folder (else where the dump came from)")
	a.completeOption(cmd, "to", job.Set.Sources)
	f.StringVar(&r.as, "as", "", "`NAME` of the new database (else the dumped one's)")
	f.StringVar(&r.into, "into", "", "restore into this existing, empty `DATABASE` instead of a new one")
	f.StringVar(&r.part, "part", "",
		"just `ONE` of them: structure, or rows (with --into: the tables must be there, and empty)")
	values(cmd, "part", "structure", "rows")
	f.BoolVar(&r.replace, "replace", false, "rename an existing database of that name aside")
	f.StringArrayVar(&r.only, "only", nil,
		"restore just this `TABLE` or pattern, with what it needs, into the database "+
			"that is there, or beside it where it has such a table; may be repeated")
	f.BoolVar(&r.any, "any-extension-version", false,
		"take the version of an extension that the target has, where it lacks the dumped one")
	f.BoolVar(&r.dry, "dry-run", false, "say what would be done, and do nothing")
	f.StringVar(&r.owners, "owners", "kept",
		"`WHOSE` owners and grants: kept as dumped, or mine: everything belongs to the restoring user")
	values(cmd, "owners", "kept", "mine")
	f.StringArrayVar(&r.owner, "owner", nil,
		"`OLD=NEW`: what belongs to a role, or is granted to it, goes to another one; may be repeated")
	f.BoolVar(&r.roles, "with-roles", false, "make the roles or users that are missing, from the job's dump of the server")
	f.BoolVar(&r.disconnect, "disconnect", false, "with --replace: end the sessions of others in the existing database")
	f.BoolVar(&r.salvage, "salvage", false,
		"of a damaged dump, restore what is intact, into a database whose name says that it is incomplete")
	f.BoolVar(&r.readOnly, "read-only", false, "leave the restored database so that it refuses changes")
	return cmd
}

type jsonRestored struct {
	Dump     string  `json:"dump"`
	ID       string  `json:"id"`
	Moment   string  `json:"moment"`
	Database string  `json:"database"`
	Aside    string  `json:"renamed_old_to,omitempty"`
	Rows     int64   `json:"rows"`
	Tables   int     `json:"tables"`
	Seconds  float64 `json:"seconds"`
}

func (a *app) restore(name string, r restoreFlags) error {
	if r.owners != "kept" && r.owners != "mine" {
		return fault.Wrong("flag-wrong", "--owners is %q", r.owners).Advise("write kept or mine")
	}
	if r.part != "" && r.part != "structure" && r.part != "rows" {
		return fault.Wrong("flag-wrong", "--part is %q",
			r.part).Advise("write structure or rows, or leave it out for both")
	}
	if r.into != "" && (r.as != "" || r.replace) {
		return fault.Wrong("flag-wrong",
			"--into names a database that is there already").Advise("leave --as and --replace out")
	}
	if r.part == "rows" && r.into == "" {
		return fault.Wrong("flag-wrong",
			"rows alone need tables to go into").Advise("name the database that has them: --into DATABASE")
	}
	if r.disconnect && !r.replace {
		return fault.Wrong("flag-wrong", "--disconnect goes with --replace").Advise("without that, no existing database is touched")
	}
	if r.salvage && (r.replace || r.into != "" || r.part != "" || len(r.only) > 0 && r.as == "") {
		return fault.Wrong("flag-wrong", "--salvage makes a new database, of all that is intact").
			Advise("leave --replace, --into and --part out; --only goes with --as")
	}
	if _, err := rolesOf(r.owner); err != nil {
		return err
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	found, err := a.plansAt(f, r.from, name, r.at)
	if err != nil {
		return err
	}
	var beside []*chain.Plan
	if len(found) > 1 { // a whole run: the server's own only when it is named
		found = slices.DeleteFunc(found,
			func(p *chain.Plan) bool { return p.Last().Manifest.Database == engine.ServerWide })
	}
	for _, p := range found {
		if p.Last().Manifest.Payload.SQL == nil {
			beside = append(beside, p)
		}
	}
	found = slices.DeleteFunc(found, func(p *chain.Plan) bool { return p.Last().Manifest.Payload.SQL == nil })
	if len(beside) > 0 {
		return a.restoreWithBeside(f, found, beside, r)
	}
	if len(found) > 1 && (r.as != "" || r.into != "" || len(r.only) > 0) {
		return ambiguous(found, name)
	}
	return a.restoreDatabases(f, found, r)
}

// restoreDatabases restores databases, or says what would be done.
func (a *app) restoreDatabases(f *config.File, found []*chain.Plan, r restoreFlags) error {
	var tasks []restore.Task
	for _, p := range found {
		t, err := a.restoreTask(f, p, r)
		if err != nil {
			return err
		}
		tasks = append(tasks, t)
	}
	if r.dry {
		return a.rehearse(tasks)
	}
	of := tasks[0].Plan.Last()
	a.makeGood(f, false)
	return a.noted(f, "restore", of.Manifest.Job, of.Keep, func(string) error { return a.restoreAll(f, tasks) })
}

// restoreAll does the restores, with their dumps pinned.
func (a *app) restoreAll(f *config.File, tasks []restore.Task) error {
	var limit string
	if f != nil {
		limit = f.Job[tasks[0].Plan.Last().Manifest.Job].RestoreLimit
	}
	ctx, cancel, err := limited(a.ctx, "restore", limit)
	if err != nil {
		return err
	}
	defer cancel()
	for _, t := range tasks {
		unpin, err := a.pin(t.Plan.Last())
		if err != nil {
			return err
		}
		defer unpin()
	}
	done := []jsonRestored{}
	feed, end := a.feed()
	for _, t := range tasks {
		if d := t.Plan.Bad(); d != nil {
			feed.Warn("dump-failed", d.Manifest.Database, "the dump %s, which is restored, %s", d.Short(), d.State())
		}
	}
	out, err := restore.All(ctx, tasks, feed, func(t restore.Task) { a.sayMoment(t.Plan) }, func(t restore.Task, o *restore.Outcome) {
		done = append(done, *a.restored(t, o))
		a.result = done
		p := dumpPart(t.Plan.Last())
		p.Result, p.Rows, p.Took, p.Path = journal.Good, o.Rows, o.Took, o.Name
		a.part(p)
	})
	end()
	for i, o := range out {
		a.notAsItWas(tasks[i], o, len(out) > 1)
	}
	if err != nil {
		return diskFull(err)
	}
	return nil
}

// pin keeps a dump from being removed, until the returned function is called.
func (a *app) pin(d *keep.Dump) (func(), error) {
	if d.Keep == nil {
		return func() {}, nil
	}
	l, err := d.Keep.Pin(a.ctx, d.ID)
	if err != nil || l == nil {
		return func() {}, err
	}
	return func() {
		if err := l.Release(); err != nil {
			a.mention(err)
		}
	}, nil
}

// limited bounds how long a piece of work may take; an empty text: it may take for ever.
func limited(ctx context.Context, what, text string) (context.Context, func(), error) {
	if text == "" {
		return ctx, func() {}, nil
	}
	limit, err := phrase.ParseAge(text)
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fault.New("limit-reached", nil,
		"the %s took longer than %s, the job's limit",
		what, phrase.Duration(limit)).
		Advise("what was unfinished is removed; see what held it up, or give the job more time"))
	return ctx, cancel, nil
}

func (a *app) restoreTask(f *config.File, plan *chain.Plan, r restoreFlags) (restore.Task, error) {
	to, as, err := a.target(f, plan.Last(), r.to)
	if err == nil && r.as+r.into != "" {
		as = r.as + r.into
	}
	if r.salvage {
		as = incomplete(as, plan.Last().Manifest.Source.Engine)
	}
	roles, e := rolesOf(r.owner)
	if err == nil {
		err = e
	}
	task := restore.Task{Plan: plan, To: to, Options: restore.Options{Name: as, Replace: r.replace, Any: r.any,
		Only: r.only,
		Add:  len(r.only) > 0 && r.as+r.into == "" && !r.replace, Owners: restore.Owners(r.owners),
		Into: r.into != "", Part: restore.Part(r.part), Disconnect: r.disconnect, ReadOnly: r.readOnly, Map: roles,
		Salvage: r.salvage}}
	if err == nil && r.roles {
		task.Options.Server, err = a.serverOf(plan.Last())
	}
	return task, err
}

// rehearse says what restores would do.
func (a *app) rehearse(tasks []restore.Task) error {
	type planned struct {
		Dump     string   `json:"dump"`
		ID       string   `json:"id"`
		Database string   `json:"database"`
		Server   string   `json:"server"`
		Rows     int64    `json:"rows"`
		Bytes    int64    `json:"text_bytes"`
		Tables   []string `json:"tables"`
		Objects  int      `json:"objects"`
		Without  []string `json:"left_out,omitempty"`
	}
	list := []planned{}
	for _, t := range tasks {
		d := t.Plan.Last()
		p, err := restore.Rehearse(a.ctx, t)
		if err != nil {
			return err
		}
		a.sayMoment(t.Plan)
		where := t.To.Server + t.To.Path
		a.print("would restore %s in %s and %s, %s of text, as %s at %s\n", phrase.Plural(p.Rows, "row"),
			phrase.Plural(int64(len(p.Tables)), "table"), phrase.Plural(int64(p.Objects), "object"),
			phrase.Bytes(p.Bytes),
			p.Name, where)
		if p.Added {
			a.print("  into the database that is there: it has nothing of that name\n")
		}
		if p.Beside != "" {
			a.print("  %s: they would come beside it\n", p.Beside)
		}
		if p.Replaces {
			a.print("  the database that is there would be renamed, not deleted\n")
		}
		if n := len(p.Without); n > 0 {
			a.print("  left out, since it needs other tables: the %s\n", strings.Join(p.Without, ", the "))
		}
		list = append(list, planned{d.Name(), d.ID, p.Name, where, p.Rows, p.Bytes, p.Tables, p.Objects, p.Without})
	}
	return a.emit(list)
}

// sayMoment says which moment is meant, and the way to it.
func (a *app) sayMoment(p *chain.Plan) {
	d := p.Last()
	a.say("%s of %s, id %s", d.Name(), phrase.Both(p.Until, chain.Zone(d)), d.Short())
	a.sayStop(p)
	a.sayWay(p)
}

// restored tells of one that is done.
func (a *app) restored(t restore.Task, out *restore.Outcome) *jsonRestored {
	d, where := t.Plan.Last(), out.Name
	if t.To.Engine == "sqlite" {
		where = sqliteFile(t.To, out.Name)
	}
	a.say("  restored %s in %s, %s", phrase.Plural(out.Rows, "row"), phrase.Plural(int64(out.Tables), "table"),
		phrase.Duration(out.Took))
	if len(out.Without) > 0 {
		a.say("  left out, since it needs other tables: the %s", strings.Join(out.Without, ", the "))
	}
	if out.Beside != "" {
		a.say("  %s: restored beside it, and nothing in it was touched", out.Beside)
	}
	if out.Added {
		a.say("  into the database that is there: it had nothing of that name")
	}
	if out.Aside != "" {
		a.say("  the database that was there is now called %s", out.Aside)
	}
	for _, n := range out.Notes {
		a.say("  %s", n)
	}
	for _, w := range d.Manifest.Warnings {
		if w.Code == dump.PasswordsLeftOut {
			a.say("  passwords are not part of the dump: set them anew (ALTER ROLE or ALTER USER)")
		}
	}
	a.print("%s\n", where)
	return &jsonRestored{Dump: d.Name(), ID: d.ID, Moment: t.Plan.Until.UTC().Format("2006-01-02T15:04:05.000000Z"),
		Database: where, Aside: out.Aside, Rows: out.Rows, Tables: out.Tables, Seconds: out.Took.Seconds()}
}

// notAsItWas warns, when all are done: what one lacks may come with another.
func (a *app) notAsItWas(t restore.Task, out *restore.Outcome, several bool) {
	for _, w := range out.Warnings() {
		if several {
			w = t.Plan.Last().Name() + ": " + w
		}
		a.warn("not-as-it-was", "%s", w)
	}
}

// target is where a dump is restored to, and under which name unless told.
func (a *app) target(f *config.File, d *keep.Dump, to string) (engine.Location, string, error) {
	name := d.Manifest.Database
	if to == "" {
		if f != nil && f.Source[d.Manifest.Source.Name].Engine == d.Manifest.Source.Engine {
			at, err := job.Of(f).Location(d.Manifest.Source.Name)
			return at, name, err
		}
		return engine.Location{}, "", fault.Wrong("target-unnamed",
			"the dump came from %s, which is not configured here", d.Manifest.Source.Where).
			Advise("say where to restore with --to: a URL, or a folder for SQLite")
	}
	at, err := job.Of(f).Address(to)
	if err != nil {
		return at, "", err
	}
	if at.Database != "" {
		name, at.Database = at.Database, ""
	}
	if at.Engine == "sqlite" && d.Manifest.Source.Engine == "sqlite" && filepath.Ext(at.Path) != "" &&
		!isFolder(at.Path) {
		name = filepath.Base(at.Path)
	}
	return at, name, nil
}

func diskFull(err error) error {
	if system.Full(err) {
		return fault.New("disk-full", err,
			"there is no room left to restore into").Advise("make room; the unfinished database was removed")
	}
	return err
}

// rolesOf reads which roles take the place of others.
func rolesOf(list []string) (map[string]string, error) {
	roles := map[string]string{}
	for _, x := range list {
		from, to, ok := strings.Cut(x, "=")
		if _, twice := roles[from]; !ok || from == "" || to == "" || twice {
			return nil, fault.Wrong("flag-wrong", "--owner is %q", x).Advise("write OLD=NEW, each OLD once")
		}
		roles[from] = to
	}
	return roles, nil
}

// serverOf is the plan of what belongs to the server of a dump: of its run, or else the newest before it.
func (a *app) serverOf(d *keep.Dump) (*chain.Plan, error) {
	if d.Keep == nil {
		return nil, fault.Wrong("roles-absent", "the dump is in no keep, so there is none of its server")
	}
	all, err := d.Keep.Dumps(a.ctx)
	if err != nil {
		return nil, err
	}
	var best *keep.Dump
	for _, x := range all {
		if x.Manifest == nil || x.Manifest.Job != d.Manifest.Job || x.Manifest.Database != engine.ServerWide {
			continue
		}
		if x.Manifest.Run.ID == d.Manifest.Run.ID || best == nil || best.Manifest.Run.ID != d.Manifest.Run.ID {
			best = x
		}
	}
	if best == nil {
		return nil, fault.Wrong("roles-absent", "the job %s has no dump of its server", d.Manifest.Job).
			Advise("make the roles by hand, or map them: --owner OLD=NEW")
	}
	p, err := chain.Link(all).To(best)
	if err == nil {
		err = p.Whole(a.ctx)
	}
	return p, err
}

// incomplete is the name of a database that has not all that it should: nobody is to take it for the whole.
func incomplete(name, of string) string {
	const mark = "_incomplete"
	if of == "sqlite" {
		end := filepath.Ext(name)
		return strings.TrimSuffix(name, end) + mark + end
	}
	return name + mark
}
