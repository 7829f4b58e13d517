// Package manifest is the record that a dump carries about itself. A dump exists
// when its manifest exists. It is an envelope, the same for everything that a dump can
// hold, and a payload. The format is documented in docs/format.md.
package manifest

import (
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/record"
)

// Names of the files beside the data.
const (
	Name      = "manifest.json"
	Sums      = "SHA256SUMS"
	Readme    = "README.txt"
	ObjectsOf = "objects.json"
	LoadOrder = "load-order.txt" // of a dump that builds on others: all files of its chain, as they are to be loaded
	CountSQL  = "row-counts.sql"
	CountText = "row-counts.txt"
	// Transactions has a line for each transaction that came from the server's change log.
	Transactions = "transactions.txt"
)

// Version is the version of the format that this program writes.
const Version = 1

// MaxBytes bounds a manifest. A larger one is neither written nor read.
const MaxBytes = 64 << 20

// Kind says what a dump builds on.
type Kind string

// The kinds.
const (
	Full         Kind = "full"         // on nothing
	Differential Kind = "differential" // on the last full
	Incremental  Kind = "incremental"  // on the last dump of any kind in the chain
)

// Run is the execution of a job that a dump came from.
type Run struct {
	ID        string    `json:"id"`
	Databases []string  `json:"databases"` // all that the run set out to dump
	Started   time.Time `json:"started"`
	// Narrowed says that the run took only some of what its job means.
	Narrowed bool `json:"narrowed,omitempty"`
}

// Source is where the data came from.
type Source struct {
	Name    string `json:"name,omitempty"`
	Engine  string `json:"engine"`
	Where   string `json:"where"` // server or file, no secrets
	Product string `json:"product"`
	Version string `json:"version"`
	User    string `json:"user,omitempty"`
}

// Series is the part of a version within which a server keeps its ways: PostgreSQL 15,
// MariaDB 10.11, MySQL 9.7.
func Series(product, version string) string {
	numbers := strings.SplitN(version, ".", 3)
	switch {
	case product == "SQLite":
		return ""
	case product == "PostgreSQL" || len(numbers) < 2:
		return numbers[0]
	}
	return numbers[0] + "." + numbers[1]
}

// File is a file of the dump.
type File struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	Raw    int64  `json:"raw_bytes"` // before compression
	SHA256 string `json:"sha256"`

	In string `json:"-"` // the sealed file that it is in; empty: it lies there under its own name
}

// Warning is what an administrator should know about the dump.
type Warning struct {
	Code string `json:"code"` // stable, for scripts
	Text string `json:"text"`
}

// Manifest is everything known about a dump. Times are UTC.
type Manifest struct {
	Format      int              `json:"format"`
	Tool        string           `json:"tool"`
	Keep        string           `json:"keep"`
	Job         string           `json:"job"`
	Database    string           `json:"database"`
	Kind        Kind             `json:"kind"`
	Base        string           `json:"base,omitempty"`   // the id of the dump that this one builds on
	Alone       bool             `json:"alone,omitempty"`  // a full that stands outside the chain: nothing is to build on it
	Closes      string           `json:"closes,omitempty"` // this ends a chain: the id of the full of the same moment that begins the next
	Why         string           `json:"why,omitempty"`    // it is of its kind
	Note        string           `json:"note,omitempty"`   // of who took it
	Moment      time.Time        `json:"moment"`
	Zone        string           `json:"zone"`
	Started     time.Time        `json:"started"`
	Finished    time.Time        `json:"finished"`
	Run         Run              `json:"run"`
	Source      Source           `json:"source"`
	From        *engine.Position `json:"from,omitempty"` // in the server's change log: where the changes begin
	To          *engine.Position `json:"to,omitempty"`   // the same: where the moment is
	Compression string           `json:"compression"`
	Warnings    []Warning        `json:"warnings,omitempty"`
	RawBytes    int64            `json:"raw_bytes"`
	StoredBytes int64            `json:"stored_bytes"`
	Seal        *Seal            `json:"seal,omitempty"`   // this is the outside of a sealed dump
	Signed      *Signed          `json:"signed,omitempty"` // a signature lies beside it
	Payload     Payload          `json:"payload"`
	Files       []File           `json:"files"`

	brief *Brief // tables and files are left out; this is what is known of them
}

