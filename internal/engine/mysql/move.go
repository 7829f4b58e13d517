package mysql

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// catalogOf reads a database that nobody else changes.
func (s *source) catalogOf(ctx context.Context, c *conn, database string) (*engine.Catalog, error) {
	listed, err := s.tables(ctx, c, []string{database})
	if err != nil {
		return nil, err
	}
	return (&catalogReader{s: s, c: c, database: database, listed: listed}).read(ctx)
}

// move gives a database another name, which the server itself cannot: it makes the new
// one, takes triggers down (a table with triggers does not move), renames the tables
// into it in one statement, and makes again what does not move with them. Then it drops
// the old one.
func (s *source) move(ctx context.Context, from, to string) error {
	c, err := s.connect(ctx, from)
	if err != nil {
		return err
	}
	defer c.close()
	cat, err := s.catalogOf(ctx, c, from)
	if err != nil {
		return err
	}
	if _, err := c.exec(ctx, createDatabase(to, cat.Facts)); err != nil {
		return err
	}
	var down, renames, again, defaults []string
	for _, o := range cat.Objects {
		switch o.Kind {
		case "trigger":
			down = append(down, "DROP TRIGGER "+o.Name)
		case "table", "sequence":
			if o.Name != quote(mark) {
				renames = append(renames, o.Name+" TO "+quote(to)+"."+o.Name)
			}
		}
		if strings.HasPrefix(o.SQL, "SET sql_mode") { // it has settings of its own: it does not move
			again = append(again, o.SQL)
		}
	}
	rows, err := c.rows(ctx, "SELECT table_name, column_name, column_default FROM information_schema.columns WHERE table_schema = database() AND column_default LIKE 'nextval(%'")
	if err != nil {
		return err
	}
	for _, row := range rows {
		defaults = append(defaults, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET DEFAULT %s", quote(row[0]), quote(row[1]), strings.ReplaceAll(row[2], quote(from)+".", quote(to)+".")))
	}
	if err := note(ctx, c, to, append(defaults, again...)); err != nil {
		return err
	}
	for _, sql := range down {
		if _, err := c.exec(ctx, sql); err != nil {
			return err
		}
	}
	if len(renames) > 0 {
		if _, err := c.exec(ctx, "RENAME TABLE "+strings.Join(renames, ", ")); err != nil {
			return err
		}
	}
	there := &session{c}
	if _, err := c.exec(ctx, "USE "+quote(to)); err != nil {
		return err
	}
	for _, sql := range append(defaults, again...) {
		if err := there.Exec(ctx, sql); err != nil {
			return err
		}
	}
	_, err = c.exec(ctx, "DROP DATABASE "+quote(from)+"; DROP TABLE "+quote(to)+"."+noted)
	return err
}

// noted is a table in the new database that holds, while a move is under way, the SQL of
// what does not move: who is killed then has lost nothing.
const noted = "grainkeep_moving"

func note(ctx context.Context, c *conn, database string, list []string) error {
	table := quote(database) + "." + noted
	if _, err := c.exec(ctx, "CREATE TABLE "+table+" (step int PRIMARY KEY, `sql` longtext) CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	for i, sql := range list {
		if _, err := c.exec(ctx, fmt.Sprintf("INSERT INTO %s VALUES (%d, %s)", table, i+1, literal(sql))); err != nil {
			return err
		}
	}
	return nil
}

// A restore into a database that is there already can neither work under another name
// nor drop it: it must be empty before, and is emptied again when it fails.

func (t *target) enter(ctx context.Context) error {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return err
	}
	defer c.close()
	cat, err := t.s.catalogOf(ctx, c, t.work)
	if err != nil {
		return err
	}
	for name, want := range t.spec.Facts {
		if cat.Facts[name] != want {
			t.spec.Warn(fmt.Sprintf("the %s of the database %s is %s; the dump's is %s", name, t.work, cat.Facts[name], want))
		}
	}
	if len(t.spec.Fill) > 0 {
		return t.fillable(ctx, c)
	}
	if len(cat.Objects) > 0 {
		return fault.New("target-not-empty", nil, "the database %s is not empty: it holds the %s", t.work, cat.Objects[0].ID()).
			Advise("restore into an empty one, or leave --into out: a new database is made then")
	}
	return nil
}

// fillable checks that the tables are there and have no rows.
func (t *target) fillable(ctx context.Context, c *conn) error {
	for _, id := range t.spec.Fill {
		rows, err := c.value(ctx, "SELECT EXISTS (SELECT 1 FROM "+id+")")
		if err != nil {
			return fault.New("target-lacks-table", err, "the table %s of %s cannot be filled", id, t.work).
				Advise("restore the structure first: --part structure")
		}
		if rows == "1" {
			return fault.New("target-not-empty", nil, "the table %s of %s has rows already", id, t.work).
				Advise("empty it first; rows are never mixed with others")
		}
	}
	return nil
}

// leave empties what was empty before.
func (t *target) leave(ctx context.Context) error {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return err
	}
	defer c.close()
	for _, id := range t.spec.Fill {
		if _, err := c.exec(ctx, "DELETE FROM "+id); err != nil {
			return err
		}
	}
	if len(t.spec.Fill) > 0 {
		return nil
	}
	cat, err := t.s.catalogOf(ctx, c, t.work)
	if err != nil {
		return err
	}
	for _, o := range cat.Objects {
		switch o.Kind {
		case "table", "sequence", "view", "function", "procedure", "package", "event":
			if _, err := c.exec(ctx, "DROP "+strings.ToUpper(o.Kind)+" IF EXISTS "+o.Name); err != nil {
				return err
			}
		}
	}
	return nil
}

var _ engine.Target = (*target)(nil)
