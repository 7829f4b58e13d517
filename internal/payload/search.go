package payload

import (
	"bytes"
	"context"
	"io"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// Search looks for transactions in what a server's log told, without a server.
type Search struct {
	Tables      map[string]bool // their IDs; nil: all
	Text        string          // that a statement holds; empty: any
	Key         string          // that a row is named by, as SQL writes it; empty: any
	From, Until time.Time       // of the commits; zero: any
	Statements  int             // so many of each transaction and table are given
}

// Hit is what a transaction did to one table.
type Hit struct {
	manifest.Transaction
	Dump       *keep.Dump
	Table      string
	Touched    engine.Touched // by the statements that were looked for
	Statements []string
}

// In looks through one dump, and gives what it finds in the order of the log.
func (s Search) In(ctx context.Context, d *keep.Dump, each func(Hit) error) error {
	r, err := NewReader(d)
	if err != nil || d.Manifest.Payload.SQL.Log == nil {
		return err
	}
	log := d.Manifest.Payload.SQL.Log
	first, last := int64(0), int64(0)
	err = r.EachTransaction(ctx, func(t manifest.Transaction) error {
		if t.Time.Before(s.From) || !s.Until.IsZero() && t.Time.After(s.Until) {
			return nil
		}
		if last = t.Number; first == 0 {
			first = t.Number
		}
		return nil
	})
	if err != nil || first == 0 {
		return err
	}
	found := map[int64][]*Hit{}
	for _, c := range log.Streams {
		if s.Tables != nil && !slices.ContainsFunc(c.Tables, func(id string) bool { return s.Tables[id] }) {
			continue
		}
		for _, path := range c.Files {
			if err := s.file(ctx, d, path, c.Tables, [2]int64{first, last}, found); err != nil {
				return err
			}
		}
	}
	return r.EachTransaction(ctx, func(t manifest.Transaction) error {
		if t.Time.Before(s.From) || !s.Until.IsZero() && t.Time.After(s.Until) {
			return nil // clocks step back
		}
		for _, h := range found[t.Number] {
			h.Transaction, h.Dump = t, d
			if err := each(*h); err != nil {
				return err
			}
		}
		return nil
	})
}

// file looks through one file of changes, between two transactions.
func (s Search) file(ctx context.Context, d *keep.Dump, path string, tables []string, between [2]int64,
	found map[int64][]*Hit) error {
	var wrong error
	err := Whole(ctx, d, path, func(text io.Reader) error {
		wrong = engine.ReadChanges(text, func(l engine.ChangeLine) error {
			if l.Transaction > between[1] {
				return engine.ErrNoMore
			}
			if l.Rows < 0 || l.Transaction < between[0] {
				return nil
			}
			table := engine.TableOf(l.SQL, tables)
			if s.Tables != nil && !s.Tables[table] || !s.means(l.SQL) {
				return nil
			}
			at := slices.IndexFunc(found[l.Transaction], func(h *Hit) bool { return h.Table == table })
			if at < 0 {
				at = len(found[l.Transaction])
				found[l.Transaction] = append(found[l.Transaction], &Hit{Table: table})
			}
			h := found[l.Transaction][at]
			h.Touched.Count(l.SQL, l.Rows)
			if len(h.Statements) < s.Statements {
				h.Statements = append(h.Statements, string(l.SQL))
			}
			return nil
		})
		return nil
	})
	if err == nil && wrong != nil {
		err = Damage(d, path+" cannot be read: "+wrong.Error())
	}
	return err
}

// means says whether a statement is one that is looked for. A key stands after an equals sign where a row is named, and
// at the beginning of one that is inserted.
func (s Search) means(sql []byte) bool {
	if s.Text != "" && !bytes.Contains(sql, []byte(s.Text)) {
		return false
	}
	if s.Key == "" {
		return true
	}
	where := sql
	if bytes.HasPrefix(sql, []byte("INSERT ")) {
		for _, k := range []string{s.Key, "'" + s.Key + "'"} {
			if bytes.Contains(sql, []byte("("+k+",")) || bytes.Contains(sql, []byte("("+k+")")) {
				return true
			}
		}
		return false
	}
	if at := bytes.LastIndex(sql, []byte(" WHERE ")); at >= 0 {
		where = sql[at:]
	}
	for _, k := range []string{s.Key, "'" + s.Key + "'"} {
		if text := string(where); strings.HasSuffix(text, " = "+k) || strings.Contains(text, " = "+k+" AND ") {
			return true
		}
	}
	return false
}
