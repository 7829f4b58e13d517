// Package ask answers SQL on a dump, or on any moment of a chain, without a server: the tables that a question names are
// loaded into a temporary SQLite database, as far as it needs them.
package ask

import (
	"context"
	"errors"
	"path/filepath"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/scratch"
)

// DefaultRoom is how large the temporary database may be that nobody gave another bound, in bytes.
const DefaultRoom = 4 << 30

// Session is a dump that questions are asked of. It is for one goroutine.
type Session struct {
	plan   *chain.Plan
	parts  *payload.Chain
	text   engine.RowText
	db     engine.TempDB
	folder *scratch.Folder
	meter  *event.Meter
	snap   engine.Snapshot // of a live database; nil: there is a plan

	objects []manifest.ObjectEntry
	tables  []*table
	byName  map[string]*table
	byID    map[string]*table
}

// table is a table of the dump, which has its place in the temporary database.
type table struct {
	manifest.Table
	name    string          // in the temporary database
	defined []engine.Column // in the order of Columns
	refs    []string        // its foreign keys that act on rows, as clauses
	layers  []payload.Layer
	columns map[string]bool           // that are loaded; nil: nothing is
	exact   bool                      // exact numbers are kept as they are written
	only    func([]engine.Value) bool // which rows are loaded; nil: all
	filter  string                    // that its rows were loaded by; empty: all are there
}

// Open begins to ask questions of what a plan ends with. The temporary database grows to so many bytes at most.
func Open(ctx context.Context, plan *chain.Plan, room int64, feed *event.Feed) (s *Session, err error) {
	if err := plan.Whole(ctx); err != nil {
		return nil, err
	}
	parts, err := payload.NewChain(plan.Dumps())
	if err != nil {
		return nil, err
	}
	if s, err = begin(plan.Last().Manifest.Source.Engine, room, feed); err != nil {
		return nil, err
	}
	s.plan, s.parts = plan, parts
	if err = s.define(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// begin makes the temporary database.
func begin(name string, room int64, feed *event.Feed) (s *Session, err error) {
	s = &Session{meter: feed.Gauge(), byName: map[string]*table{}, byID: map[string]*table{}}
	if s.text, err = engine.RowTextOf(name); err != nil {
		return nil, err
	}
	d, err := engine.Find("sqlite")
	if err != nil {
		return nil, err
	}
	if s.folder, err = scratch.New(); err != nil {
		return nil, err
	}
	if s.db, err = d.(engine.TempMaker).Temp(filepath.Join(s.folder.Path, "answers.db"), room); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Close removes the temporary database.
func (s *Session) Close() error {
	var err error
	if s.db != nil {
		err = s.db.Close()
	}
	return errors.Join(err, s.folder.Close())
}

// define reads how the tables are made, and makes their empty likes.
func (s *Session) define(ctx context.Context) error {
	created, refs, err := s.created(ctx)
	if err != nil {
		return err
	}
	for _, m := range s.plan.Last().Manifest.Tables() {
		t := s.add(m, created[m.ID])
		t.refs = refs[m.ID]
		if t.layers, err = s.parts.Layers(m.ID); err != nil {
			return err
		}
	}
	if err := s.nameAll(ctx); err != nil || !sqliteText(s.text) {
		return err
	}
	for _, o := range s.objects { // SQLite's own views are understood here too
		if o.Kind != "view" {
			continue
		}
		sql, err := s.parts.Structure.SQL(ctx, o)
		if err != nil {
			return err
		}
		_ = s.db.Define(sql) // one that cannot be made is one that cannot be asked: then that is said
	}
	return nil
}

// add adds a table, by what is known of it and the SQL that makes it.
func (s *Session) add(m manifest.Table, create string) *table {
	t := &table{Table: m}
	known := s.text.Columns(create)
	for _, name := range m.Columns {
		at := slices.IndexFunc(known, func(c engine.Column) bool { return c.Name == name })
		if at < 0 {
			t.defined = append(t.defined, engine.Column{Name: name, Class: rowidClass(s.text, name)})
			continue
		}
		t.defined = append(t.defined, known[at])
	}
	s.tables, s.byID[m.ID] = append(s.tables, t), t
	return t
}

// created reads the SQL that makes each table, with its primary key, and its foreign keys that act on rows.
func (s *Session) created(ctx context.Context) (made map[string]string, refs map[string][]string, err error) {
	made, refs = map[string]string{}, map[string][]string{}
	s.objects, err = s.parts.Structure.Index(ctx)
	for _, o := range s.objects {
		if err != nil {
			return nil, nil, err
		}
		var sql string
		switch o.Kind {
		case "table", "foreign table", "primary key":
			sql, err = s.parts.Structure.SQL(ctx, o)
			made[o.OfTable()] += sql
		case "foreign key":
			sql, err = s.parts.Structure.SQL(ctx, o)
			if clause := actingClause(sql); clause != "" {
				refs[o.Table] = append(refs[o.Table], clause)
			}
		}
	}
	return made, refs, err
}

// Table is a table that can be asked for.
type Table struct {
	Name    string   `json:"name"` // as questions name it
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
}

// Tables lists them, in the order of their names.
func (s *Session) Tables() (list []Table) {
	for _, t := range s.tables {
		list = append(list, Table{t.name, t.Columns, t.Rows})
	}
	return list
}

// Ask answers a question. names is told of the columns first, then each row is given, whose cells are valid until the
// next one. What a question needs and earlier ones did not is loaded before.
func (s *Session) Ask(ctx context.Context, sql string, names func([]string) error, each func([]engine.Cell) error) error {
	sql = s.unqualify(sql)
	reads, err := s.db.Reads(sql)
	if err != nil {
		return s.explained(sql, err)
	}
	filters := map[string]filter{}
	if len(reads) == 1 {
		filters = seen(sql)
	}
	for name, columns := range reads {
		t := s.byName[name]
		if t == nil { // of the library's own
			continue
		}
		if err := s.load(ctx, t, columns, filters[name]); err != nil {
			return roomier(err)
		}
	}
	return s.db.Query(ctx, sql, names, each)
}

// roomier says what to do where the room is used up.
func roomier(err error) error {
	var f *fault.Error
	if errors.As(err, &f) && f.Code == engine.RoomUsed {
		f.Advise("give more with --room, name fewer tables or columns, or restore the dump")
	}
	return err
}
