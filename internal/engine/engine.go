// Package engine says what a database must be able to do to be dumped,
// restored and drilled, as a few small interfaces. An engine knows its database
// and nothing of keeps, files or jobs; the core knows the steps and nothing of
// SQL dialects.
package engine

import (
	"context"
	"io"
	"strings"
	"time"
)

// Secret is a password that no formatting verb shows.
type Secret struct{ value string }

// NewSecret wraps a password.
func NewSecret(v string) Secret { return Secret{v} }

// Reveal gives the password itself; only the code that logs in calls it.
func (s Secret) Reveal() string { return s.value }

// String hides the password.
func (s Secret) String() string { return "(secret)" }

// GoString hides the password.
func (s Secret) GoString() string { return "(secret)" }

// Location says where a source is and how to get in.
type Location struct {
	Name         string                 // configured name, else empty
	Engine       string                 // registered engine name
	Server       string                 // host:port or socket folder, for servers
	User         string                 // user to log in as; empty: the engine's default
	Database     string                 // the one database that a URL names; empty: all
	TLS          string                 // off, on, verify; empty: the engine's default
	CA           string                 // file of certificates that "verify" trusts
	Path         string                 // file or folder, for file engines
	Secret       func() (Secret, error) // fetched when logging in; nil: the engine's usual password file
	Workers      int                    // at most so many connections that read or load; 0: as the engine sees fit
	Passwords    bool                   // dump the password hashes of the server's users too
	LockWait     time.Duration          // longest wait for a lock held by others
	Silence      time.Duration          // longest time without a word of a server that is being dumped; 0: DefaultSilence
	Hold         bool                   // keep writers out of tables that no snapshot holds
	Reader       string                 // what tells the readers of the change log apart: letters and digits
	LogUnbounded bool                   // the log may be held back without bounds
	Log          bool                   // the change log is to be followed, now or later
	CopyFirst    bool                   // a file engine reads from a copy of the file, made in a short lock
}

// DefaultSilence is how long a server may say nothing in the middle of a dump.
const DefaultSilence = 15 * time.Minute

// Bound is the silence that is borne.
func (l Location) Bound() time.Duration {
	if l.Silence > 0 {
		return l.Silence
	}
	return DefaultSilence
}

// Driver is an engine in the registry.
type Driver interface {
	// Open connects to a source. It returns fault errors.
	Open(ctx context.Context, at Location) (Source, error)
	// Grants gives the SQL for a user with just the rights that a purpose
	// needs. It connects to nothing.
	Grants(at Location, purpose Purpose, databases []string) (string, error)
	// ByHand gives the shell lines that restore a dump without Grain Keep.
	ByHand(d HandDump) []string
}

// Purpose is what a database user is for.
type Purpose string

// The purposes that grants are printed for.
const (
	ForDump    Purpose = "dump"
	ForChanges Purpose = "changes" // dumps, and reading the server's change log
	ForDrill   Purpose = "drill"
	ForRestore Purpose = "restore"
)

// HandDump is what the lines of a README need to know about a dump.
type HandDump struct {
	Database string
	Product  string // as Server has it
	Facts    map[string]string
	Owners   bool   // whether the dump has a file of owners and grants
	Unpack   string // command that writes a compressed file's text to its standard output
	Files    string // command that lists the files to load, in order
}

// Server describes the server (or library) behind a source.
type Server struct {
	Product string // as people call it
	Version string
	User    string // the user that is logged in
	Clock   time.Time
	Zone    string
	Wide    bool   // it has objects of its own, to be snapshot as ServerWide
	Log     string // what its change log allows, in words; empty: it has none
	Folder  string // data folder when it is on this machine and readable; else empty
	NoLog   string // why that cannot be followed, by what the server and the user's rights say; empty: it can
	Ordered bool   // its readers are Ordered: dumps by comparison are possible
	InOrder bool   // that costs nothing
	Blind   string // why there may be databases that are not listed; empty: there are none
}

// Follows says whether it has a change log that can be followed.
func (s Server) Follows() bool { return s.Log != "" && s.NoLog == "" }

// ServerWide stands in the place of a database's name for what belongs to the
// server and to none of its databases: roles and the like.
const ServerWide = "+server"

// Database is one database of a source.
type Database struct {
	Name   string
	Bytes  int64 // size on the server's disk
	System bool  // left out unless named literally
	Note   string
	// Odd says why only its literal name takes it, where that is worth a warning.
	Odd string
}

