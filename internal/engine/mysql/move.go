package mysql

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// catalogOf reads a database that nobody else changes.
func (s *source) catalogOf(ctx context.Context, c *conn, database string) (*engine.Catalog, error) {
	r, err := s.readingOf(ctx, c, database)
	if err != nil {
		return nil, err
	}
	return r.read(ctx)
}

func (s *source) readingOf(ctx context.Context, c *conn, database string) (*catalogReader, error) {
	listed, err := s.tables(ctx, c, []string{database})
	if err != nil {
		return nil, err
	}
	return &catalogReader{s: s, c: c, database: database, listed: listed}, nil
}

// The server cannot rename a database. So a new one is made, the triggers are taken down
// (a table with triggers does not move), all tables are renamed into it in one
// statement, and what does not move with them is made again. A table in the new database
// holds the SQL of that while it is under way: whoever is killed has lost nothing, and
// the same move, begun again, goes on where it was.

// noted is the name of that table.
const noted = "grainkeep_moving"

// codeUnfinished is the code of a move that must go on: it cannot be taken back.
const codeUnfinished = "move-unfinished"

// codesThere are the server's errors about what is there already: a table, a routine, a
// trigger, an event; and about rights that are not there any more, on a table or a routine.
var codesThere = []uint16{1050, 1304, 1359, 1537, codeNoGrants, 1147, 1403}

type move struct {
	s        *source
	c        *conn
	from, to string
	made     bool     // the new database, by this process
	lost     []string // what could not be made again
}

// move gives a database another name. It tells what could not be made under that name;
// its SQL stays in the table. An error other than codeUnfinished means that nothing has
// changed.
func (s *source) move(ctx context.Context, from, to string) (lost []string, err error) {
	c, err := s.connect(ctx, "")
	if err != nil {
		return nil, err
	}
	defer c.close()
	if !s.maria && s.version >= 80400 { // keys to keys that are not unique move as they are; not every user may say so
		_, _ = c.exec(ctx, "SET restrict_fk_on_non_standard_key = OFF")
	}
	m := &move{s: s, c: c, from: from, to: to}
	there, err := s.has(ctx, from)
	if err == nil && there {
		err = m.database(ctx)
	}
	return m.lost, err
}

func (m *move) noted() string { return quote(m.to) + "." + noted }

func (m *move) database(ctx context.Context) error {
	begun, err := m.begun(ctx)
	if err != nil {
		return err
	}
	if !begun {
		if moved, err := m.moved(ctx); err != nil {
			return err
		} else if moved {
			return m.end(ctx, nil)
		}
		if err := m.begin(ctx); err != nil {
			return errors.Join(err, m.forget(ctx))
		}
	}
	if err := m.tables(ctx); err != nil {
		return m.back(ctx, err)
	}
	return m.end(ctx, m.rest(ctx))
}

// end drops what was noted, then the old database.
func (m *move) end(ctx context.Context, err error) error {
	if err == nil && len(m.lost) == 0 {
		_, err = m.c.exec(ctx, "DROP TABLE IF EXISTS "+m.noted())
	}
	if err == nil {
		_, err = m.c.exec(ctx, "DROP DATABASE "+quote(m.from))
	}
	if err != nil {
		return unfinished(err, m.from, m.to)
	}
	return nil
}

// moved tells whether everything is in the new database already.
func (m *move) moved(ctx context.Context) (bool, error) {
	left, err := m.s.tables(ctx, m.c, []string{m.from})
	if err != nil || len(left) > 0 {
		return false, err
	}
	there, err := m.c.value(ctx,
		"SELECT EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = "+literal(m.to)+
			") OR EXISTS (SELECT 1 FROM information_schema.routines WHERE routine_schema = "+literal(m.to)+")")
	return there == "1", err
}

func unfinished(err error, from, to string) error {
	return fault.New(codeUnfinished, err, "the database %s is partly called %s now, and nothing of it is lost", from,
		to).
		Advise("the next restore or drill with this keep at this server goes on with it")
}

