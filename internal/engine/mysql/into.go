package mysql

import (
	"context"
	"strings"
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
	t.spec.Compare(cat.Facts)
	if len(t.spec.Fill) > 0 {
		return t.spec.Fillable(t.spec.Fill, func(id string) (bool, error) {
			rows, err := c.value(ctx, "SELECT EXISTS (SELECT 1 FROM "+id+")")
			return rows == "1", err
		})
	}
	if len(cat.Objects) > 0 {
		return t.spec.NotEmpty("the " + cat.Objects[0].ID())
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