// Brief is what a listing needs of a manifest's tables and files.
type Brief struct {
	Rows    int64
	Tables  int
	Partial bool
	Inside  bool // every moment between its base and itself can be restored
}

// Brief leaves the tables and the files out, which a listing of many dumps has no room for, and gives what a listing
// needs of them.
func (m *Manifest) Brief() Brief {
	if m.brief == nil {
		b := Brief{Rows: m.Rows(), Tables: len(m.Tables()), Partial: m.Partial(), Inside: m.Inside()}
		m.Set(b)
	}
	return *m.brief
}

// Set makes a manifest a brief one.
func (m *Manifest) Set(b Brief) {
	m.Files = nil
	if m.Payload.Type == TypeSQL && !m.Locked() {
		m.Payload.SQL = &SQL{}
	}
	m.brief = &b
}

// IsBrief says whether tables and files are left out. Whoever needs them reads the manifest whole.
func (m *Manifest) IsBrief() bool { return m.brief != nil }

// whole panics for a brief manifest: nobody must take it for one of a dump without tables.
func (m *Manifest) whole() {
	if m.brief != nil {
		panic("the tables or files of a brief manifest are asked for")
	}
}

// Beginnings of the names of what is no database: of dumped folders, and of commands' streams.
const (
	FilesStart  = "+files-"
	StreamStart = "+stream-"
)

// Plain says whether a name is that of a database: not of the server itself, a folder or a stream.
func Plain(name string) bool { return !strings.HasPrefix(name, "+") }

// The types of payloads.
const (
	TypeSQL    = "sql"    // of a database
	TypeTar    = "tar"    // of a folder
	TypeStream = "stream" // of a command
)

// Payload is what the dump holds. Type says which of the others is set.
type Payload struct {
	Type   string  `json:"type"`
	SQL    *SQL    `json:"sql,omitempty"`
	Tar    *Tar    `json:"tar,omitempty"`
	Stream *Stream `json:"stream,omitempty"`
}

// Tar is the payload of a folder: one standard tar. That of a dump that builds on another holds what changed since;
// counts and fingerprints are those of the whole folder all the same.
type Tar struct {
	File        string         `json:"file"`
	Index       string         `json:"index,omitempty"`   // the file that tells of each entry of the tar; older dumps have none
	Gone        string         `json:"gone,omitempty"`    // the file that names what is not there any more; only where it builds on another
	Written     int64          `json:"written,omitempty"` // entries in the tar, the same
	Folder      string         `json:"folder"`            // where it was, for people
	Fingerprint string         `json:"fingerprint"`
	Sum         string         `json:"sum"`
	Bare        string         `json:"sum_without_owners"` // and without attributes
	Entries     int64          `json:"entries"`
	Bytes       int64          `json:"bytes"` // of content
	Kinds       map[string]int `json:"kinds"`
	Only        []string       `json:"only,omitempty"` // patterns
	Except      []string       `json:"except,omitempty"`
	Skipped     []string       `json:"skipped,omitempty"` // sockets and devices; the first few
}

// Stream is the payload of a command: its own bytes.
type Stream struct {
	File       string            `json:"file"`
	Bytes      int64             `json:"bytes"`
	SHA256     string            `json:"sha256"`          // of the bytes, unpacked
	Facts      map[string]string `json:"facts,omitempty"` // that the source's check printed
	Restorable bool              `json:"restorable"`      // the source names a command that restores
}

// SQL is the payload of a database: its objects and its rows, as SQL.
type SQL struct {
	Facts       map[string]string `json:"facts"`
	Fingerprint string            `json:"fingerprint"` // the algorithm
	Catalog     string            `json:"catalog"`     // a digest of everything but the rows
	Objects     map[string]int    `json:"objects"`     // how many of each kind
	LeftOut     []string          `json:"left_out,omitempty"`
	Tables      []Table           `json:"tables"`
	Found       string            `json:"found,omitempty"`  // of one that builds on others: how it was found out what changed
	Log         *Log              `json:"log,omitempty"`    // what came from the server's change log
	NoLog       string            `json:"no_log,omitempty"` // why the log could not be followed, where it was to be
}

