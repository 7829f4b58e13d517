package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"grainkeep/internal/engine"
)

// testimony is what witness.sql gives as JSON.
type testimony struct {
	Columns []engine.WitnessColumn
	Holds   string
	Key     []string // columns of the primary key, as SQL writes them
	Stable  bool     // its order is the same on every machine
	Lengths []string // the columns that may be long, as SQL writes them
}

// longSample bounds the text and bytes of a row that the server digests: a row's text is
// made whole there.
const longSample = 8 << 20

// Witness asks the server about a table, and for a digest of its own over whole rows.
func (r *reader) Witness(ctx context.Context, t *engine.Table, sample int64) (engine.Witness, error) {
	var say testimony
	h := t.Handle.(handle)
	if h.table == "" { // large objects
		return engine.Witness{}, nil
	}
	sql, err := query(r.snap.s.version, "witness", map[string]string{"table": literal(h.table)})
	if err != nil {
		return engine.Witness{}, err
	}
	text, err := r.askOnce(ctx, t, sql)
	if err != nil || text == "" {
		return engine.Witness{}, err
	}
	if err := json.Unmarshal([]byte(text), &say); err != nil {
		return engine.Witness{}, fmt.Errorf("what the server says of %s: %w", t.ID, err)
	}
	w := engine.Witness{Columns: say.Columns, Holds: say.Holds}
	if sample == 0 || t.Through != "" { // those rows may come back in another partition
		return w, nil
	}
	if text, err = r.askOnce(ctx, t, say.digest(h, t.Condition, sample)); err != nil || text == "" {
		return w, err
	}
	w.Sample, w.Digest = sample, text
	return w, nil
}

// digest is the query of the first rows' digest. Without a stable order there is one only
// where those are all rows.
func (s *testimony) digest(h handle, condition string, sample int64) string {
	from, order, limit := "SELECT * FROM ONLY "+h.table, "", sample+1
	switch {
	case h.query != "":
		from = "SELECT * " + h.query[strings.Index(h.query, " FROM ")+1:]
	case condition != "":
		from += " WHERE (" + condition + ")"
	}
	if len(s.Key) > 0 && s.Stable {
		order, limit = " ORDER BY "+strings.Join(s.Key, ", "), sample
	}
	short := "true"
	for i, c := range s.Lengths {
		s.Lengths[i] = "coalesce(octet_length(" + c + "), 0)::bigint"
	}
	if len(s.Lengths) > 0 {
		short = fmt.Sprintf("%s < %d", strings.Join(s.Lengths, " + "), longSample)
	}
	return fmt.Sprintf("SELECT CASE WHEN count(*) <= %d THEN count(*) || ':' || coalesce(sum(CASE WHEN %s THEN "+
		"('x' || left(md5(x::text), 15))::bit(60)::bigint END), 0) ELSE '' END FROM (%s%s LIMIT %d) AS x", sample,
		short,
		from, order, limit)
}

// askOnce asks a query of one text in the snapshot; empty, if the server cannot answer it:
// that must not end the transaction that the rows are read in.
func (r *reader) askOnce(ctx context.Context, t *engine.Table, sql string) (string, error) {
	h := t.Handle.(handle)
	free, err := r.lock(h.table)
	if err != nil || !free {
		return "", err // somebody waits for this table: the rows count for more
	}
	if err := r.copyOut("SAVEPOINT witness", nil); err != nil {
		return "", err
	}
	var got answer
	err = r.copyOut("COPY ("+sql+") TO STDOUT", &got)
	if pg, ok := err.(*pgconn.PgError); ok && !strings.HasPrefix(pg.Code, "57") {
		return "", r.copyOut("ROLLBACK TO witness; RELEASE witness", nil)
	}
	if err == nil {
		err = r.copyOut("RELEASE witness", nil)
	}
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	// The only thing that the text form of COPY does to a line of JSON.
	return strings.ReplaceAll(string(got), `\\`, `\`), err
}

// answer collects one short row.
type answer []byte

// Row implements engine.Rows.
func (a *answer) Row(p []byte, _ bool) error {
	*a = append(*a, p...)
	return nil
}

// Beside implements engine.Rows.
func (*answer) Beside([]byte) {}
