package mysql

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/fault"
)

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
