package payload

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// MaxMetadata bounds each file of a dump that is read whole: the list of objects, and
// the SQL of a section. A larger one is neither written nor read.
const MaxMetadata = 256 << 20 // bytes of text

// SQL captures a database from a snapshot. It is used once.
type SQL struct {
	Snapshot    engine.Snapshot
	Catalog     *engine.Catalog // what of the snapshot is dumped
	Compression blob.Compression
	LeftOut     []string      // by the job: tables, and what needs them
	Silence     time.Duration // longest time without a row; 0: for ever

	// InOrder says that tables are read in the order of their keys, and cut into ranges: dumps by comparison can
	// build on it. The snapshot's readers must be engine.Ordered.
	InOrder bool
	Base    []*keep.Dump // the chain that it builds on, from its full on; none: everything is captured
	OnlyLog bool         // it is taken for the log's sake: where that cannot be followed, Capture fails
	Log     bool         // what changed since the base is to come from the server's change log, as far as that tells it

	Remarks []string // what reading the rows showed, to be warned of; set by Capture
	Doubted bool     // the log is not the one that it seemed to be; set by Capture
	Differ  []string // tables of which the log told other rows than they have; set by Capture

	files  *blob.Set
	out    manifest.SQL
	past   map[string]manifest.Table   // the tables of the base, by ID
	tables []map[string]manifest.Table // of each dump of the chain, by ID
	of     map[string][]engine.Object  // what makes each table, by its ID
	byID   map[string]engine.Object

	followed map[string]manifest.Table // the tables of which the log tells what changed, by ID
	noLog    map[string]string         // why it does not, of the others

	mu sync.Mutex // guards the tables' lists of files while tables are written side by side
}

// Capture implements Capture.
func (s *SQL) Capture(ctx context.Context, files *blob.Set, feed *event.Feed) (manifest.Payload, error) {
	s.files = files
	s.out = manifest.SQL{Facts: s.Catalog.Facts, Fingerprint: rows.FingerprintVersion, Catalog: digestOf(s.Catalog),
		Objects: map[string]int{}, LeftOut: s.LeftOut, Tables: []manifest.Table{}}
	if err := s.build(); err != nil {
		return manifest.Payload{}, err
	}
	if err := s.structure(ctx); err != nil {
		return manifest.Payload{}, err
	}
	if err := s.follow(ctx); err != nil {
		return manifest.Payload{}, err
	}
	if s.out.Found != manifest.ByState {
		if err := s.rows(ctx, feed); err != nil {
			return manifest.Payload{}, err
		}
	}
	remarks, err := s.Snapshot.Confirm(ctx)
	if err != nil {
		return manifest.Payload{}, err
	}
	s.Remarks = append(s.Remarks, remarks...)
	counts, queries := s.counts()
	if err := files.Write(ctx, manifest.CountSQL, blob.None, queries); err != nil {
		return manifest.Payload{}, err
	}
	err = files.Write(ctx, manifest.CountText, blob.None, counts)
	return manifest.Payload{Type: manifest.TypeSQL, SQL: &s.out}, err
}

// digestOf is a digest of everything in a catalog but the rows: two dumps with the same
// one have the same structure.
func digestOf(c *engine.Catalog) string {
	h := sha256.New()
	line := func(parts ...string) {
		for _, p := range parts {
			fmt.Fprintf(h, "%d:%s,", len(p), p)
		}
	}
	for _, o := range c.Objects {
		line("object", o.ID(), string(o.Section), o.SQL)
	}
	for _, t := range c.Tables {
		line("table", t.ID, t.Condition)
		line(t.Columns...)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// holds says what the files of each section hold.
var holds = map[engine.Section]string{
	engine.Schema: "what rows need: types, functions, tables, sequences", engine.Data: "rows of one table",
	engine.Keys:       "primary and unique keys, and indexes that tell rows apart",
	engine.Changes:    "rows of one table that changed",
	engine.References: "foreign keys", engine.Finish: "indexes, foreign keys, views, triggers and the rest",
	engine.Owners: "owners and rights; the roles or users must be there",
	engine.Active: "what acts by itself once it is there",
}

// head begins a file: what it holds, and the session settings that it relies on.
func head(section engine.Section, c *engine.Catalog) string {
	return "-- Grain Keep, " + string(section) + ": " + holds[section] + "\n" + c.Header
}

// structure writes everything but rows, and the index that says where each
// object's SQL is. Where it is as in the base, it is not written again.
func (s *SQL) structure(ctx context.Context) error {
	if base := s.base(); base != nil && base.Catalog == s.out.Catalog {
		s.out.Objects = base.Objects
		return nil
	}
	var index []manifest.ObjectEntry
	for _, section := range engine.Structure {
		path := string(section) + ".sql" + s.Compression.Ending()
		first := head(section, s.Catalog)
		sql, at := []string{first}, int64(len(first))
		for _, o := range s.Catalog.Objects {
			if o.Section != section {
				continue
			}
			index = append(index, manifest.ObjectEntry{Object: o, File: path, Offset: at, Length: int64(len(o.SQL))})
			sql = append(sql, o.SQL)
			at += int64(len(o.SQL))
			s.out.Objects[o.Kind]++
		}
		if len(sql) == 1 {
			continue
		}
		if at > MaxMetadata {
			return tooLarge(path, at)
		}
		if err := s.files.Write(ctx, path, s.Compression, append(sql, s.Catalog.Trailer)...); err != nil {
			return err
		}
	}
	text, err := json.Marshal(index)
	if err != nil {
		return err
	}
	if len(text) > MaxMetadata {
		return tooLarge(manifest.ObjectsOf, int64(len(text)))
	}
	return s.files.Write(ctx, manifest.ObjectsOf+s.Compression.Ending(), s.Compression, string(text), "\n")
}

// counts gives the rows of each table, and the queries that count them. A tree whose
// rows may land in other partitions is counted as one. Where
// foreign keys changed rows and the log did not tell, how many there are is not known.
func (s *SQL) counts() (lines, queries string) {
	rows := map[string]int64{}
	var order []string
	var sql strings.Builder
	for i, t := range s.Catalog.Tables {
		id := t.ID
		if t.Through != "" {
			id = t.Through
		}
		if s.out.Tables[i].About {
			continue
		}
		if _, seen := rows[id]; !seen {
			order = append(order, id)
			sql.WriteString(t.Count)
		}
		rows[id] += s.out.Tables[i].Rows
	}
	var b strings.Builder
	for _, id := range order {
		fmt.Fprintf(&b, "%s|%d\n", id, rows[id])
	}
	return b.String(), sql.String()
}
