package mysql

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"grainkeep/internal/engine"
)

// session is a connection that restores.
type session struct{ c *conn }

func (s *session) Close() error { return s.c.close() }

// Exec runs one object's statements.
func (s *session) Exec(ctx context.Context, sql string) error {
	list := statements(sql)
	for _, one := range list {
		if _, err := s.c.exec(ctx, one); err != nil {
			return err
		}
	}
	if len(list) > 1 { // it made settings of its own
		_, err := s.c.exec(ctx, settings)
		return err
	}
	return nil
}

// statements divides a script as the interactive client does: by what DELIMITER says.
// What is divided by semicolons is left together; the server divides it.
func statements(sql string) (list []string) {
	const word = "DELIMITER "
	for sql != "" {
		before, rest, found := strings.Cut("\n"+sql, "\n"+word)
		if strings.TrimSpace(before) != "" {
			list = append(list, strings.TrimSpace(before))
		}
		if !found {
			return list
		}
		mark, body, _ := strings.Cut(rest, "\n")
		one, after, _ := strings.Cut(body, mark+"\n"+word+";\n")
		list = append(list, one)
		sql = after
	}
	return list
}

// Load runs the INSERT statements of a data file in one transaction.
func (s *session) Load(ctx context.Context, text io.Reader, seen func(int64)) (int64, error) {
	if _, err := s.c.exec(ctx, "START TRANSACTION"); err != nil {
		return 0, err
	}
	rows, err := load(ctx, s.c, text, seen)
	if err == nil {
		_, err = s.c.exec(ctx, "COMMIT")
	} else {
		s.c.exec(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return rows, err
}

// load runs INSERT statements. The first comes with the file's settings, which hold for
// the others. Where ENUM values that are no members made the server lenient, every other
// warning is an error.
func load(ctx context.Context, c *conn, text io.Reader, seen func(int64)) (int64, error) {
	first, easy := true, false
	return engine.Inserts(text, seen, func(sql []byte) (int64, error) {
		if first {
			first, easy = false, bytes.Contains(sql, []byte(lenient))
		} else if i := bytes.Index(sql, []byte("INSERT INTO ")); i > 0 {
			sql = sql[i:]
		}
		n, err := c.exec(ctx, string(sql))
		if err == nil && easy {
			err = warned(ctx, c)
		}
		return n, err
	})
}

func warned(ctx context.Context, c *conn) error {
	rows, err := c.rows(ctx, "SHOW WARNINGS LIMIT 100")
	for _, r := range rows {
		if r[1] != "1265" { // "data truncated": the ENUM value that is no member
			return fmt.Errorf("the server warned: %s [%s]", r[2], r[1])
		}
	}
	return err
}
