package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

type sequence struct {
	OID      uint32
	Name     string
	Table    uint32 // the table that an identity or owned sequence belongs to, else 0
	Column   string // as SQL writes it
	Num      int16
	Identity bool
	Type     string
	options  string // as an identity column takes them
	bounds   string
	unlogged bool
}

// place is a column's address.
type place struct {
	table uint32
	num   int16
}

// sequencesRow is a row of sequences.sql.
type sequencesRow struct {
	sequence
	Unlogged, Cycle              bool
	Start, Step, Max, Min, Cache int64
}

// sequences reads all of them, before the tables: an identity column's sequence
// is made by its column.
func (r *catalogReader) sequences(ctx context.Context) error {
	return each(ctx, r, "sequences", func(x *sequencesRow) error {
		q := x.sequence
		q.unlogged = x.Unlogged
		q.bounds = fmt.Sprintf("MINVALUE %d MAXVALUE %d", x.Min, x.Max)
		options := fmt.Sprintf("START WITH %d INCREMENT BY %d %s CACHE %d", x.Start, x.Step, q.bounds, x.Cache)
		if x.Cycle {
			options += " CYCLE"
		}
		q.options = " (SEQUENCE NAME " + q.Name + " " + options + ")"
		r.seqs = append(r.seqs, q)
		if q.Identity {
			r.alias[key{"pg_class", q.OID}] = key{"pg_class", q.Table}
			r.identity[place{q.Table, q.Num}] = &q
			return nil
		}
		word := "CREATE SEQUENCE "
		if x.Unlogged {
			word = "CREATE UNLOGGED SEQUENCE "
		}
		r.add("pg_class", q.OID, rankSequence, engine.Object{Kind: "sequence", Name: q.Name, Section: engine.Schema,
			SQL: word + q.Name + " AS " + q.Type + " " + options + ";\n"})
		return nil
	})
}

// sequenceStates reads who owns each sequence and where it stands. Sequences are
// outside every snapshot: their values are those of this instant.
func (r *catalogReader) sequenceStates(ctx context.Context) error {
	names := map[string]sequence{}
	var parts []string
	for _, q := range r.seqs {
		names[q.Name] = q
		parts = append(parts, "SELECT "+literal(q.Name)+"::text, last_value, is_called FROM "+q.Name)
		if q.Table != 0 && !q.Identity {
			on := r.tableID[q.Table]
			r.nodes[key{"pg_class", q.OID}].obj.Table = on // it goes where the table goes
			r.also(rankSequenceOwner, engine.Object{Kind: "sequence owner", Name: q.Name, Table: on,
				Section: engine.Schema,
				SQL:     fmt.Sprintf("ALTER SEQUENCE %s OWNED BY %s.%s;\n", q.Name, on, q.Column)},
				key{"pg_class", q.OID}, key{"pg_class", q.Table})
		}
	}
	for some := range slices.Chunk(parts, sequencesAtOnce) { // each is locked, and planned with all others
		if err := r.sequenceValues(ctx, some, names); err != nil {
			return err
		}
	}
	return nil
}

// sequencesAtOnce bounds the sequences that one query reads.
const sequencesAtOnce = 200

// sequenceValues reads some. What is rolled back lets go of its locks: they would be held to the
// end of the dump, and there is room for some thousands only.
func (r *catalogReader) sequenceValues(ctx context.Context, parts []string, names map[string]sequence) error {
	if _, err := r.c.Exec(ctx, "SAVEPOINT sequences"); err != nil {
		return err
	}
	err := r.rows(ctx, strings.Join(parts, " UNION ALL "), func(rows pgx.Rows) error {
		var name string
		var last int64
		var called bool
		if err := rows.Scan(&name, &last, &called); err != nil {
			return err
		}
		q := names[name]
		r.also(rankSequenceValue, engine.Object{Kind: "sequence value", Name: name, Table: r.tableID[q.Table],
			Section: engine.Finish,
			SQL: fmt.Sprintf("SELECT setval(s, %d, %t) FROM CAST(%s AS regclass) s;\n", last, called,
				strings.TrimSpace(literal(name)))}, key{"pg_class",
			q.OID})
		return nil
	})
	if err == nil {
		_, err = r.c.Exec(ctx, "ROLLBACK TO sequences; RELEASE sequences")
	}
	return err
}
