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
	tag, err := s.c.PgConn().CopyFrom(ctx, &copyRows{in: in, seen: seen}, sql)
	return tag.RowsAffected(), plain(ctx, s.c, err)
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
	const end = " FROM stdin;\n"
	var encoding, path string
	var sql strings.Builder
	quoted := false
	for {
		text, err := engine.ReadLine(in, nil, maxHead)
		line := string(text)
		if err == nil && sql.Len() > maxHead {
			err = errors.New("it has no end")
		}
		if err == io.EOF && line == "" && sql.Len() == 0 { // large objects that are all empty
			return "", encoding + path, nil
		}
		if err != nil {
			return "", "", fmt.Errorf("the file has no COPY statement: %w", err)
		}
		if sql.Len() == 0 && strings.HasPrefix(line, blobPut) {
			return line, encoding + path, nil
		}
		if sql.Len() == 0 && !strings.HasPrefix(line, "COPY ") {
			switch {
			case strings.HasPrefix(line, "SET client_encoding"):
				encoding = line
			case strings.HasPrefix(line, "SET search_path"):
				path = line
			}
			continue
		}
		sql.WriteString(line)
		if strings.Count(line, `"`)%2 == 1 {
			quoted = !quoted
		}
		if !quoted && strings.HasSuffix(line, end) {
			return strings.TrimSuffix(sql.String(), ";\n"), encoding + path, nil
		}
	}
}

// copyRows reads the rows up to the line that ends them, the file's last.
type copyRows struct {
	in   *bufio.Reader
	seen func(int64)
}

var endOfRows = []byte("\\.\n")

func (c *copyRows) Read(p []byte) (int, error) {
	have, err := c.in.Peek(min(len(p)+len(endOfRows), c.in.Size()))
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return 0, err
	}
	if err == io.EOF {
		if !bytes.HasSuffix(have, endOfRows) {
			return 0, io.ErrUnexpectedEOF
		}
		if len(have) == len(endOfRows) {
			return 0, io.EOF
		}
	}
	n := copy(p, have[:len(have)-len(endOfRows)])
	c.seen(int64(bytes.Count(p[:n], []byte{'\n'})))
	c.in.Discard(n)
	return n, nil
}
