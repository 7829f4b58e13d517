package mysql

import (
	"bytes"
	"context"
	"database/sql/driver"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// setKey gives a table the key of its rows: the primary key, where its order is the same on all servers of the product.
func setKey(e *engine.Table, h *handle, t *table, columns []column) {
	key := t.keyed(columns)
	if t.versioned || slices.ContainsFunc(key, func(c column) bool { return !c.sorts() }) {
		return
	}
	for _, c := range key {
		e.Key = append(e.Key, quote(c.name))
	}
	if h.inOrder = key; len(key) > 0 {
		e.Remove = func(s engine.Span) string { return "DELETE FROM " + e.ID + whereOf(h.spanned(s)) }
	}
}

// sorts says whether the order of a column's values is known, and a value can be named in it.
func (c *column) sorts() bool {
	switch c.kind {
	case "date", "datetime", "timestamp", "time", "binary", "varbinary":
		return true
	case "char", "varchar":
		return c.charset == "latin1" || c.charset == "ascii" || strings.HasPrefix(c.charset, "utf8")
	}
	return c.plainNumber()
}

// keyEnd is what stands between the values of a key. None holds it.
const keyEnd = ", "

// longestKey bounds a key, in bytes: of a longer one, no key is made.
const longestKey = 1 << 10

// keyOf writes the values of a row's key; nothing, where it cannot be named. It is asked for with every row, so numbers
// are written without more ado.
func (h *handle) keyOf(dst []byte, values []driver.Value) []byte {
	for i, v := range values {
		if i > 0 {
			dst = append(dst, keyEnd...)
		}
		c := &h.inOrder[i]
		if raw, ok := v.([]byte); ok && c.plainNumber() {
			dst = append(dst, raw...)
			continue
		}
		s := text(v)
		value, named := strings.CutPrefix(c.is(s, []byte(s)), quote(c.name)+" = ")
		if !named {
			return nil
		}
		dst = append(dst, value...)
	}
	if len(dst) > longestKey {
		return nil
	}
	return dst
}

// spanned is the condition that means a span of the key's order. The server finds its way by the first column only
// where that is said by itself.
func (h *handle) spanned(s engine.Span) string {
	var all []string
	for _, x := range []struct{ key, beyond, last string }{{s.After, " > ", " > "}, {s.UpTo, " < ", " <= "}} {
		if x.key == "" {
			continue
		}
		values := strings.Split(x.key, keyEnd)
		sql := ""
		for i, c := range slices.Backward(h.inOrder) {
			name, operator := quote(c.name), x.beyond
			if sql == "" {
				operator = x.last
			}
			one := name + operator + values[i]
			if sql != "" {
				one += " OR " + name + " = " + values[i] + " AND (" + sql + ")"
			}
			sql = one
		}
		if len(values) > 1 {
			sql = quote(h.inOrder[0].name) + strings.TrimSpace(x.beyond) + "= " + values[0] + " AND (" + sql + ")"
		}
		all = append(all, sql)
	}
	return strings.Join(all, " AND ")
}

func whereOf(conditions ...string) string {
	conditions = slices.DeleteFunc(conditions, func(c string) bool { return c == "" })
	if len(conditions) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(conditions, " AND ")
}

// A table that may have rows that are too long to be read whole is read so many rows at a time: after such a row, what
// came behind it is read again.
const (
	fewestRows = 64
	mostRows   = 1 << 14
)

// ReadSpan implements engine.Ordered.
func (r *reader) ReadSpan(ctx context.Context, t *engine.Table, s engine.Span, to engine.KeyedRows) error {
	h := t.Handle.(*handle)
	if len(h.inOrder) == 0 {
		return r.Read(ctx, t, engine.Part{}, to)
	}
	condition := ""
	if t.Condition != "" {
		condition = "(" + t.Condition + ")"
	}
	read := func(s engine.Span, limit int, each func([]driver.Value) error) error {
		query := "SELECT " + strings.Join(slices.Concat(h.asked, h.beside, t.Key), ", ") + " FROM " + h.table +
			whereOf(condition, h.spanned(s)) + " ORDER BY " + strings.Join(t.Key, ", ")
		if limit > 0 {
			query += fmt.Sprintf(" LIMIT %d", limit)
		}
		return r.c.each(ctx, query, each)
	}
	w := r.writer(h, to)
	defer w.tell(t.ID)
	var err error
	if len(h.long) == 0 {
		var key []byte
		err = read(s, 0, func(values []driver.Value) error {
			key = h.keyOf(key[:0], values[len(values)-len(h.inOrder):])
			to.Key(key)
			_, err := w.row(values[:len(values)-len(h.inOrder)])
			return err
		})
	} else {
		p := &pages{r: r, w: w, to: to, at: s, read: read}
		err = p.all(ctx)
	}
	if err != nil && ctx.Err() == nil {
		return fmt.Errorf("reading %s: %w", t.ID, err)
	}
	return err
}

// pages reads a table with long columns.
type pages struct {
	r    *reader
	w    *rowWriter
	to   engine.KeyedRows
	at   engine.Span // what is still to be read, but for
	skip int         // rows of it, whose keys could not be named
	read func(s engine.Span, limit int, each func([]driver.Value) error) error
}

// all reads page after page, each after the last row of the one before.
func (p *pages) all(ctx context.Context) error {
	h := p.w.h
	for limit := fewestRows; ; limit = min(2*limit, mostRows) {
		var long *longOne
		rows, named, since := 0, "", p.skip
		err := p.read(p.at, limit+p.skip, func(values []driver.Value) (err error) {
			if rows++; rows <= p.skip || long != nil {
				return nil
			}
			at := len(values) - len(h.inOrder)
			key := h.keyOf(nil, values[at:])
			p.to.Key(key)
			if since++; len(key) > 0 {
				named, since = string(key), 0
			}
			long, err = p.w.row(values[:at])
			return err
		})
		if err != nil {
			return err
		}
		last := long == nil && rows < limit+p.skip
		if long != nil {
			if err := p.r.readLong(ctx, h, *long, p.to); err != nil {
				return err
			}
			limit = fewestRows / 2
		}
		if p.skip = since; named != "" {
			p.at.After = named
		}
		if last {
			return nil
		}
	}
}

// keysAtOnce is how many rows are asked for by one statement: the server bounds the memory for finding its way to them.
const keysAtOnce = 500

// ReadKeys implements engine.KeyReader.
func (r *reader) ReadKeys(ctx context.Context, t *engine.Table, keys []string, to engine.Rows) error {
	h := t.Handle.(*handle)
	w := r.writer(h, to)
	for some := range slices.Chunk(keys, keysAtOnce) {
		var long []longOne
		err := r.c.each(ctx, "SELECT "+strings.Join(slices.Concat(h.asked, h.beside), ", ")+" FROM "+h.table+" WHERE "+
			strings.Join(some, " OR "), func(values []driver.Value) error {
			over, err := w.row(values)
			if over != nil {
				long = append(long, *over)
			}
			return err
		})
		if err != nil {
			return err
		}
		for _, one := range long {
			if err := r.readLong(ctx, h, one, to); err != nil {
				return err
			}
		}
	}
	return nil
}

// CountKeys implements engine.KeyReader.
func (r *reader) CountKeys(ctx context.Context, t *engine.Table, keys []string) (all int64, err error) {
	for some := range slices.Chunk(keys, keysAtOnce) {
		n, err := r.count(ctx, t, " WHERE "+strings.Join(some, " OR "))
		if err != nil {
			return 0, err
		}
		all += n
	}
	return all, nil
}

// count counts rows of a table.
func (r *reader) count(ctx context.Context, t *engine.Table, where string) (int64, error) {
	n, err := r.c.value(ctx, "SELECT count(*) FROM "+t.Handle.(*handle).table+where)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(n, 10, 64)
}

// CountSince implements engine.KeyReader.
func (r *reader) CountSince(ctx context.Context, t *engine.Table, _ engine.Position) (all, since int64, err error) {
	all, err = r.count(ctx, t, "")
	return all, -1, err
}

// Remove implements engine.Session; the session has its settings.
func (s *session) Remove(ctx context.Context, text io.Reader) (int64, error) {
	if !s.joined {
		if _, err := s.c.exec(ctx, "BEGIN"); err != nil {
			return 0, err
		}
	}
	n, err := engine.Removals(text, func(sql []byte) (int64, error) {
		return s.c.exec(ctx, string(sql[max(0, bytes.Index(sql, []byte("DELETE FROM "))):]))
	}, nil)
	if err != nil || s.joined {
		return n, err
	}
	_, err = s.c.exec(ctx, "COMMIT")
	return n, err
}
