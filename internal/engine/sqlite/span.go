package sqlite

import (
	"bytes"
	"context"
	"io"
	"strings"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
)

// ReadSpan implements engine.Ordered.
func (r *reader) ReadSpan(ctx context.Context, t *engine.Table, s engine.Span, to engine.KeyedRows) error {
	return r.read(ctx, t, within(t, s), to, to)
}

// removing gives the statements that remove spans of a table.
func removing(t engine.Table) func(engine.Span) string {
	return func(s engine.Span) string {
		sql := "DELETE FROM " + t.ID
		if where := within(&t, s); where != "" {
			sql += " WHERE " + where
		}
		return sql
	}
}

// within is the condition that means a span. Row values compare as the columns on their left do.
func within(t *engine.Table, s engine.Span) string {
	var all []string
	add := func(operator, key string) {
		if key == "" {
			return
		}
		if len(t.Key) == 1 {
			all = append(all, t.Key[0]+operator+key)
			return
		}
		all = append(all, "("+strings.Join(t.Key, ",")+")"+operator+"("+key+")")
	}
	add(">", s.After)
	add("<=", s.UpTo)
	return strings.Join(all, " AND ")
}

// longestKey bounds the value of a key that is written: of a longer one, no key is made.
const longestKey = 1 << 10 // bytes

// appendKey writes the columns of a row from some column on as the values of a comparison; nothing, where they are too
// long for that.
func appendKey(dst []byte, s *stmt, first int, enc encoding) []byte {
	for i := first; i < s.n; i++ {
		kind := s.kind(i)
		if (kind == lib.SQLITE_BLOB || kind == lib.SQLITE_TEXT) && len(s.raw(i)) > longestKey {
			return nil
		}
		if i > first {
			dst = append(dst, ',')
		}
		begin := len(dst)
		dst = appendValue(dst, s, i, kind, enc)
		if bytes.HasPrefix(dst[begin:], []byte("CAST(")) { // it would lend the column its affinity
			dst = append(dst, 0)
			copy(dst[begin+1:], dst[begin:])
			dst[begin] = '+'
		}
	}
	return dst
}

// Remove implements engine.Session; the session has its settings.
func (s *session) Remove(ctx context.Context, text io.Reader) (rows int64, err error) {
	done := s.c.watch(ctx)
	defer func() { err = done(err) }()
	return engine.Removals(text, func(sql []byte) (int64, error) {
		if err := s.c.execText(sql[max(0, bytes.Index(sql, []byte("DELETE FROM "))):]); err != nil {
			return 0, err
		}
		return lib.Xsqlite3_changes64(s.c.tls, s.c.db), nil
	}, nil)
}