// Source is an open source.
type Source interface {
	// Describe reads the server's facts.
	Describe(ctx context.Context) (Server, error)
	// Databases lists what is there, sorted by name.
	Databases(ctx context.Context) ([]Database, error)
	// Pin takes one moment of several databases, where the server can; a Snapshot of one
	// of them is then of that moment. scratch is a folder where a file engine may put
	// copies to read from.
	Pin(ctx context.Context, databases []string, scratch string) error
	// Snapshot fixes one moment of a database. The error names every object
	// that cannot be carried.
	Snapshot(ctx context.Context, database string) (Snapshot, error)
	// Vacant fails where the place that a target is to have is taken.
	Vacant(ctx context.Context, t TargetSpec) error
	// Target makes a new, empty database to restore into.
	Target(ctx context.Context, t TargetSpec) (Target, error)
	// Sweep removes the scratch databases that bear the keep's mark and are
	// not alive, and lists those that it must not touch. What was complete but for its
	// name gets it.
	Sweep(ctx context.Context, keepID string) (Swept, error)
	Close() error
}

// Scripter is a source that runs a script of an administrator's own in a database, or
// in none: the demo makes its databases so.
type Scripter interface {
	Script(ctx context.Context, database, sql string) error
}

// Mighty is a source that knows what its user could do beyond scratch databases of its
// own; in words, empty if nothing.
type Mighty interface {
	Might(ctx context.Context) (string, error)
}

// Snapshot is one moment of one database.
type Snapshot interface {
	// Moment is the instant whose data the snapshot holds, by the server's clock.
	Moment() time.Time
	// Catalog is what the database holds at that moment.
	Catalog() *Catalog
	// Width is how many readers can usefully work at the same time.
	Width() int
	// Reader opens another reader on the same snapshot.
	Reader(ctx context.Context) (Reader, error)
	// Confirm fails if anything changed under the snapshot that its readers
	// could not have seen. It is called after all rows are read, and tells what only
	// reading them showed, to be warned of.
	Confirm(ctx context.Context) (remarks []string, err error)
	// Ask runs a query that the administrator wrote and gives its answer:
	// values joined by "|", rows by a line feed.
	Ask(ctx context.Context, sql string) (string, error)
	Close() error
}

// Rows receives a table's rows as text. A row that is too long to hold comes in
// several pieces, all but the last with more set. Beside takes what the row has and
// is not written, its generated values, in a form of the engine's own.
type Rows interface {
	Row(piece []byte, more bool) error
	Beside(values []byte)
}

// Reader reads tables of a snapshot.
type Reader interface {
	Read(ctx context.Context, t *Table, p Part, to Rows) error
	// Witness asks the server itself about a table, with a digest of at most so many rows.
	Witness(ctx context.Context, t *Table, sample int64) (Witness, error)
	Close() error
}

// Framing says how rows become a file that the server's own client can load.
type Framing struct {
	Head     string // before the first row of a group
	RowEnd   string // after a row that another follows
	GroupEnd string // after the last row of a group
	Tail     string // at the end of a table, also of an empty one
	Group    int    // bytes after which a new group begins; 0: one group
	Always   bool   // write Head even if there are no rows
}

// Section is a part of a full dump, in load order.
type Section string

// The sections. Their values are the beginnings of file names.
const (
	Schema Section = "10-schema"
	Data   Section = "20-data"
	Keys   Section = "30-keys"
	// References are foreign keys, where they need no more than the keys.
	References Section = "35-references"
	Finish     Section = "50-finish"
	Owners     Section = "60-owners"
	Active     Section = "70-active" // what acts by itself once it is there; not in a drill
)

// Changes is where a dump that builds on others has the rows that changed: after the keys, in load order.
const Changes Section = "40-changes"

// Structure are the sections that hold objects, in load order.
var Structure = []Section{Schema, Keys, References, Finish, Owners, Active}

// Object is one thing in a database other than rows, with the SQL that makes it.
type Object struct {
	Kind    string   `json:"kind"`            // the trade's word: table, index, foreign key…
	Name    string   `json:"name"`            // as SQL would write it
	Table   string   `json:"table,omitempty"` // the Table.ID that it belongs to
	Needs   []string `json:"needs,omitempty"` // Object.ID of what it needs
	Section Section  `json:"section"`
	SQL     string   `json:"-"`
	// Alike is the SQL without what changes with the rows alone, such as a counter; empty: there is nothing of that.
	Alike string `json:"-"`

	// Roles are the users or roles that the SQL names, as SQL writes them.
	Roles []string `json:"roles,omitempty"`
	// Definer is what the SQL says about whose rights the object has, where a restore
	// can write CurrentUser in its place.
	Definer string `json:"definer,omitempty"`
	// SelfNamed marks SQL that names the dumped database itself: restored under another
	// name, it still means that one.
	SelfNamed bool `json:"self_named,omitempty"`
	// OfDatabase marks what is said of the database itself. One that is there already keeps
	// its own.
	OfDatabase bool `json:"of_database,omitempty"`
	// Note says in which way the object does not come back as it was.
	Note string `json:"note,omitempty"`
	// Beside says whether the object can be made while others are, and Locks names
	// the tables (by their ID) that it then locks.
	Beside string   `json:"beside,omitempty"`
	Locks  []string `json:"locks,omitempty"`
	// Rule marks what a restore goes on without: a rule about the rows (a
	// constraint, an index) that the rows themselves break, or what the target
	// cannot have. It is named then.
	Rule bool `json:"rule,omitempty"`
	// Unchecked is the SQL that adds the rule without testing existing rows;
	// empty where the server has no such thing.
	Unchecked string `json:"unchecked,omitempty"`
	// Otherwise is the SQL that takes what the target has in the place of the very thing,
	// such as another version of an extension; only if that is asked for.
	Otherwise string `json:"otherwise,omitempty"`
}

