package payload

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/rows"
)

// logged takes the transactions of a server's change log, and writes them into files: a stream of files for each group
// of tables that change together. Groups are apart, so that a table that cannot be followed any longer
// takes no others with it, and that a restore replays groups side by side.
type logged struct {
	ctx  context.Context
	s    *SQL
	head string // of every file
	ties *ties
	list lazyFile
	of   map[string]*logStream // by the IDs of their tables
	all  []*logStream
	in   []*logStream    // of the transaction under way
	rows int64           // of that
	row  [2]rows.Counter // written and removed by the change that comes
	held int             // bytes of text that are not in a file yet
	// What rows are after the changes, by table, and how many are noted in all.
	images map[string]*images
	noted  int
	seen   map[string]*rows.Counter // tables that were read whole, and are as they are said to be
	audit  string                   // why every table is to be read whole; empty: it is not
	moment time.Time                // the snapshot's
	ahead  int64                    // transactions whose times are after that
	out    manifest.Log
	ticks  int64
}

// logStream is the changes of tables that change together.
type logStream struct {
	folder string
	tables []string
	told   map[string]*told // by table
	text   []byte           // that is not in a file yet
	files  []string
	file   *blob.File // the last of them, if it is open
	bytes  int64      // in it
	inside bool       // of the transaction under way
	middle bool       // what is in its files ends in the middle of a transaction
	used   int64      // the tick at which it was written to
}

const (
	mostLoggedHeld  = 8 << 20   // bytes of text that are held
	mostLoggedEach  = 256 << 10 // of one stream, at the end of a transaction; within one four times as much
	mostLoggedFiles = 4         // that are open
)

// newLogged makes ready to take changes of some tables.
func (s *SQL) newLogged(ctx context.Context, tables []*engine.Table, t *ties, head string) *logged {
	l := &logged{ctx: ctx, s: s, ties: t, head: loggedHead(s.Catalog) + head, of: map[string]*logStream{},
		images: map[string]*images{}, seen: map[string]*rows.Counter{}}
	l.list.create(&partWriter{ctx: ctx, of: s}, manifest.Transactions)
	by := map[string]*logStream{}
	for _, table := range tables {
		group := t.group(table.ID)
		x := by[group]
		if x == nil {
			x = &logStream{folder: keep.TableFolder(table.Schema, table.Name), told: map[string]*told{}}
			by[group] = x
			l.all = append(l.all, x)
		}
		x.tables = append(x.tables, table.ID)
		x.told[table.ID] = &told{follows: table.Follows}
		l.of[table.ID] = x
		if !table.Follows { // what foreign keys do to its rows the log does not tell
			l.images[table.ID] = newImages()
		}
	}
	return l
}

// loggedHead begins a file of transactions.
func loggedHead(c *engine.Catalog) string {
	return "-- Grain Keep, " + string(engine.Changes) + ": transactions, as the server's log tells them\n" + c.Header
}

// Change implements engine.ChangeSink.
func (l *logged) Change(t *engine.Table, lines []byte, n engine.Touched) error {
	x := l.of[t.ID]
	if x == nil {
		return fmt.Errorf("the log tells of %s, which is not followed", t.ID)
	}
	if l.ties.lost[t.ID] != "" {
		l.row = [2]rows.Counter{}
		return nil
	}
	was := len(x.text)
	if !x.inside {
		x.inside = true
		x.text = engine.BeginChanges(x.text, l.out.Transactions+1)
		l.in = append(l.in, x)
	}
	x.text = append(x.text, lines...)
	x.told[t.ID].add(n, l.row)
	l.row = [2]rows.Counter{}
	l.rows += n.All()
	l.held += len(x.text) - was
	return l.pass(x)
}

// Row implements engine.ChangeSink.
func (l *logged) Row(text []byte, removed bool) {
	at := 0
	if removed {
		at = 1
	}
	l.row[at].Row(text, false)
}

// Forget implements engine.ChangeSink.
func (l *logged) Forget() { l.row = [2]rows.Counter{} }

// told is what the log told of a table.
type told struct {
	engine.Touched
	rows    [2]rows.Counter // that were written, and removed
	follows bool            // foreign keys change rows of it, and the log does not tell of that
}

func (t *told) add(n engine.Touched, row [2]rows.Counter) {
	t.Inserted, t.Updated, t.Removed = t.Inserted+n.Inserted, t.Updated+n.Updated, t.Removed+n.Removed
	t.Untold = t.Untold || n.Untold
	t.rows[0].Add(&row[0])
	t.rows[1].Add(&row[1])
}

// changed says whether the table changed, told or not.
func (t *told) changed() bool { return t.follows || t.All() > 0 }

// of is a table after what the log told of it.
func (t *told) of(m manifest.Table) manifest.Table {
	m.Change, m.Counts = manifest.Logged, &manifest.Counts{Written: t.Inserted + t.Updated, Removed: t.Removed}
	m.Rows, m.About = max(0, m.Rows+t.Inserted-t.Removed), m.About || t.follows
	m.Generated, m.Witness = "", nil
	sum := t.rows[0].Sum.Since(t.rows[1].Sum)
	if err := sum.AddText(m.Sum); err != nil || t.Untold || t.follows { // it was not known, or is not any more
		m.Sum = ""
		return m
	}
	m.Sum = sum.String()
	m.Bytes = max(0, m.Bytes+t.rows[0].Bytes-t.rows[1].Bytes)
	return m
}

