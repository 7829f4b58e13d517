package mysql

import (
	"context"
	"slices"
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
	t.spec.Compare(cat.Facts)
	if len(t.spec.Fill) > 0 {
		if err := t.alike(ctx, c); err != nil {
			return err
		}
		for _, o := range cat.Objects {
			if o.Kind == "trigger" && slices.Contains(t.spec.Fill, o.Table) {
				return fault.New("target-acts", nil, "the trigger %s of %s in %s would act on each row that is loaded",
					o.Name,
					o.Table, t.work).Advise("restore the structure and the rows together, or take the triggers off for the " +
					"time of the restore")
			}
		}
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

// alike checks that the columns take the rows' bytes for what they were: values are not
// converted on their way.
func (t *target) alike(ctx context.Context, c *conn) error {
	for _, o := range t.spec.Made {
		was, err := parse(o.SQL, "")
		if err != nil {
			return err
		}
		is, err := tableOf(ctx, c, o.Name)
		if hasCode(err, codeNoTable, codeTableAccess) {
			continue // who looks for rows in it says so
		}
		if err != nil {
			return err
		}
		for _, a := range was.columns {
			if b, there := find(is.columns, quote(a.name)); there && !a.generated && !a.sameText(b) {
				return fault.New("target-differs", nil,
					"the column %s of %s in %s is another than the dumped one: %s in %s, and was %s in %s",
					quote(a.name), o.Name, t.work, b.kind, b.charset, a.kind, a.charset).
					Advise("restore the structure first: --part structure")
			}
		}
	}
	return nil
}

// sameText says whether the same bytes are the same value in both columns.
func (c column) sameText(o column) bool {
	_, f := c.read()
	_, g := o.read()
	texts := f == inOwn || f == member || f == hexa && wide(c.charset)
	utf8 := strings.HasPrefix(c.charset, "utf8") && strings.HasPrefix(o.charset, "utf8") // one is a part of the other
	return f == g && (!texts || utf8 || c.charset == o.charset)
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
