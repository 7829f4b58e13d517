package mysql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	sqldriver "github.com/go-sql-driver/mysql"

	"grainkeep/internal/engine"
)

// digestOf is the server's digest of a column's value, whatever its type. (The newest MySQL
// has no other function for it any more.)
func digestOf(name, kind string) string {
	q := quote(name)
	switch kind {
	case "float", "double": // as a text a float has too few digits
		q += " + 0e0"
	case "json":
		q = "CAST(" + q + " AS CHAR)"
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geomcollection",
		"geometrycollection", "vector":
	default:
		q = "CAST(" + q + " AS BINARY)"
	}
	return "coalesce(sha2(" + q + ", 256), '-')"
}

// listedColumn is a column in the server's information tables.
type listedColumn struct {
	name, says, kind string
	generated        bool
	period           bool // since and until when a row was current: the server's own
}

// listedColumns asks the server's information tables for the columns of all tables, or of
// one, by table.
func (s *source) listedColumns(ctx context.Context, c *conn, database, table string) (map[string][]listedColumn,
	error) {
	one := ""
	if table != "" {
		one = " AND table_name = _utf8mb4" + literal(table)
	}
	rows, err := c.rows(ctx, "SELECT table_name, column_name, concat(column_type, "+
		"if(is_nullable = 'NO', ' not null', ''), coalesce(concat(' default ', column_default), ''), ' ', extra, ' ', "+
		"coalesce(collation_name, ''), ' ', "+
		"coalesce(generation_expression, ''), ' ', column_comment), data_type, coalesce(generation_expression, '') "+
		"FROM information_schema.columns WHERE table_schema = _utf8mb4"+literal(database)+one+
		" ORDER BY table_name, ordinal_position")
	list := map[string][]listedColumn{}
	for _, r := range rows {
		says := r[2]
		if s.maria { // a sequence's default names the database
			says = replaceWords(says, quote(database)+".", "")
		}
		list[r[0]] = append(list[r[0]], listedColumn{name: r[1], kind: strings.ToLower(r[3]), generated: r[4] != "",
			says:   says,
			period: r[4] == "ROW START" || r[4] == "ROW END"})
	}
	return list, err
}

// agree holds what was read out of a table's definition against the server's own list of
// its columns.
func (t *table) agree(listed []listedColumn) error {
	same := func(c column, l listedColumn) bool {
		return c.name == l.name && c.generated == l.generated
	}
	if slices.EqualFunc(t.columns, listed, same) {
		return nil
	}
	for i, c := range t.columns {
		if i >= len(listed) || !same(c, listed[i]) {
			return fmt.Errorf("its column %s was read out of it, and the server lists other columns", quote(c.name))
		}
	}
	return fmt.Errorf("the server lists the column %s, which was not found in it", quote(listed[len(t.columns)].name))
}

// Witness asks the server's information tables, and for a digest of its own.
func (r *reader) Witness(ctx context.Context, t *engine.Table, sample int64) (engine.Witness, error) {
	var w engine.Witness
	all, err := r.p.s.listedColumns(ctx, r.c, r.p.database, t.Name)
	if err != nil {
		return w, err
	}
	var sums []string
	for _, c := range all[t.Name] {
		w.Columns = append(w.Columns, engine.WitnessColumn{Name: c.name, Says: c.says})
		if !c.period {
			sums = append(sums, digestOf(c.name, c.kind))
		}
	}
	database, table := "_utf8mb4"+literal(r.p.database), "_utf8mb4"+literal(t.Name)
	at := "table_schema = " + database + " AND table_name = " + table
	// Foreign keys to other databases are left out of drills.
	w.Holds, err = r.c.value(ctx, fmt.Sprintf("SELECT concat("+
		"(SELECT count(DISTINCT index_name) FROM information_schema.statistics WHERE %[1]s), ' indexes, ', "+
		"(SELECT count(*) FROM information_schema.table_constraints WHERE %[1]s AND constraint_type <> 'FOREIGN KEY') + "+
		"(SELECT count(*) FROM information_schema.referential_constraints WHERE constraint_schema = %[2]s AND "+
		"unique_constraint_schema = %[2]s AND table_name = %[3]s), ' constraints, ', "+
		"(SELECT count(*) FROM information_schema.triggers WHERE event_object_schema = %[2]s AND "+
		"event_object_table = %[3]s), ' triggers')", at, database, table))
	h := t.Handle.(*handle)
	if err != nil || sample == 0 || h.outside || len(sums) == 0 {
		return w, err
	}
	key, err := r.c.rows(ctx, "SELECT column_name, coalesce(sub_part, 0) FROM information_schema.statistics WHERE "+at+
		" AND index_name = 'PRIMARY' ORDER BY seq_in_index")
	if err != nil {
		return w, err
	}
	text, err := r.c.value(ctx, sampled(h.table, t.Condition, sums, key, sample))
	var m *sqldriver.MySQLError
	if errors.As(err, &m) || text == "" {
		return w, nil //nolint:nilerr // the server has no such digest of this table
	}
	w.Sample, w.Digest = sample, text
	return w, err
}

// sampled is the query of the first rows' digest. Without a key there is one only where
// those are all rows.
func sampled(from, condition string, sums []string, key [][]string, sample int64) string {
	var by []string
	for _, k := range key {
		if k[1] != "0" { // the beginning of a text decides nothing
			by = nil
			break
		}
		by = append(by, quote(k[0]))
	}
	where, order, limit := "", "", sample+1
	if condition != "" {
		where = " WHERE (" + condition + ")"
	}
	if len(by) > 0 && !strings.Contains(from, " FOR SYSTEM_TIME ") {
		order, limit = " ORDER BY "+strings.Join(by, ", "), sample
	}
	return fmt.Sprintf("SELECT if(count(*) <= %d, concat(count(*), ':', coalesce(sum(h), 0)), '') FROM (SELECT "+
		"CAST(conv(left(sha2(concat(%s), 256), 15), 16, 10) AS UNSIGNED) AS h FROM %s%s%s LIMIT %d) x", sample,
		strings.Join(sums, ", "), from, where, order, limit)
}
