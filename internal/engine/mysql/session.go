package mysql

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// session is a connection that restores.
type session struct {
	c      *conn
	joined bool // everything is part of one transaction, which is under way
	maria  bool
}

func (s *session) Close() error { return s.c.close() }

// deadlocks is how often a statement is tried again that the server took back for others'
// sake. Those that make an object are whole each.
const deadlocks = 20

// Exec runs one object's statements.
func (s *session) Exec(ctx context.Context, sql string) error {
	if s.hasSystem(ctx, sql) {
		return nil
	}
	list := statements(sql)
	for _, one := range list {
		_, err := s.c.exec(ctx, one)
		for range deadlocks {
			if !hasCode(err, codeDeadlock) || !sleep(ctx, 100*time.Millisecond) {
				break
			}
			_, err = s.c.exec(ctx, one)
		}
		if err != nil {
			return err
		}
	}
	if len(list) > 1 { // it made settings of its own
		_, err := s.c.exec(ctx, settings)
		return err
	}
	return nil
}

// statements divides a script as the interactive client does: by what DELIMITER says
// where a line begins, outside of quotes. What is divided by semicolons is left together;
// the server divides it.
func statements(sql string) (list []string) {
	for sql != "" {
		before, rest := sql, ""
		at := delimiting().FindStringIndex(words(sql))
		if at != nil {
			before, rest = sql[:at[0]], sql[at[1]:]
		}
		if before = strings.TrimSpace(before); before != "" {
			list = append(list, before)
		}
		if at == nil {
			return list
		}
		mark, body, _ := strings.Cut(rest, "\n")
		word := sql[at[0] : at[1]-1] // as it was written here
		one, after, _ := strings.Cut(body, mark+"\n"+word+" ;\n")
		list = append(list, one)
		sql = after
	}
	return list
}

// delimiting is the client's command at the beginning of a line.
var delimiting = pattern.Of("(?m)^(?i:delimiter) ")

// Load loads a data file in one transaction.
func (s *session) Load(ctx context.Context, text io.Reader, seen func(int64)) (rows int64, err error) {
	in := bufio.NewReaderSize(text, 256<<10)
	head, target, err := headOf(in)
	if err != nil || target == "" {
		return 0, err
	}
	f, err := s.fields(ctx, target)
	if err != nil {
		return 0, err
	}
	// With both checks off the server would lock the whole table for whoever finds it empty,
	// and sessions that load it side by side would be in each other's way.
	begin := "SET unique_checks = 1"
	if !s.joined {
		begin += "; START TRANSACTION"
	}
	if _, err := s.c.exec(ctx, head+begin); err != nil {
		return 0, err
	}
	if f != nil {
		again := head[max(0, strings.LastIndex(head, byteNames)):] + insert + target + values
		rows, err = s.bulk(ctx, f, again, in, seen)
	} else {
		rows, err = load(ctx, s.c, target, in, strings.Contains(head, lenient), seen)
	}
	switch {
	case s.joined:
	case err == nil:
		_, err = s.c.exec(ctx, "COMMIT")
	default:
		s.c.exec(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return rows, err
}

const (
	insert = "INSERT INTO "
	values = " VALUES\n"

	maxHead = 1 << 20 // bytes of a file before its first row
)

// headOf reads a file up to its first row: its settings, and what it inserts into. A
// name may hold line feeds.
func headOf(in *bufio.Reader) (settings, target string, err error) {
	var text strings.Builder
	for {
		line, err := engine.ReadLine(in, nil, maxHead)
		text.Write(line)
		if text.Len() > maxHead {
			return "", "", errors.New("the settings at its head have no end")
		}
		if err == io.EOF {
			return text.String(), "", nil
		}
		if err != nil {
			return "", "", err
		}
		if before, after, ok := strings.Cut("\n"+text.String(), "\n"+insert); ok && strings.HasSuffix(after,
			values) && strings.Count(after, "`")%2 == 0 {
			return strings.TrimPrefix(before, "\n") + "\n", strings.TrimSuffix(after, values), nil
		}
	}
}

// load runs INSERT statements, whose first head has been read. Where ENUM values that
// are no members made the server lenient, every other warning is an error.
func load(ctx context.Context, c *conn, target string, in *bufio.Reader, easy bool, seen func(int64)) (int64, error) {
	whole := io.MultiReader(strings.NewReader(insert+target+values), in)
	return engine.Inserts(whole, seen, func(sql []byte) (int64, error) {
		if len(sql) > maxInsert {
			return 0, fault.New(engine.Trouble, nil, "a row takes %d MiB as a statement, and the server takes rows as "+
				"statements only: that would take several times as much memory here", len(sql)>>20).
				Advise("SET GLOBAL local_infile = 1 on the target for the time of the restore")
		}
		n, err := c.exec(ctx, string(sql[max(0, bytes.Index(sql, []byte(insert))):]))
		if err == nil && easy {
			err = warned(ctx, c)
		}
		return n, err
	})
}

// maxInsert bounds a statement that holds rows, in bytes: it is in memory more than once.
const maxInsert = 24 << 20

// codeCut is the warning of a value that was cut, or is no member of its ENUM.
const codeCut = "1265"

// warned turns another warning into an error.
func warned(ctx context.Context, c *conn) error {
	rows, err := c.rows(ctx, "SHOW WARNINGS")
	for _, r := range rows {
		if r[1] != codeCut {
			return fmt.Errorf("the server warned: %s [%s]", r[2], r[1])
		}
	}
	return err
}
