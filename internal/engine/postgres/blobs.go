package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

const (
	blobTable = "large objects" // Table.ID of their contents
	blobPage  = 256 << 10       // bytes of a large object in one row
	blobBatch = 1000            // large objects made by one statement
)

// blobRows reads the contents page by page through the server's own function,
// which honours the snapshot and the rights of this user. A page of zeros may never have
// been written: it is not written either, unless it is the last.
var blobRows = fmt.Sprintf(`SELECT format('%%s, %%s, pg_catalog.decode(''%%s'', ''hex'')', m.oid, p.at,
	encode(p.page, 'hex'))
	FROM pg_largeobject_metadata m, LATERAL (WITH RECURSIVE p(at, page) AS (SELECT 0::bigint, lo_get(m.oid, 0, %[1]d)
		UNION ALL SELECT at + %[1]d, lo_get(m.oid, at + %[1]d, %[1]d) FROM p WHERE length(page) = %[1]d)
		SELECT at, page FROM (SELECT at, page, lead(length(page)) OVER (ORDER BY at) AS next FROM p) q
		WHERE length(page) > 0 AND (coalesce(next, 0) = 0 OR btrim(page, '\x00'::bytea) <> ''::bytea)) p`, blobPage)

// blobs makes the large objects themselves, and a table of their contents.
func (r *catalogReader) blobs(ctx context.Context) error {
	var oids []string
	err := r.rows(ctx, "SELECT oid::text FROM pg_largeobject_metadata ORDER BY oid::bigint", func(rows pgx.Rows) error {
		var oid string
		err := rows.Scan(&oid)
		oids = append(oids, oid)
		return err
	})
	if err != nil || len(oids) == 0 {
		return err
	}
	for i := 0; i < len(oids); i += blobBatch {
		some := oids[i:min(i+blobBatch, len(oids))]
		r.also(rankTable, engine.Object{Kind: "large objects", Name: fmt.Sprintf("%s to %s", some[0],
			some[len(some)-1]), Section: engine.Schema,
			SQL: "SELECT pg_catalog.lo_create(o) FROM unnest(ARRAY[" + strings.Join(some, ", ") + "]::oid[]) o;\n"})
	}
	var bytes int64
	_ = r.c.QueryRow(ctx, "SELECT coalesce(pg_table_size('pg_largeobject'), 0)").Scan(&bytes) // only an estimate
	r.tables = append(r.tables, engine.Table{
		ID: blobTable, Name: "+" + blobTable, Columns: []string{"oid", "offset", "bytes"}, Bytes: bytes, Rows: -1,
		Frame:  engine.Framing{Head: blobPut, GroupEnd: ");\n", Group: 1},
		Handle: handle{query: blobRows},
		Count:  "SELECT '" + blobTable + "', count(*) FROM (" + blobRows + ") p;\n",
	})
	return r.blobRights(ctx)
}

// blobPut begins each line of the file of contents.
const blobPut = "SELECT pg_catalog.lo_put("

// largeObjectsRow is a row of large_objects.sql.
type largeObjectsRow struct {
	OID, Owner, Comment string
}

// blobRights reads owners, grants and comments of large objects.
func (r *catalogReader) blobRights(ctx context.Context) error {
	return each(ctx, r, "large_objects", func(x *largeObjectsRow) error {
		r.also(rankOwner, engine.Object{Kind: "owner", Name: "large object " + x.OID, Section: engine.Owners,
			Roles: []string{x.Owner},
			SQL:   "ALTER LARGE OBJECT " + x.OID + " OWNER TO " + x.Owner + ";\n"})
		if x.Comment != "" {
			r.also(rankComment, engine.Object{Kind: "comment", Name: "large object " + x.OID, Section: engine.Finish,
				SQL: "COMMENT ON LARGE OBJECT " + x.OID + " IS" + space(literal(x.Comment)) + ";\n"}).late = true
		}
		return nil
	})
}
