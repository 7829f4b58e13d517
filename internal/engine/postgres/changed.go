package postgres

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
)

// lookedUp are the catalogs whose rows the server's own functions look up when they
// write a definition: as they are now, not as the snapshot shows them.
var lookedUp = []struct{ catalog, oid, name string }{
	{"pg_namespace", "oid", "nspname"}, {"pg_class", "oid", "relnamespace || '.' || relname"}, {"pg_type", "oid",
		"typname"}, {"pg_attribute", "attrelid", "attname"},
	{"pg_proc", "oid", "proname"}, {"pg_operator", "oid", "oprname"}, {"pg_opclass", "oid", "opcname"},
	{"pg_collation", "oid", "collname"},
	{"pg_enum", "oid", "enumlabel"}, {"pg_constraint", "oid", "conname"}, {"pg_rewrite", "oid", "rulename"},
	{"pg_trigger", "oid", "tgname"},
	{"pg_policy", "oid", "polname"}, {"pg_statistic_ext", "oid", "stxname"}, {"pg_language", "oid", "lanname"},
	{"pg_attrdef", "oid", "adnum"},
	{"pg_ts_config", "oid", "cfgname"}, {"pg_ts_dict", "oid", "dictname"}, {"pg_ts_parser", "oid", "prsname"},
	{"pg_ts_template", "oid", "tmplname"},
}

// changed names an object that the snapshot shows and that somebody has changed since,
// so that the definitions read may be of two moments; empty, if there is none. What
// was made meanwhile does not count, and what was dropped is found in other ways.
func (p *snapshot) changed(ctx context.Context) (string, error) {
	var seen string
	if err := p.c.QueryRow(ctx, "SELECT txid_current_snapshot()::text").Scan(&seen); err != nil {
		return "", err
	}
	seen = validSnapshot(seen)
	now, err := p.s.connect(ctx, p.database)
	if err != nil {
		return "", err
	}
	defer closeConn(now)
	// A row tells the lower half of the transaction that wrote it.
	var parts []string
	for _, n := range lookedUp {
		parts = append(parts,
			fmt.Sprintf("SELECT '%s', %s::oid, (%s)::text, xmin::text::bigint FROM %s WHERE xmin::text::bigint > 2",
				n.catalog, n.oid, n.name, n.catalog))
	}
	type row struct {
		Catalog string
		OID     uint32
		Name    string
	}
	rows, err := now.Query(ctx, `WITH t AS (SELECT txid_snapshot_xmax(txid_current_snapshot()) AS last,
		$1::txid_snapshot AS seen),
		r(catalog, oid, name, xid) AS (`+strings.Join(parts, " UNION ALL ")+`)
		SELECT r.catalog, r.oid, r.name FROM t, r, LATERAL (SELECT (t.last >> 32 << 32) + r.xid AS whole) w
		WHERE NOT txid_visible_in_snapshot(CASE WHEN w.whole >= t.last THEN w.whole - (1::bigint << 32) ELSE w.whole
			END, t.seen)`, seen)
	if err != nil {
		return "", err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[row])
	if err != nil {
		return "", err
	}
	for _, r := range list {
		shown, err := p.shows(ctx, r.Catalog, r.OID, r.Name)
		if err != nil || shown {
			return strings.TrimLeft(r.Name, "0123456789."), err
		}
	}
	return "", nil
}

// shows says whether the snapshot has a row of a catalog in a version that counts. Of
// a relation, only the name does: a refreshed materialised view is the same one.
func (p *snapshot) shows(ctx context.Context, catalog string, oid uint32, name string) (there bool, err error) {
	sql := "SELECT EXISTS (SELECT FROM " + catalog + " WHERE oid = $1)"
	args := []any{oid}
	switch catalog {
	case "pg_class":
		sql, args = "SELECT EXISTS (SELECT FROM pg_class WHERE oid = $1 AND relnamespace || '.' || relname <> $2)",
			[]any{oid, name}
	case "pg_attribute":
		sql = "SELECT EXISTS (SELECT FROM pg_class WHERE oid = $1)"
	}
	err = p.c.QueryRow(ctx, sql, args...).Scan(&there)
	return there, err
}

// validSnapshot is the text of a snapshot as the server takes it back. One that logical decoding exported may begin
// behind its end ("4600:4599:"): then everything before its beginning is visible.
func validSnapshot(text string) string {
	parts := strings.SplitN(text, ":", 3)
	if len(parts) != 3 {
		return text
	}
	first, err1 := strconv.ParseUint(parts[0], 10, 64)
	last, err2 := strconv.ParseUint(parts[1], 10, 64)
	if err1 != nil || err2 != nil || first <= last {
		return text
	}
	return parts[0] + ":" + parts[0] + ":"
}