// Commit implements engine.ChangeSink. Of a transaction that changed nothing, nothing is written.
func (l *logged) Commit(c engine.Commit) error {
	if len(l.in) == 0 {
		return nil
	}
	l.out.Transactions++
	if l.out.First.IsZero() {
		l.out.First = c.Time
	}
	l.out.Last = c.Time
	if !l.moment.IsZero() && c.Time.After(l.moment.Add(time.Second)) {
		l.ahead++
	}
	for _, x := range l.in {
		was := len(x.text)
		x.text = engine.EndChanges(x.text)
		x.inside = false
		l.held += len(x.text) - was
		if err := l.pass(x); err != nil {
			return err
		}
	}
	_, err := l.list.Write(manifest.Transaction{Number: l.out.Transactions, Time: c.Time, Position: c.Position, ID: c.ID,
		Rows: l.rows}.Line())
	l.in, l.rows = l.in[:0], 0
	return err
}

// Audit implements engine.ChangeSink.
func (l *logged) Audit(why string) { l.audit = why }

// Lose implements engine.ChangeSink.
func (l *logged) Lose(t *engine.Table, why string) { l.ties.lose(t.ID, why) }

// pass brings what is held into files, where it is much.
func (l *logged) pass(x *logStream) error {
	l.ticks++
	x.used = l.ticks
	// Best at the end of a transaction: a file in the middle of one cannot be ended.
	if ended := !x.inside; ended && (x.middle || len(x.text) >= mostLoggedEach) || len(x.text) >= 4*mostLoggedEach {
		return l.flush(x)
	}
	if l.held < mostLoggedHeld {
		return nil
	}
	return l.flush(slices.MaxFunc(l.all, func(a, b *logStream) int { return len(a.text) - len(b.text) }))
}

// flush brings what is held of a stream into its file.
func (l *logged) flush(x *logStream) (err error) {
	if x.file != nil && x.bytes >= partBytes && !x.middle {
		if err := x.close(l, nil); err != nil {
			return err
		}
	}
	if x.file == nil {
		if err := l.make(x); err != nil {
			return err
		}
	}
	n, err := x.file.Write(x.text)
	x.bytes += int64(n)
	l.held -= len(x.text)
	x.text, x.middle = x.text[:0], x.inside
	if cap(x.text) > 8*mostLoggedEach {
		x.text = nil
	}
	return err
}

// make begins a file of a stream. Of those that are open, the one that was not used for longest is ended for it, unless
// a transaction is in the middle of all of them.
func (l *logged) make(x *logStream) (err error) {
	open, oldest := 0, (*logStream)(nil)
	for _, o := range l.all {
		if o.file == nil {
			continue
		}
		open++
		if !o.middle && (oldest == nil || o.used < oldest.used) {
			oldest = o
		}
	}
	if open >= mostLoggedFiles && oldest != nil {
		if err := oldest.close(l, nil); err != nil {
			return err
		}
	}
	path := fmt.Sprintf("%s/%s/log-%04d.sql%s", engine.Changes, x.folder, len(x.files)+1, l.s.Compression.Ending())
	x.files = append(x.files, path)
	x.bytes = 0
	if x.file, err = l.s.files.Create(l.ctx, path, l.s.Compression); err != nil {
		return err
	}
	_, err = x.file.Write([]byte(l.head))
	return err
}

// close ends a stream's open file.
func (x *logStream) close(l *logged, cause error) error {
	if x.file == nil {
		return cause
	}
	file := x.file
	x.file = nil
	if cause == nil {
		_, cause = file.Write([]byte(l.s.Catalog.Trailer))
	}
	_, err := file.Close(cause)
	return err
}

// changed are the tables of which it tells, and those that change without being told of.
func (x *logStream) changed() (list []string) {
	for _, id := range x.tables {
		if x.told[id].changed() {
			list = append(list, id)
		}
	}
	return list
}

// errLost ends the files of tables that could not be followed to the end.
var errLost = errors.New("the table is not followed any more")

// finish ends all files. What was written of tables that are lost is thrown away.
func (l *logged) finish(cause error) (*manifest.Log, error) {
	if cause == nil && len(l.in) > 0 {
		cause = errors.New("the log ended in the middle of a transaction")
	}
	for _, x := range l.all {
		lost := l.ties.why(x.tables[0]) != ""
		switch {
		case cause != nil:
			x.close(l, cause)
		case lost:
			if err := x.close(l, errLost); err != nil && !errors.Is(err, errLost) {
				cause = err
			}
		case len(x.text) > 0 || x.file != nil:
			if cause = l.flush(x); cause == nil {
				cause = x.close(l, nil)
			}
		}
		if !lost && len(x.files) > 0 {
			l.out.Streams = append(l.out.Streams, manifest.Changes{Tables: x.changed(), Files: x.files})
		}
	}
	if l.list.file == nil && cause == nil {
		_, cause = l.list.Write(nil)
	}
	l.out.File = l.list.path
	return &l.out, l.list.close(cause)
}