// begun tells whether everything was noted, and of the same database.
func (m *move) begun(ctx context.Context) (bool, error) {
	n, err := m.c.value(ctx, "SELECT count(*) FROM information_schema.tables WHERE table_schema = "+literal(m.to)+
		" AND table_name = '"+noted+"'")
	if err != nil || n == "0" {
		return false, err
	}
	from, err := m.c.value(ctx, "SELECT `sql` FROM "+m.noted()+" WHERE step = 0")
	if err == nil && from != "" && from != m.from {
		err = fault.New("target-in-use", nil, "the database %s is coming into the place of %s", from, m.to)
	}
	return from != "", err
}

// begin makes the new database and notes what does not move, in one transaction.
func (m *move) begin(ctx context.Context) error {
	if _, err := m.c.exec(ctx, "USE "+quote(m.from)); err != nil {
		return err
	}
	reader, err := m.s.readingOf(ctx, m.c, m.from)
	if err != nil {
		return err
	}
	cat, err := reader.read(ctx)
	if err != nil {
		return err
	}
	there, err := m.s.has(ctx, m.to)
	if err != nil {
		return err
	}
	if !there {
		create, err := createDatabase(m.to, cat.Facts)
		if err != nil {
			return err
		}
		if _, err := m.c.exec(ctx, create); err != nil {
			return err
		}
		m.made = true
	} else if listed, err := m.s.tables(ctx, m.c, []string{m.to}); err != nil || len(listed) > 1 ||
		len(listed) == 1 && listed[0].name != noted {
		return errors.Join(err, fault.New("target-exists", nil, "the database %s has come into being meanwhile", m.to))
	}
	list, err := m.defaults(ctx)
	if err != nil {
		return err
	}
	list = append([]step{{"", m.from}}, list...)
	for _, o := range cat.Objects {
		if strings.HasPrefix(o.SQL, "SET sql_mode") || strings.HasPrefix(o.SQL, "SET character_set_client") {
			// it has settings of its own: it does not move
			list = append(list, step{o.ID(), o.SQL})
		}
	}
	list = append(list, m.rights(reader)...)
	return m.note(ctx, list)
}

// defaults are the columns that take numbers of sequences, which name the old place.
func (m *move) defaults(ctx context.Context) (list []step, err error) {
	rows, err := m.c.rows(ctx, `SELECT table_name, column_name, column_default FROM information_schema.columns JOIN
		information_schema.tables USING (table_schema, table_name)
		WHERE table_schema = database() AND table_type NOT LIKE '%VIEW' AND column_default LIKE '%nextval(%'
		ORDER BY table_name, ordinal_position`)
	if err != nil {
		return nil, err
	}
	for i := 0; i < len(rows); { // all of a table at once: one that still names the old place would be in the others' way
		table := rows[i][0]
		var set []string
		for ; i < len(rows) && rows[i][0] == table; i++ {
			set = append(set, fmt.Sprintf("ALTER COLUMN %s SET DEFAULT %s", quote(rows[i][1]),
				replaceWords(rows[i][2], quote(m.from)+".", quote(m.to)+".")))
		}
		list = append(list, step{"default of " + quote(table), "ALTER TABLE " + quote(table) + " " + strings.Join(set,
			", ")})
	}
	return list, nil
}

// rights come along with a restored database. Of one that is moved aside they stay with the
// name: whoever works with the old database goes on with the new one.
func (m *move) rights(r *catalogReader) (list []step) {
	if !strings.HasPrefix(m.from, engine.RestorePrefix) {
		return nil
	}
	if r.blind {
		m.lost = append(m.lost,
			"rights on single tables, columns and routines of "+m.to+", if the dump has any, are not "+
				"there: this user may not read what was granted")
	}
	for _, o := range r.objects {
		if o.Kind != "grants" {
			continue
		}
		// Rights on the working name would outlive it.
		user := o.Roles[0]
		kind, name, _ := strings.Cut(strings.TrimPrefix(o.Name, user+" on "), "`")
		from := " ON " + kind + quote(m.from) + ".`" + name + " FROM " + user
		list = append(list, step{o.ID(), o.SQL}, step{"end of the " + o.ID(), "REVOKE ALL PRIVILEGES" + from +
			"; REVOKE GRANT OPTION" + from})
	}
	return list
}

