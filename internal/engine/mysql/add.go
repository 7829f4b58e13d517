package mysql

import (
	"context"
	"fmt"
	"strings"
)

// A database in use gets some tables: they are made in a database of their own, and renamed into
// it by one statement, so that all of them are there at once, or none. What does not move with
// them (triggers, rights, numbers from sequences) is made again right after.

// merge moves the tables of a restored database into one that is there, and drops the rest.
func (s *source) merge(ctx context.Context, work, into string, warn func(string)) error {
	c, err := s.connect(ctx, work)
	if err != nil {
		return err
	}
	defer c.close()
	m := &move{s: s, c: c, from: work, to: into}
	reader, err := s.readingOf(ctx, c, work)
	if err != nil {
		return err
	}
	cat, err := reader.read(ctx)
	if err != nil {
		return err
	}
	again, err := m.defaults(ctx)
	if err != nil {
		return err
	}
	for _, o := range cat.Objects {
		if o.Kind == "trigger" {
			again = append(again, step{o.ID(), o.SQL})
			if _, err := c.exec(ctx, "DROP TRIGGER "+o.Name); err != nil {
				return err
			}
		}
	}
	again = append(again, m.rights(reader)...)
	var renames []string
	for _, t := range reader.listed {
		if t.name != mark {
			renames = append(renames, quote(t.name)+" TO "+quote(into)+"."+quote(t.name))
		}
	}
	if len(renames) > 0 {
		if _, err := c.exec(ctx, "RENAME TABLE "+strings.Join(renames, ", ")); err != nil {
			return fmt.Errorf("moving the tables into %s: %w", into, err)
		}
	}
	if _, err := c.exec(ctx, "USE "+quote(into)); err != nil {
		return err
	}
	for _, x := range again {
		if err := (&session{c: c}).Exec(ctx, x.sql); err != nil && !hasCode(err, codesThere...) {
			warn(fmt.Sprintf("the %s could not be made in %s: %v; it is this: %s", x.what, into, err, x.sql))
		}
	}
	_, err = c.exec(ctx, "DROP DATABASE "+quote(work))
	return err
}
