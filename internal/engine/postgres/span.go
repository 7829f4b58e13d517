package postgres

import (
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// rowKeysRow is a row of row_keys.sql.
type rowKeysRow struct {
	Table          uint32
	Name, Quoted   string
	Text, Bytewise bool
}

// rowKeys finds what the rows of each table can be told apart and put in order by.
func (r *catalogReader) rowKeys(ctx context.Context) (map[uint32][]rowKeysRow, error) {
	found := map[uint32][]rowKeysRow{}
	return found, each(ctx, r, "row_keys", func(x *rowKeysRow) error {
		found[x.Table] = append(found[x.Table], *x)
		return nil
	})
}

// setKey gives a table the key of its rows. Rows that are loaded through a root have none: they may land in any leaf.
func setKey(t *engine.Table, key []rowKeysRow) {
	h, ok := t.Handle.(handle)
	if !ok || len(key) == 0 || t.Through != "" {
		return
	}
	sorted := false
	for _, c := range key {
		at := slices.Index(t.Columns, c.Name)
		if at < 0 {
			t.Key, t.KeyColumns = nil, nil
			return
		}
		h.key = append(h.key, at)
		t.KeyColumns = append(t.KeyColumns, c.Name)
		if c.Text && !c.Bytewise {
			c.Quoted, sorted = c.Quoted+` COLLATE "C"`, true
		}
		t.Key = append(t.Key, c.Quoted)
	}
	t.Handle = h
	table, by, where := t.ID, strings.Join(t.Key, ", "), ""
	if h.condition != "" { // the others are an extension's own
		where = h.condition + " AND "
	}
	t.Remove = func(s engine.Span) string { return "DELETE FROM ONLY " + table + " WHERE " + where + spanned(by, s) }
	if h.encoding != "" {
		t.RemoveHead, t.RemoveTail = setEncoding(h.encoding), setEncoding("UTF8")
	}
	if sorted && t.Rows > fewRows { // no index of its own has that order
		name := fmt.Sprintf("grainkeep_order_%08x", crc32.ChecksumIEEE([]byte(table)))
		t.RemoveHead += "CREATE INDEX " + name + " ON ONLY " + table + " (" + by + ");\n"
		t.RemoveTail = "DROP INDEX " + schemaOf(table) + name + ";\n" + t.RemoveTail
	}
}

// fewRows is how many rows are looked through without an index.
const fewRows = 1000

// schemaOf is the schema in a table's ID, with the dot.
func schemaOf(id string) string {
	open := false
	for i, c := range id {
		switch {
		case c == '"':
			open = !open
		case c == '.' && !open:
			return id[:i+1]
		}
	}
	return ""
}

// spanned is the condition that means a span of an order.
func spanned(by string, s engine.Span) string {
	var all []string
	if s.After != "" {
		all = append(all, "("+by+") > ("+s.After+")")
	}
	if s.UpTo != "" {
		all = append(all, "("+by+") <= ("+s.UpTo+")")
	}
	if len(all) == 0 {
		return "true"
	}
	return strings.Join(all, " AND ")
}

// ReadSpan implements engine.Ordered.
func (r *reader) ReadSpan(ctx context.Context, t *engine.Table, s engine.Span, to engine.KeyedRows) error {
	h := t.Handle.(handle).where(t.Condition)
	if len(t.Key) == 0 {
		return r.Read(ctx, t, engine.Part{}, to)
	}
	return r.reading(ctx, t, func(on link) error { return h.ordered(on, strings.Join(t.Key, ", "), s, to) })
}

// keysAtOnce is how many rows are asked for by one statement: of keys of one column, and of several, which the server
// plans one by one.
const (
	keysAtOnce  = 1000
	pairsAtOnce = 100
)

// eachKeys goes through keys, so many at a time, each time with the condition that means them.
func eachKeys(t *engine.Table, keys []string, do func(where string) error) error {
	names, most := quoted(t.KeyColumns), keysAtOnce
	if len(t.KeyColumns) > 1 {
		most = pairsAtOnce
	}
	for some := range slices.Chunk(keys, most) {
		where := "(" + names + ") IN ((" + strings.Join(some, "), (") + "))"
		if err := do(where); err != nil {
			return err
		}
	}
	return nil
}

// ReadKeys implements engine.KeyReader.
func (r *reader) ReadKeys(ctx context.Context, t *engine.Table, keys []string, to engine.Rows) error {
	h := t.Handle.(handle)
	long := ""
	if h.long != nil {
		long = " AND NOT " + strings.Join(h.long.lengths(), " + ") + " > " + strconv.Itoa(longRow)
	}
	return eachKeys(t, keys, func(where string) error {
		return r.reading(ctx, t, func(on link) error {
			return on.copy("COPY (SELECT "+h.columns+" FROM ONLY "+h.table+" WHERE "+where+long+") TO STDOUT", to)
		})
	})
}

// CountKeys implements engine.KeyReader.
func (r *reader) CountKeys(ctx context.Context, t *engine.Table, keys []string) (all int64, err error) {
	h := t.Handle.(handle)
	return all, eachKeys(t, keys, func(where string) error {
		var got answer
		err := r.reading(ctx, t, func(on link) error {
			got = nil
			return on.copy("COPY (SELECT count(*) FROM ONLY "+h.table+" WHERE "+where+") TO STDOUT", &got)
		})
		if err != nil {
			return err
		}
		n, err := strconv.ParseInt(string(got), 10, 64)
		all += n
		return err
	})
}

// seenBy is what a snapshot is, in the server's words: the transactions from the first one that it does not see on, and
// those before it that were under way.
var seenBy = pattern.Of(`^[0-9]{1,19}:([0-9]{1,19}):((?:[0-9]{1,19}(?:,[0-9]{1,19})*)?)$`)

// writtenAfter is the condition on rows that a snapshot does not see. Each row says which transaction wrote it, in 32 bits
// of its number.
func writtenAfter(snapshot string) string {
	m := seenBy().FindStringSubmatch(snapshot)
	if m == nil {
		return ""
	}
	short := func(number string) string {
		n, _ := strconv.ParseUint(number, 10, 64) // it is a number
		return literal(strconv.FormatUint(n&math.MaxUint32, 10))
	}
	sql := "age(xmin) BETWEEN 0 AND age(" + short(m[1]) + "::xid)"
	if m[2] != "" {
		var open []string
		for n := range strings.SplitSeq(m[2], ",") {
			open = append(open, short(n))
		}
		sql += " OR xmin::text IN (" + strings.Join(open, ", ") + ")"
	}
	return sql
}

// CountSince implements engine.KeyReader.
func (r *reader) CountSince(ctx context.Context, t *engine.Table, from engine.Position) (all, since int64, err error) {
	after := writtenAfter(from.Snapshot)
	counted := "-1"
	if after != "" {
		counted = "count(*) FILTER (WHERE " + after + ")"
	}
	var got answer
	err = r.reading(ctx, t, func(on link) error {
		got = nil
		return on.copy("COPY (SELECT count(*) || ' ' || "+counted+" FROM ONLY "+t.Handle.(handle).table+") TO STDOUT", &got)
	})
	if err == nil {
		_, err = fmt.Sscanf(string(got), "%d %d", &all, &since)
	}
	return all, since, err
}

// ordered copies rows out in the order of their key, each long one at its place.
func (h handle) ordered(on link, by string, s engine.Span, to engine.KeyedRows) error {
	if h.encoding != "" {
		if err := on.encode(h.encoding); err != nil {
			return err
		}
	}
	list, from := h.columns, " FROM ONLY "+h.table+" WHERE "
	if h.condition != "" {
		from += h.condition + " AND "
	}
	if h.generated != "" {
		list = "md5(ROW(" + h.generated + ")::text), " + list
	}
	keys := &keyed{to: to, at: h.key}
	rows := engine.Rows(keys)
	if h.generated != "" {
		rows = &prefixed{to: keys, digest: true}
	}
	copied := func(s engine.Span, also string) error {
		return on.copy("COPY (SELECT "+list+from+spanned(by, s)+also+" ORDER BY "+by+") TO STDOUT", rows)
	}
	var err error
	if h.long == nil {
		err = copied(s, "")
	} else {
		err = h.aroundLong(on, by, from, s, to, copied)
	}
	if err == nil && h.encoding != "" {
		err = on.encode("")
	}
	return err
}

// aroundLong copies the rows between those that are too long to be copied, and those.
func (h handle) aroundLong(on link, by, from string, s engine.Span, to engine.KeyedRows,
	copied func(engine.Span, string) error) error {
	long := strings.Join(h.long.lengths(), " + ") + " > " + strconv.Itoa(longRow)
	var found lines
	if err := on.copy("COPY (SELECT ctid, "+by+from+spanned(by, s)+" AND "+long+" ORDER BY "+by+") TO STDOUT",
		&listing{&found}); err != nil {
		return err
	}
	for _, line := range bytes.Split(bytes.TrimSuffix(found.bytes, []byte("\n")), []byte("\n")) {
		if len(line) == 0 {
			break
		}
		place, values, _ := bytes.Cut(line, []byte("\t"))
		var key []byte
		for i, v := range bytes.Split(values, []byte("\t")) {
			key = appendLiteral(key, v, i > 0)
		}
		here := engine.Span{After: s.After, UpTo: string(key)}
		if err := copied(here, " AND NOT "+long); err != nil {
			return err
		}
		to.Key(key)
		if err := h.long.read(on, " FROM ONLY "+h.table+" WHERE ctid = "+literal(string(place)), to); err != nil {
			return err
		}
		s.After = string(key)
	}
	return copied(s, " AND NOT "+long)
}

// listing holds an answer of several lines.
type listing struct{ *lines }

// Row implements engine.Rows.
func (l *listing) Row(p []byte, more bool) error {
	if !more {
		p = append(bytes.Clone(p), '\n')
	}
	return l.lines.Row(p, more)
}

// keyed tells the key of each row, which it finds in the row's text.
type keyed struct {
	to     engine.KeyedRows
	at     []int // places of the key's columns
	key    []byte
	fields [][]byte
	inside bool // a row
}

// Beside implements engine.Rows.
func (k *keyed) Beside(values []byte) { k.to.Beside(values) }

// Row implements engine.Rows.
func (k *keyed) Row(p []byte, more bool) error {
	if !k.inside {
		k.to.Key(k.of(p, more))
	}
	k.inside = more
	return k.to.Row(p, more)
}

// longestKey bounds a key, in bytes: of a longer one, no key is made.
const longestKey = 1 << 10

// of gives the key of a row; none, where it is too long, or not in the row's first piece.
func (k *keyed) of(p []byte, more bool) []byte {
	k.fields = k.fields[:0]
	last := slices.Max(k.at)
	for range last + 1 {
		field, rest, found := bytes.Cut(p, []byte{'\t'})
		if !found && more {
			return nil
		}
		k.fields = append(k.fields, field)
		p = rest
	}
	k.key = k.key[:0]
	for i, at := range k.at {
		if k.key = appendLiteral(k.key, k.fields[at], i > 0); len(k.key) > longestKey {
			return nil
		}
	}
	return k.key
}

// appendLiteral writes a value of a copied row as SQL.
func appendLiteral(dst, field []byte, another bool) []byte {
	if another {
		dst = append(dst, ", "...)
	}
	if bytes.IndexByte(field, '\\') >= 0 {
		dst = append(dst, 'E')
	}
	dst = append(dst, '\'')
	for i := 0; i < len(field); i++ {
		c := field[i]
		switch {
		case c == '\'':
			dst = append(dst, "''"...)
		case c == '\\' && i+1 < len(field) && field[i+1] == 'v': // the one that texts do not know
			dst, i = append(dst, `\013`...), i+1
		case c == '\\' && i+1 < len(field):
			dst, i = append(dst, c, field[i+1]), i+1
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '\'')
}

// Remove implements engine.Session; the session has the file's settings already.
func (s *session) Remove(ctx context.Context, text io.Reader) (int64, error) {
	return engine.Removals(text, func(sql []byte) (int64, error) {
		results, err := s.c.PgConn().Exec(ctx, string(sql)).ReadAll()
		if err != nil {
			return 0, plain(ctx, s.c, err)
		}
		tag := results[len(results)-1].CommandTag
		if !tag.Delete() {
			return 0, fmt.Errorf("%.80q removes no rows", sql)
		}
		return tag.RowsAffected(), nil
	}, func(sql []byte) error { return s.Exec(ctx, string(sql)) })
}
