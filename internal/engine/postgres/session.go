package postgres

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// session is a connection that restores.
type session struct{ c *pgx.Conn }

func (s *session) Close() error { return closeConn(s.c) }

// Exec runs one object's statements, all or none of them.
func (s *session) Exec(ctx context.Context, sql string) error {
	_, err := s.c.PgConn().Exec(ctx, sql).ReadAll()
	return plain(ctx, s.c, err)
}

// plain shortens a server's error to its message and where it stands.
func plain(ctx context.Context, c *pgx.Conn, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		if err != nil && c.IsClosed() {
			return fault.New(engine.Trouble, err,
				"the connection to the server was lost").Advise("look into the server's log")
		}
		return err
	}
	text := pg.Message
	if pg.Detail != "" {
		text += "; " + pg.Detail
	}
	if pg.Where != "" {
		text += " (" + strings.SplitN(pg.Where, "\n", 2)[0] + ")"
	}
	text += " [" + pg.Code + "]"
	switch {
	case strings.HasPrefix(pg.Message, "can only create extension in database"):
		return fault.New(engine.Trouble, nil, "an extension can be in one database of this server only: %s", text).
			Advise("make that database, empty, and restore into it: --into NAME")
	case pg.Code == "22023" && strings.Contains(pg.Message, "no installation script nor update path for version"):
		return fault.New(engine.Trouble, nil, "the server lacks a version of an extension: %s", text).
			Advise("install it there, or take the version that is there: --any-extension-version")
	case pg.Code == "53200" && strings.Contains(pg.Hint, "max_locks_per_transaction"):
		return fault.New(engine.Trouble, nil, "the server has no room for more locks: %s", text).
			Advise("raise max_locks_per_transaction there, and restart it")
	}
	if c.IsClosed() || ownTrouble[pg.Code[:2]] {
		return fault.New(engine.Trouble, nil, "the server is in trouble: %s", text).Advise("look into the server's log")
	}
	if pg.Code == "42501" {
		return fault.New(engine.RightsMissing, nil, "%s",
			text).Advise("do it as a user who may; 'grainkeep grants' prints what is needed for most")
	}
	if strings.HasPrefix(pg.Code, "23") {
		return fault.New(engine.RuleBroken, nil, "%s", text)
	}
	return errors.New(text)
}

// ownTrouble holds the classes of errors about the server itself: connection,
// resources, an operator's intervention, its system.
var ownTrouble = map[string]bool{"08": true, "53": true, "57": true, "58": true}

// Load runs the COPY of a data file. The session has the file's settings already.
func (s *session) Load(ctx context.Context, text io.Reader, seen func(int64)) (int64, error) {
	in := bufio.NewReaderSize(text, 64<<10)
	sql, settings, err := copyStatement(in)
	if err != nil {
		return 0, err
	}
	if err := s.Exec(ctx, settings); err != nil || sql == "" {
		return 0, err
	}
	if strings.HasPrefix(sql, blobPut) {
		return s.loadBlobs(ctx, sql, in, seen)
	}
	rows, err := int64(0), error(nil)
	for err == nil {
		tag, failed := s.c.PgConn().CopyFrom(ctx, &copyRows{in: in, seen: seen}, sql)
		rows += tag.RowsAffected()
		if failed != nil {
			return rows, plain(ctx, s.c, failed)
		}
		err = s.loadLong(ctx, in, sql)
		if err == nil {
			rows++
			seen(1)
		}
	}
	if err == io.EOF { // no more rows
		err = nil
	}
	return rows, err
}

// loadLong runs the statements that bring a row in pieces, up to the one that goes on with the
// others. It gives io.EOF where the file ends instead.
func (s *session) loadLong(ctx context.Context, in *bufio.Reader, again string) error {
	begun := false
	for {
		line, err := readStatement(in)
		switch {
		case err == io.EOF && line == "" && !begun:
			return io.EOF
		case err != nil:
			return fmt.Errorf("the file ends in the middle of a long row: %w", err)
		case !begun && line != longBegin:
			return errors.New("the file holds something other than rows")
		case strings.HasPrefix(line, "COPY ") && strings.TrimSuffix(line, ";\n") == again:
			return nil
		case strings.HasPrefix(line, "COPY "):
			_, err = s.c.PgConn().CopyFrom(ctx, &copyRows{in: in, seen: func(int64) {}}, strings.TrimSuffix(line,
				";\n"))
			err = plain(ctx, s.c, err)
		default:
			err = s.Exec(ctx, line)
		}
		if err != nil {
			return err
		}
		begun = true
	}
}