// CurrentUser stands in the place of an object's Definer where everything is to belong
// to the restoring user.
const CurrentUser = "DEFINER=CURRENT_USER"

// AsCurrentUser is the object's SQL, acting with the restoring user's rights.
func (o Object) AsCurrentUser(sql string) string {
	if o.Definer == "" {
		return sql
	}
	return strings.Replace(sql, o.Definer, CurrentUser, 1)
}

// How an object locks its tables while others are made beside it.
const (
	Shared = "shared" // others may lock them so too
	Alone  = "alone"
)

// OfTable is the Table.ID of what the object belongs to, or is.
func (o Object) OfTable() string {
	if o.Table == "" && o.Kind == "table" {
		return o.Name
	}
	return o.Table
}

// ID identifies an object within its database.
func (o Object) ID() string { return o.Kind + " " + o.Name }

// Table is a table whose rows are dumped.
type Table struct {
	ID      string   // as SQL would write it; the manifest's name for it
	Schema  string   // literal; empty where the engine has no schemas
	Name    string   // literal
	Columns []string // literal names in the order in which values are dumped
	Bytes   int64    // estimate, for the order of work and for progress
	Rows    int64    // estimate; -1: unknown
	Blocks  int64    // of the table's file, where ranges of them can be read; else 0
	Shares  int      // readers that it pays to divide a large table among
	Frame   Framing
	Handle  any // the engine's own

	// Key are the columns, as SQL writes them, that tell the rows apart and by whose order they can be read in
	// ranges; none: there is no such order, or it may be another one elsewhere.
	Key []string
	// Remove gives the statement that removes a span of rows, without its end; nil: the table has no key.
	Remove func(Span) string
	// KeyColumns are the literal names of those columns.
	KeyColumns []string
	// Made tells the table from one that was made anew or rewritten, where the log would not tell of that; empty: it
	// would, or it tells nothing of the table. Another server may say otherwise of the same table.
	Made string
	// Written is when its rows were written last, in whole seconds, as the server remembers it; zero: it does not.
	Written time.Time
	// NotInLog says why the server's change log does not tell what changes in the table; empty: it does.
	NotInLog string
	// Tied are the IDs of tables whose rows can change with this one's; Follows says that this one's rows do, without the
	// log saying so.
	Tied    []string
	Follows bool
	// RemoveHead and RemoveTail are what goes before and after such statements, where they need that.
	RemoveHead, RemoveTail string

	// Tree is the ID of the partitioned table at the top, for a partition. Through is
	// the same, where its rows must be loaded through the top: which partition they
	// land in is the target's business.
	Tree    string
	Through string
	// Condition is the administrator's, on the rows; empty: all of them.
	Condition string
	// Count is a query that prints a line "ID|rows"; for a table with Through, of
	// the whole tree.
	Count string
}

// Part is a range of a table's blocks that is read as one: from From up to To, or
// to the very end where To is 0, since a table may have grown since it was measured.
type Part struct{ From, To int64 }

// KeyedRows are Rows that are told each row's key before the row: a text of one line, in the engine's
// own form, that is valid until the next call.
type KeyedRows interface {
	Rows
	Key(text []byte)
}

// Span is the rows of a table whose keys come after one and not after another; an empty key is the
// beginning, or the end.
type Span struct{ After, UpTo string }

// Ordered is a Reader that can read a table in the order of its key.
type Ordered interface {
	Reader
	// ReadSpan reads a span of a table; of one without a key, all of it.
	ReadSpan(ctx context.Context, t *Table, s Span, to KeyedRows) error
}

// A table is split only where it pays, and into pieces of some size.
const (
	splitFrom = 32 << 20  // bytes
	splitInto = 128 << 20 // bytes
)

// Split divides a table among readers. Together the parts are the whole table.
func (t *Table) Split() []Part {
	if t.Blocks == 0 || t.Shares < 2 || t.Bytes < splitFrom {
		return []Part{{}}
	}
	n := max(int64(t.Shares), (t.Bytes+splitInto-1)/splitInto)
	n = min(n, t.Blocks)
	parts := make([]Part, n)
	for i := range n {
		parts[i] = Part{From: t.Blocks * i / n, To: t.Blocks * (i + 1) / n}
	}
	parts[n-1].To = 0
	return parts
}