// step is something that does not move, and the SQL that makes it; the first is the
// database that moves.
type step struct{ what, sql string }

func (m *move) note(ctx context.Context, list []step) error {
	if _, err := m.c.exec(ctx,
		"CREATE TABLE IF NOT EXISTS "+m.noted()+" (step int PRIMARY KEY, what varchar(200), `sql` longtext) "+
			"CHARACTER SET utf8mb4; START TRANSACTION"); err != nil {
		return err
	}
	for i, s := range list {
		if _, err := m.c.exec(ctx, fmt.Sprintf("INSERT INTO %s VALUES (%d, %s, %s)", m.noted(), i, literal(s.what),
			literal(s.sql))); err != nil {
			return err
		}
	}
	_, err := m.c.exec(ctx, "COMMIT")
	return err
}

// tables takes the triggers down and renames what is a table.
func (m *move) tables(ctx context.Context) error {
	if _, err := m.c.exec(ctx, "USE "+quote(m.from)); err != nil {
		return err
	}
	triggers, err := m.c.rows(ctx,
		"SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = database()")
	if err != nil {
		return err
	}
	for _, row := range triggers {
		if _, err := m.c.exec(ctx, "DROP TRIGGER "+quote(row[0])); err != nil {
			return err
		}
	}
	listed, err := m.s.tables(ctx, m.c, []string{m.from})
	if err != nil {
		return err
	}
	var renames []string
	for _, t := range listed {
		renames = append(renames, quote(t.name)+" TO "+quote(m.to)+"."+quote(t.name))
	}
	if len(renames) > 0 {
		_, err = m.c.exec(ctx, "RENAME TABLE "+strings.Join(renames, ", "))
	}
	return err
}

// rest makes again, under the new name, what did not move.
func (m *move) rest(ctx context.Context) error {
	rows, err := m.c.rows(ctx, "SELECT step, what, `sql` FROM "+m.noted()+" WHERE step > 0 ORDER BY step")
	if err != nil {
		return err
	}
	if _, err := m.c.exec(ctx, "USE "+quote(m.to)); err != nil {
		return err
	}
	for _, row := range rows {
		err := (&session{c: m.c}).Exec(ctx, row[2])
		switch {
		case fault.HasCode(err, engine.Trouble) || ctx.Err() != nil:
			return err
		case err != nil && !hasCode(err, codesThere...):
			m.lost = append(m.lost,
				fmt.Sprintf("the %s could not be made again in the database %s: %v; its SQL is in the table %s there",
					row[1], m.to, err, noted))
			continue
		}
		if _, err := m.c.exec(ctx, "DELETE FROM "+m.noted()+" WHERE step = "+row[0]); err != nil {
			return err
		}
	}
	return nil
}

// back undoes what was done before tables were renamed, if they were not.
func (m *move) back(ctx context.Context, cause error) error {
	listed, err := m.s.tables(ctx, m.c, []string{m.to})
	if err == nil && len(listed) != 1 {
		return unfinished(cause, m.from, m.to)
	}
	var rows [][]string
	if err == nil {
		rows, err = m.c.rows(ctx, "SELECT `sql` FROM "+m.noted()+" WHERE what LIKE 'trigger %' ORDER BY step")
	}
	if err == nil {
		_, err = m.c.exec(ctx, "USE "+quote(m.from))
	}
	for _, row := range rows {
		if err == nil {
			err = (&session{c: m.c}).Exec(ctx, row[0])
		}
		if hasCode(err, codesThere...) {
			err = nil
		}
	}
	if err != nil {
		return unfinished(errors.Join(cause, err), m.from, m.to)
	}
	return errors.Join(cause, m.forget(ctx))
}

// forget drops the new database, if it holds nothing but what was noted.
func (m *move) forget(ctx context.Context) error {
	listed, err := m.s.tables(ctx, m.c, []string{m.to})
	if err != nil || len(listed) > 1 || len(listed) == 1 && listed[0].name != noted || len(listed) == 0 && !m.made {
		return nil //nolint:nilerr // it is not there, or not ours
	}
	_, err = m.c.exec(ctx, "DROP DATABASE "+quote(m.to))
	return err
}
