package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

type sequence struct {
	oid      uint32
	name     string
	table    uint32 // the table that an identity or owned sequence belongs to, else 0
	column   string // as SQL writes it
	num      int16
	identity bool
	typ      string
	options  string // as an identity column takes them
	bounds   string
}

// place is a column's address.
type place struct {
	table uint32
	num   int16
}

// sequences reads all of them, before the tables: an identity column's sequence
// is made by its column.
func (r *catalogReader) sequences(ctx context.Context) error {
	return r.rows(ctx, `SELECT c.oid, format('%I.%I', n.nspname, c.relname), c.relpersistence = 'u',
		format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmax, s.seqmin, s.seqcache, s.seqcycle,
		coalesce(d.deptype = 'i', false), coalesce(d.refobjid, 0), coalesce(quote_ident(a.attname), ''), coalesce(a.attnum, 0)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_sequence s ON s.seqrelid = c.oid
		LEFT JOIN pg_depend d ON d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.objsubid = 0
			AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')
		LEFT JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
		WHERE c.relkind = 'S' AND c.relpersistence <> 't' AND `+ours+` AND `+notMember("pg_class", "c.oid")+` ORDER BY 2`, func(rows pgx.Rows) error {
		var q sequence
		var unlogged, cycle bool
		var start, step, maxv, minv, cache int64
		if err := rows.Scan(&q.oid, &q.name, &unlogged, &q.typ, &start, &step, &maxv, &minv, &cache, &cycle,
			&q.identity, &q.table, &q.column, &q.num); err != nil {
			return err
		}
		q.bounds = fmt.Sprintf("MINVALUE %d MAXVALUE %d", minv, maxv)
		options := fmt.Sprintf("START WITH %d INCREMENT BY %d %s CACHE %d", start, step, q.bounds, cache)
		if cycle {
			options += " CYCLE"
		}
		q.options = " (SEQUENCE NAME " + q.name + " " + options + ")"
		r.seqs = append(r.seqs, q)
		if q.identity {
			r.alias[key{"pg_class", q.oid}] = key{"pg_class", q.table}
			r.identity[place{q.table, q.num}] = &q
			return nil
		}
		word := "CREATE SEQUENCE "
		if unlogged {
			word = "CREATE UNLOGGED SEQUENCE "
		}
		r.add("pg_class", q.oid, rankSequence, engine.Object{Kind: "sequence", Name: q.name, Section: engine.Schema,
			SQL: word + q.name + " AS " + q.typ + " " + options + ";\n"})
		return nil
	})
}

// sequenceStates reads who owns each sequence and where it stands. Sequences are
// outside every snapshot: their values are those of this instant.
func (r *catalogReader) sequenceStates(ctx context.Context) error {
	names := map[string]sequence{}
	var parts []string
	for _, q := range r.seqs {
		names[q.name] = q
		parts = append(parts, "SELECT "+literal(q.name)+"::text, last_value, is_called FROM "+q.name)
		if q.table != 0 && !q.identity {
			on := r.tableID[q.table]
			r.nodes[key{"pg_class", q.oid}].obj.Table = on // it goes where the table goes
			r.also(rankSequenceOwner, engine.Object{Kind: "sequence owner", Name: q.name, Table: on, Section: engine.Schema,
				SQL: fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s;\n", q.name, on, q.column)},
				key{"pg_class", q.oid}, key{"pg_class", q.table})
		}
	}
	if len(parts) == 0 {
		return nil
	}
	return r.rows(ctx, strings.Join(parts, " UNION ALL "), func(rows pgx.Rows) error {
		var name string
		var last int64
		var called bool
		if err := rows.Scan(&name, &last, &called); err != nil {
			return err
		}
		q := names[name]
		r.also(rankSequenceValue, engine.Object{Kind: "sequence value", Name: name, Table: r.tableID[q.table], Section: engine.Finish,
			SQL: fmt.Sprintf("SELECT pg_catalog.setval(%s, %d, %t);\n", literal(name), last, called)}, key{"pg_class", q.oid})
		return nil
	})
}