// How a dump that builds on others found out what had changed.
const (
	ByComparison = "comparison" // all rows were read, and their ranges compared
	ByState      = "state"      // the file itself was as before: no row was read
	ByLog        = "log"        // the server's change log told it, of some tables at least
)

// Log is what a dump has from the server's change log.
type Log struct {
	File         string    `json:"file"` // a line for each transaction
	Transactions int64     `json:"transactions"`
	First        time.Time `json:"first,omitzero"` // commit, by the server's clock
	Last         time.Time `json:"last,omitzero"`
	Streams      []Changes `json:"streams"`
}

// Changes are the transactions of tables that change together.
type Changes struct {
	Tables []string `json:"tables"` // their IDs
	Files  []string `json:"files"`  // in order
}

// Table is a dumped table.
type Table struct {
	ID      string   `json:"id"`
	Schema  string   `json:"schema,omitempty"`
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
	About   bool     `json:"rows_about,omitempty"` // how many there are was reckoned, and may be wrong
	Sum     string   `json:"sum"`                  // empty: not known, where the log told what changed
	Bytes   int64    `json:"bytes"`                // text of the rows

	Generated string          `json:"generated,omitempty"` // fingerprint of the generated columns' values
	Witness   *engine.Witness `json:"witness,omitempty"`   // what the server itself said of the table

	Condition string   `json:"condition,omitempty"` // the dump has only those rows
	Tree      string   `json:"tree,omitempty"`      // the partitioned table at the top, of a partition
	Through   string   `json:"through,omitempty"`   // the same, where rows are loaded through it
	Files     []string `json:"files"`

	Shape  string   `json:"shape,omitempty"`          // a digest of how its rows are made and written
	Change Change   `json:"change,omitempty"`         // what of its rows is here, in a dump that builds on others
	Gone   []string `json:"gone,omitempty"`           // the files that remove rows
	Counts *Counts  `json:"counts,omitempty"`         // of what is written and removed, where the rows changed
	Ranges []string `json:"ranges,omitempty"`         // the files with the digests of its ranges; none: as in the base, or one range
	OnBase bool     `json:"ranges_on_base,omitempty"` // those files say what became of the base's ranges
	Made   string   `json:"made,omitempty"`           // what tells it from a table that was made anew or rewritten (PostgreSQL)
	NoLog  string   `json:"no_log,omitempty"`         // why the log does not tell what changed in it, where others are followed
}

// Change says what of a table's rows a dump has.
type Change string

// What a dump can have of a table's rows.
const (
	Whole     Change = ""       // all of them
	Unchanged Change = "none"   // none: they are as in the dump that it builds on
	Ranges    Change = "ranges" // those of the ranges that changed, since a dump that had its rows or ranges
	Logged    Change = "log"    // its transactions, in a stream of the log; rows and bytes are then reckoned, not counted
)

// Counts are numbers of rows.
type Counts struct {
	Written int64 `json:"written"`
	Removed int64 `json:"removed"`
}

// ObjectEntry is one line of the objects file: an object and where its SQL is.
type ObjectEntry struct {
	engine.Object
	File   string `json:"file"`
	Offset int64  `json:"offset"` // of the SQL in the file's text
	Length int64  `json:"length"`
}

// Tables are the tables of a database's dump.
func (m *Manifest) Tables() []Table {
	m.whole()
	if m.Payload.SQL == nil {
		return nil
	}
	return m.Payload.SQL.Tables
}

// Changed counts the rows that a dump that builds on others writes and removes, and the tables that it has whole.
func (s *SQL) Changed() (c Counts, whole int) {
	for _, t := range s.Tables {
		switch {
		case t.Change == Whole:
			whole++
		case t.Counts != nil:
			c.Written, c.Removed = c.Written+t.Counts.Written, c.Removed+t.Counts.Removed
		}
	}
	return c, whole
}