// loadBlobs runs the statements that fill large objects, a line each, some at a time.
func (s *session) loadBlobs(ctx context.Context, line string, in *bufio.Reader, seen func(int64)) (rows int64,
	err error) {
	var batch strings.Builder
	lines := int64(0)
	for {
		if line != "" && (!strings.HasPrefix(line, blobPut) || !strings.HasSuffix(line, ");\n")) {
			return rows, errors.New("the file holds something other than the contents of large objects")
		}
		if line != "" {
			batch.WriteString(line)
			lines++
		}
		if batch.Len() > blobPage || line == "" {
			if err := s.Exec(ctx, batch.String()); err != nil {
				return rows, err
			}
			seen(lines)
			rows += lines
			batch.Reset()
			lines = 0
		}
		if line == "" {
			return rows, nil
		}
		next, err := engine.ReadLine(in, nil, maxHead)
		if line = string(next); err != nil && (err != io.EOF || line != "") {
			return rows, err
		}
	}
}

// maxHead bounds the lines before the rows, and those that fill large objects.
const maxHead = 8 << 20 // bytes

// copyStatement skips the settings and reads the COPY statement, whose names may
// hold any character, or the first line of large objects; there is none where those are
// all empty. Of the settings it gives the last about the encoding and about the search
// path; the session has the others.
func copyStatement(in *bufio.Reader) (statement, settings string, err error) {
	var encoding, path string
	for {
		line, err := readStatement(in)
		if err == io.EOF && line == "" { // large objects that are all empty
			return "", encoding + path, nil
		}
		if err != nil {
			return "", "", fmt.Errorf("the file has no COPY statement: %w", err)
		}
		switch {
		case strings.HasPrefix(line, blobPut):
			return line, encoding + path, nil
		case strings.HasPrefix(line, "COPY "):
			return strings.TrimSuffix(line, ";\n"), encoding + path, nil
		case strings.HasPrefix(line, "SET client_encoding"):
			encoding = line
		case strings.HasPrefix(line, "SET search_path"):
			path = line
		}
	}
}

// readStatement reads a line, or a statement whose names hold line feeds.
func readStatement(in *bufio.Reader) (string, error) {
	var sql strings.Builder
	quoted := false
	for {
		text, err := engine.ReadLine(in, nil, maxHead)
		sql.Write(text)
		if err == nil && sql.Len() > maxHead {
			err = errors.New("it has no end")
		}
		if err != nil {
			return sql.String(), err
		}
		if bytes.Count(text, []byte{'"'})%2 == 1 {
			quoted = !quoted
		}
		if begun := sql.String(); !quoted && bytes.HasSuffix(text, []byte(";\n")) || !longer(begun) {
			return begun, nil
		}
	}
}

// longer says whether a statement may be longer than a line: those with names.
func longer(begun string) bool {
	for _, word := range []string{"COPY ", "CREATE TEMPORARY TABLE ", "ALTER TABLE ", "UPDATE ", "INSERT INTO "} {
		if strings.HasPrefix(begun, word) {
			return true
		}
	}
	return false
}

// copyRows reads the rows up to the line that ends them.
type copyRows struct {
	in    *bufio.Reader
	seen  func(int64)
	begun bool
	ended bool
}

var endOfRows = []byte("\n\\.\n")

func (c *copyRows) Read(p []byte) (int, error) {
	if c.ended {
		return 0, io.EOF
	}
	if !c.begun { // the first line may be the one
		c.begun = true
		if have, _ := c.in.Peek(len(endOfRows) - 1); bytes.Equal(have, endOfRows[1:]) {
			c.in.Discard(len(have))
			c.ended = true
			return 0, io.EOF
		}
	}
	have, err := c.in.Peek(min(len(p)+len(endOfRows)-1, c.in.Size()))
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return 0, err
	}
	end := bytes.Index(have, endOfRows)
	if end < 0 && err == io.EOF {
		return 0, io.ErrUnexpectedEOF
	}
	n := len(have) - (len(endOfRows) - 1) // what may be the beginning of the end
	if end >= 0 {
		n = end + 1 // with the line feed
		c.ended = true
	}
	n = copy(p, have[:n])
	c.seen(int64(bytes.Count(p[:n], []byte{'\n'})))
	c.in.Discard(n)
	if c.ended {
		c.in.Discard(len(endOfRows) - 1)
	}
	return n, nil
}
