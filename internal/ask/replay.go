package ask

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
	"grainkeep/internal/payload"
)

var (
	foreignKey = pattern.Of("(?s)FOREIGN KEY \\((.*?)\\) REFERENCES (`(?:[^`]|``)*`) \\((.*?)\\)(.*?);?\\s*$")
	acting     = pattern.Of(`ON (?:DELETE|UPDATE) (?:CASCADE|SET NULL)`)
)

// actingClause is the clause of a foreign key of MariaDB or MySQL that acts on rows, which their log does not tell; empty:
// it does not. What PostgreSQL's do stands in its log.
func actingClause(sql string) string {
	m := foreignKey().FindStringSubmatch(sql)
	if m == nil {
		return ""
	}
	does := acting().FindAllString(m[4], -1)
	if len(does) == 0 {
		return ""
	}
	return "FOREIGN KEY (" + m[1] + ") REFERENCES " + m[2] + " (" + m[3] + ") " + strings.Join(does, " ") + " DEFERRABLE INITIALLY DEFERRED"
}

// references are the foreign keys of a table that act on rows, as clauses of its definition, where the table that they
// refer to is loaded too; and what that needs to be unique of this one.
func (s *Session) references(t *table, group map[string]bool) (list []string) {
	for _, clause := range t.refs {
		if m := foreignKey().FindStringSubmatch(clause); m != nil && group[m[2]] {
			list = append(list, clause)
		}
	}
	for id := range group {
		if s.byID[id] == nil {
			continue
		}
		for _, clause := range s.byID[id].refs {
			m := foreignKey().FindStringSubmatch(clause)
			if m == nil || m[2] != t.ID {
				continue
			}
			if unique := "UNIQUE (" + m[3] + ")"; !slices.Contains(list, unique) {
				list = append(list, unique)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b string) int { return strings.Compare(b, a) })
	return list
}

// replay brings tables from where their rows were read last to the end of the plan, by what the log told.
func (s *Session) replay(ctx context.Context, layers map[string][]payload.Layer) (err error) {
	lanes, err := s.parts.Streams(layers)
	if err != nil || len(lanes) == 0 {
		return err
	}
	if err := s.act(ctx, true); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.act(context.WithoutCancel(ctx), false)) }()
	r := &replaying{s: s, cutter: s.text.Cutter(), indexed: map[string]bool{}}
	for _, lane := range lanes {
		for _, x := range lane {
			for _, path := range x.Of.Files {
				r.x = x
				if err := s.file(ctx, x.Files, path, r.from); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// act lets foreign keys act, or not.
func (s *Session) act(ctx context.Context, on bool) error {
	_, err := s.db.Exec(ctx, "PRAGMA foreign_keys="+map[bool]string{true: "ON", false: "OFF"}[on])
	return err
}

// replaying is a stream of a log on its way into tables.
type replaying struct {
	s       *Session
	x       payload.Transactions
	cutter  *engine.RowCutter
	indexed map[string]bool // by which columns rows were found
}

func (r *replaying) from(ctx context.Context, text io.Reader) error {
	until := int64(0)
	if r.x.Last && r.s.plan.Stop != nil {
		until = r.s.plan.Stop.After.Number
	}
	err := engine.ReadChanges(text, func(l engine.ChangeLine) error {
		if until > 0 && l.Transaction > until {
			return engine.ErrNoMore
		}
		if l.Rows < 0 {
			if is, found := bytes.CutPrefix(l.SQL, []byte("SET foreign_key_checks = ")); found {
				return r.s.act(ctx, string(is) == "1")
			}
			return nil
		}
		id := engine.TableOf(l.SQL, r.x.Of.Tables)
		if _, wanted := r.x.Rows[id]; !wanted {
			return nil
		}
		n, err := r.change(ctx, r.s.byID[id], l.SQL)
		if err == nil && n != l.Rows {
			err = engine.RowsDiffer(l.Transaction, n, l.Rows, l.SQL)
		}
		return err
	})
	if err == nil { // what is left of the file is read too: its digest counts
		_, err = io.Copy(io.Discard, text)
	}
	return err
}

// change does what a statement says, and tells how many rows that touched.
func (r *replaying) change(ctx context.Context, t *table, sql []byte) (int64, error) {
	x, err := r.cutter.Change(sql, t.ID)
	if err != nil {
		return 0, err
	}
	if x.Inserts {
		return int64(len(x.Rows)), r.insert(t, x)
	}
	var with []engine.Cell
	var sets, wheres, by []string
	for _, n := range x.Set {
		if name := plain(string(n.Value.Data)); n.Value.Kind == engine.Expression && name == n.Column { // it stays
			continue
		}
		c, err := r.cell(t, n)
		if err != nil {
			return 0, err
		}
		sets, with = append(sets, quoted(n.Column)+" = ?"), append(with, c)
	}
	for _, n := range x.Where {
		c, err := r.cell(t, n)
		if err != nil {
			return 0, err
		}
		wheres, with, by = append(wheres, quoted(n.Column)+" IS ?"), append(with, c), append(by, quoted(n.Column))
	}
	if at := t.name + " " + strings.Join(by, ", "); !r.indexed[at] {
		r.indexed[at] = true
		name := quoted(fmt.Sprintf("by %s %d", t.name, len(r.indexed)))
		if _, err := r.s.db.Exec(ctx, "CREATE INDEX "+name+" ON "+quoted(t.name)+" ("+strings.Join(by, ", ")+")"); err != nil {
			return 0, err
		}
	}
	if len(x.Set) == 0 {
		return r.s.db.Exec(ctx, "DELETE FROM "+quoted(t.name)+" WHERE "+strings.Join(wheres, " AND "), with...)
	}
	if len(sets) == 0 {
		return 1, nil
	}
	return r.s.db.Exec(ctx, "UPDATE "+quoted(t.name)+" SET "+strings.Join(sets, ", ")+" WHERE "+strings.Join(wheres, " AND "), with...)
}

// cell is the value of a column in a statement. Numbers and times may have another form there than in a row.
func (r *replaying) cell(t *table, n engine.Named) (engine.Cell, error) {
	at := slices.Index(t.Columns, n.Column)
	if at < 0 {
		return engine.Cell{}, fmt.Errorf("%s has no column %.80q", t.ID, n.Column)
	}
	c, err := t.cell(r.s.text, at, n.Value)
	c.Data = []byte(string(c.Data)) // the next value may use the same room
	return c, err
}

// insert inserts the rows of a statement.
func (r *replaying) insert(t *table, x engine.RowChange) error {
	into, err := r.s.db.Into(t.name, x.Columns)
	if err != nil {
		return err
	}
	for _, row := range x.Rows {
		cells := make([]engine.Cell, len(row))
		for i, v := range row {
			if err == nil {
				cells[i], err = r.cell(t, engine.Named{Column: x.Columns[i], Value: v})
			}
		}
		if err == nil {
			err = into.Insert(cells)
		}
	}
	return errors.Join(err, into.Close())
}