// Catalog is what a database holds, rows apart.
type Catalog struct {
	Facts    map[string]string // of the database itself: encoding, collation…
	Header   string            // session settings, at the head of every file
	Trailer  string            // at the end of every file
	Tables   []Table           // sorted by ID
	Objects  []Object          // in load order
	Warnings []string          // what is not part of the one moment
	Secrets  []string          // users and roles whose passwords are left out
	Position *Position         // where in the server's change log the moment is; nil: not known
}

// Position is a place in a server's change log. Which fields count is the engine's
// business.
type Position struct {
	System string `json:"system,omitempty"` // identifies the server that wrote the log
	File   string `json:"file,omitempty"`   // MariaDB, MySQL: the log file, and the offset in it, in bytes
	Offset int64  `json:"offset,omitempty"`
	Began  int64  `json:"began,omitempty"` // MariaDB, MySQL: when the log file was begun, in seconds since 1970
	GTID   string `json:"gtid,omitempty"`  // MariaDB, MySQL: the set of all transactions so far
	LSN    string `json:"lsn,omitempty"`   // PostgreSQL
	// Applied is what a server has had from another one and does not log, in its words (MariaDB).
	Applied string `json:"applied,omitempty"`
	// Database tells the database from others of the server, whatever it is called, and Mark is what the dump left in the
	// log right after the place (PostgreSQL).
	Database string `json:"database,omitempty"`
	Mark     string `json:"mark,omitempty"`
	// Snapshot says which transactions the dump sees, in the server's words (PostgreSQL).
	Snapshot string `json:"snapshot,omitempty"`
	// State is of a file: two equal ones mean that nothing was written between them.
	State string `json:"state,omitempty"`
}

// TargetSpec says what to restore into.
type TargetSpec struct {
	Name    string // the database to make; empty: a scratch database
	Replace bool   // rename an existing one aside
	// end the sessions of others in that one before
	Disconnect bool
	Into       bool // use an existing one, which must be empty
	// use an existing one, which is in use and has nothing of what is made: all of it comes at once, or nothing
	Add    bool
	Fill   []string // tables that are there, and empty: just rows come into them
	Made   []Object // how those were made in the dumped database
	Warn   func(string)
	KeepID string // for the mark
	Run    string // for the mark
	Facts  map[string]string
	Aside  time.Time // the instant that the renamed database's name shows
	Folder string    // where a file engine may put a scratch database
}

// New says to make a database of a name.
func New(name, keepID, run string, facts map[string]string) TargetSpec {
	return TargetSpec{Name: name, KeepID: keepID, Run: run, Facts: facts}
}

// Scratch says to make a scratch database; a file engine makes it in a folder.
func Scratch(keepID, run string, facts map[string]string, folder string) TargetSpec {
	return TargetSpec{KeepID: keepID, Run: run, Facts: facts, Folder: folder}
}

// Target is a database being restored. It stands under a working name until
// Finish puts it in place; Discard removes it. One of the two is always called.
type Target interface {
	// Width is how many sessions can usefully work at the same time, at loading
	// rows and at making what comes after them.
	Width() (rows, after int)
	Session(ctx context.Context) (Session, error)
	// Settings tells which settings were made for speed.
	Settings() []string
	// Snapshot reads back what was restored.
	Snapshot(ctx context.Context) (Snapshot, error)
	// Finish puts the database in place, and tells the name that an old one
	// was given. It is not to be cancelled.
	Finish(ctx context.Context) (aside string, err error)
	Discard(ctx context.Context) error
	// Missing lists those of some users or roles that the target lacks.
	Missing(ctx context.Context, roles []string) ([]string, error)
}

// Trouble is the code of errors that say nothing about a dump: the connection, or
// the server's own means (disk, memory, being shut down). A drill that meets one
// could not test.
const Trouble = "server-trouble"

// RuleBroken is the code of errors that say that rows break a rule. Any other error about a
// rule says that it could not be tested.
const RuleBroken = "rule-broken"

// RightsMissing is the code of errors about what the user may not do. They say nothing
// about a dump either.
const RightsMissing = "rights-missing"

// Session is one connection to a target.
type Session interface {
	// Exec runs one object's SQL.
	Exec(ctx context.Context, sql string) error
	// Load loads the text of one data file, header included, and gives the rows
	// that the server took. seen is told of rows while they pass.
	Load(ctx context.Context, text io.Reader, seen func(rows int64)) (int64, error)
	// Remove runs the statements of one file that removes rows, and gives how many those were. One that removes other
	// than as many as it says is an error.
	Remove(ctx context.Context, text io.Reader) (int64, error)
	Close() error
}
