package sqlite

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// sampleText bounds a value that is looked at, in bytes; of a longer one its length is.
const sampleText = 64 << 10

// Witness asks the library: its list of columns, and its own text of the first rows by
// rowid or key, over all columns.
func (r *reader) Witness(ctx context.Context, t *engine.Table, sample int64) (engine.Witness, error) {
	var w engine.Witness
	var texts []string
	err := r.s.c.each(ctx, "SELECT name, type || iif(\"notnull\", ' not null', '') || iif(dflt_value IS NULL, '', "+
		"' default ' || dflt_value) || iif(pk, ' key ' || pk, '') || iif(hidden, ' hidden ' || hidden, '') "+
		"FROM pragma_table_xinfo("+quoteText(t.Name)+") ORDER BY cid", func(s *stmt) error {
		w.Columns = append(w.Columns, engine.WitnessColumn{Name: s.text(0), Says: s.text(1)})
		q := quote(s.text(0))
		texts = append(texts, fmt.Sprintf("coalesce(octet_length(%s), -1) || "+
			"iif(octet_length(%s) > %d, '', quote(%s))", q, q, sampleText, q))
		return nil
	})
	if err != nil {
		return w, explain(t.ID, err)
	}
	w.Holds, err = r.s.c.value(ctx, "SELECT (SELECT count(*) FROM pragma_index_list("+quoteText(t.Name)+
		")) || ' indexes, ' || count(*) || ' triggers' FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = "+
		quoteText(t.Name)+" COLLATE NOCASE")
	if err != nil || sample == 0 {
		return w, err
	}
	where := ""
	if t.Condition != "" {
		where = " WHERE (" + t.Condition + ")"
	}
	var sum uint64
	w.Sample = sample
	err = r.s.c.each(ctx, fmt.Sprintf("SELECT %s FROM %s%s ORDER BY %s LIMIT %d", strings.Join(texts, " || ',' || "),
		t.ID, where, r.keyOf(ctx, t), sample), func(s *stmt) error {
		hash := sha256.Sum256(s.utf8(0))
		sum += binary.BigEndian.Uint64(hash[:])
		return nil
	})
	w.Digest = fmt.Sprintf("%016x", sum)
	return w, explain(t.ID, err)
}

// keyOf is what a table's rows are in order of.
func (r *reader) keyOf(ctx context.Context, t *engine.Table) string {
	var key []string
	err := r.s.c.each(ctx, "SELECT name FROM pragma_table_xinfo("+quoteText(t.Name)+") WHERE pk ORDER BY pk",
		func(s *stmt) error {
			key = append(key, quote(s.text(0)))
			return nil
		})
	switch {
	case err == nil && len(key) > 0:
		return strings.Join(key, ", ")
	case len(t.Columns) > 0 && (t.Columns[0] == "rowid" || t.Columns[0] == "_rowid_" || t.Columns[0] == "oid"):
		return quote(t.Columns[0])
	}
	return "1"
}

// beside is what a table's generated columns are asked for as: the library's own text of
// their values; empty if there are none.
func beside(ctx context.Context, c *conn, t *engine.Table) (string, error) {
	var list []string
	err := c.each(ctx, "SELECT name FROM pragma_table_xinfo("+quoteText(t.Name)+") WHERE hidden IN (2, 3) ORDER BY cid",
		func(s *stmt) error {
			list = append(list, "quote("+quote(s.text(0))+")")
			return nil
		})
	return strings.Join(list, " || ',' || "), err
}
