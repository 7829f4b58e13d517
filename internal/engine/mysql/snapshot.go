package mysql

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// snapshot is one database of a pin.
type snapshot struct {
	s        *source
	database string
	pin      *pin
	own      bool // the pin is this snapshot's
	cat      *engine.Catalog

	mu    sync.Mutex
	typed map[string]int64 // rows with JSON that holds values of SQL types, by Table.ID; guarded by mu
}

func (p *snapshot) tellTyped(table string, rows int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.typed == nil {
		p.typed = map[string]int64{}
	}
	p.typed[table] += rows
}

// Snapshot gives a database of the moment that Fix took, or a moment of its own.
func (s *source) Snapshot(ctx context.Context, database string) (engine.Snapshot, error) {
	if database == engine.ServerWide {
		return s.serverSnapshot(ctx)
	}
	if there, err := s.home.value(ctx,
		"SELECT count(*) FROM information_schema.schemata WHERE schema_name = "+literal(database)); err != nil ||
		there == "0" {
		if err == nil {
			err = fault.New("database-absent", nil, "there is no database %s at %s", database, s.where())
		}
		return nil, err
	}
	snap := &snapshot{s: s, database: database, pin: s.pinned}
	if s.pinned == nil || !slices.Contains(s.pinned.databases, database) {
		p, err := s.pin(ctx, []string{database}, s.workers())
		if err != nil {
			return nil, err
		}
		snap.pin, snap.own = p, true
	}
	if err := snap.read(ctx); err != nil {
		snap.Close()
		return nil, err
	}
	return snap, nil
}

func (p *snapshot) read(ctx context.Context) error {
	c, err := p.borrow(ctx)
	if err != nil {
		return err
	}
	defer p.back(c)
	r := &catalogReader{s: p.s, c: c, database: p.database}
	for _, t := range p.pin.tables {
		if p.pin.broken[t] && t.database == p.database {
			r.warns = append(r.warns,
				"the table "+t.name+" is a union of tables that are gone or differ, and is left out")
		} else if t.database == p.database {
			r.listed = append(r.listed, t)
		}
	}
	p.cat, err = r.read(ctx)
	if err != nil {
		return err
	}
	if p.pin.position.File != "" || p.pin.position.GTID != "" {
		p.cat.Position = &p.pin.position
	}
	if len(r.outside) > 0 && p.pin.keeper == nil {
		p.cat.Warnings = append(p.cat.Warnings,
			fmt.Sprintf("these tables have no transactions and are read as they are when it is their turn: %s",
				strings.Join(r.outside, ", ")))
	}
	return nil
}

// borrow takes a free reader and makes the database its current one.
func (p *snapshot) borrow(ctx context.Context) (*conn, error) {
	select {
	case c := <-p.pin.free:
		if _, err := c.exec(ctx, "USE "+quote(p.database)); err != nil {
			p.back(c)
			return nil, err
		}
		return c, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

func (p *snapshot) back(c *conn) { p.pin.free <- c }

func (p *snapshot) Moment() time.Time        { return p.pin.moment }
func (p *snapshot) Catalog() *engine.Catalog { return p.cat }
func (p *snapshot) Width() int               { return len(p.pin.readers) }

// Confirm fails where a reader was lost: what it had pinned could change since.
func (p *snapshot) Confirm(ctx context.Context) ([]string, error) {
	for _, c := range p.pin.readers {
		if _, err := c.value(ctx, "SELECT 1"); err != nil {
			return nil, fault.New("snapshot-lost", err, "the snapshot of %s was lost while it was read",
				p.database).Advise("take the dump again")
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	var remarks []string
	for _, table := range slices.Sorted(maps.Keys(p.typed)) {
		remarks = append(remarks,
			fmt.Sprintf("JSON in %s (in %d of its rows) holds exact decimals, dates or the like, "+
				"which no JSON text can say: they come back as numbers with a floating point, and as texts", table,
				p.typed[table]))
	}
	return remarks, nil
}

// Ask runs an administrator's query.
func (p *snapshot) Ask(ctx context.Context, sql string) (string, error) {
	c, err := p.borrow(ctx)
	if err != nil {
		return "", err
	}
	defer p.back(c)
	rows, err := c.rows(ctx, sql)
	var lines []string
	for _, r := range rows {
		lines = append(lines, strings.Join(r, "|"))
	}
	return strings.Join(lines, "\n"), err
}

// Close ends the snapshot; a moment of several databases ends with its source.
func (p *snapshot) Close() error {
	if p.own {
		p.pin.release()
	}
	return nil
}