// ByID gives the tables by their IDs.
func (s *SQL) ByID() map[string]Table {
	m := make(map[string]Table, len(s.Tables))
	for _, t := range s.Tables {
		m[t.ID] = t
	}
	return m
}

// Facts are what the database was made with.
func (m *Manifest) Facts() map[string]string {
	m.whole()
	if m.Payload.SQL == nil {
		return nil
	}
	return m.Payload.SQL.Facts
}

// KindWord is the kind as people are told.
func (m *Manifest) KindWord() string {
	if m.Kind == Full && m.Partial() {
		return "partial"
	}
	return string(m.Kind)
}

// Rows is the sum of the rows of all tables.
func (m *Manifest) Rows() (n int64) {
	if m.brief != nil {
		return m.brief.Rows
	}
	for _, t := range m.Tables() {
		n += t.Rows
	}
	return n
}

// Partial says whether the dump leaves tables or rows out.
func (m *Manifest) Partial() bool {
	if m.brief != nil {
		return m.brief.Partial
	}
	if m.Locked() {
		return m.Seal.Partial
	}
	if m.Payload.SQL != nil && len(m.Payload.SQL.LeftOut) > 0 {
		return true
	}
	for _, t := range m.Tables() {
		if t.Condition != "" {
			return true
		}
	}
	return false
}

// Inside says whether every moment between the dump's base and itself can be restored: whether a log tells all that
// changed.
func (m *Manifest) Inside() bool {
	if m.brief != nil {
		return m.brief.Inside
	}
	if m.Locked() {
		return m.Seal.Inside
	}
	if m.Payload.SQL == nil || m.Payload.SQL.Log == nil {
		return false
	}
	for _, t := range m.Tables() {
		if t.Change != Logged && t.Change != Unchanged {
			return false
		}
	}
	return true
}

// Has says whether the dump has a file of a section.
func (m *Manifest) Has(section engine.Section) bool {
	m.whole()
	for _, f := range m.Files {
		if strings.HasPrefix(f.Path, string(section)+".") {
			return true
		}
	}
	return false
}

// File finds a file of the dump by its path.
func (m *Manifest) File(path string) (File, bool) {
	m.whole()
	for _, f := range m.Files {
		if f.Path == path {
			return f, true
		}
	}
	return File{}, false
}

// Encode gives the manifest's bytes, ending in the check over themselves, and
// the dump's id, which is their SHA-256. What could not be read again is an error.
func (m *Manifest) Encode() (data []byte, id string, err error) {
	if err := m.Check(); err != nil {
		return nil, "", fmt.Errorf("the manifest would not be readable: %w", err)
	}
	data, id, err = record.Encode(m)
	if len(data) > MaxBytes {
		return nil, "", fault.New("manifest-too-large", nil,
			"the manifest would have %d bytes, and at most %d are read", len(data), MaxBytes).
			Advise("the database has too many tables for one dump; skip_tables leaves some out")
	}
	return data, id, err
}

// Decode reads a manifest's bytes, checks them against themselves and everything in
// them for sense, and gives the dump's id.
func Decode(data []byte) (*Manifest, string, error) {
	if len(data) > MaxBytes {
		return nil, "", damaged("it is too large")
	}
	var m Manifest
	if err := record.Decode(data, &m); err != nil {
		return nil, "", damaged(err.Error())
	}
	if m.Format > Version {
		return nil, "", fault.New("format-too-new", nil,
			"this dump has format %d, and this program knows formats up to %d", m.Format, Version).
			Advise("use a newer grainkeep, or restore it by hand as its README.txt says")
	}
	if err := m.Check(); err != nil {
		return nil, "", damaged(err.Error())
	}
	return &m, record.ID(data), nil
}

func damaged(why string) *fault.Error {
	return fault.New("manifest-damaged", nil, "%s is damaged: %s", Name, why).Exit(fault.ProvenBad)
}

// SumLines are the lines of SHA256SUMS, the manifest's own among them.
func (m *Manifest) SumLines(id string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n", id, Name)
	for _, f := range m.Files {
		fmt.Fprintf(&b, "%s  %s\n", f.SHA256, f.Path)
	}
	return b.String()
}
