package manifest

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/pattern"
	"grainkeep/internal/phrase"
	"grainkeep/internal/store"
)

// A manifest that was changed on purpose passes its own check. So nothing in it is used
// before it is looked at here: numbers are counts, paths stay in the dump's folder, and
// what names a file names one that is there.

const maxText = 64 << 10 // bytes of one name

var (
	digest = pattern.Of(`^[0-9a-f]{64}$`)
	sum128 = pattern.Of(`^[0-9a-f]{32}$`)
	runID  = pattern.Of(`^[0-9a-f]{4,64}$`)
	keepID = pattern.Of(`^[0-9a-f]{4,64}$`)
)

// Check looks whether everything in a manifest makes sense.
func (m *Manifest) Check() error {
	switch {
	case m.Format < 1:
		return fmt.Errorf("its format is %d", m.Format)
	case !keepID().MatchString(m.Keep):
		return errors.New("the keep's id is none")
	case !runID().MatchString(m.Run.ID):
		return errors.New("the run's id is none")
	case !phrase.JobName().MatchString(m.Job):
		return fmt.Errorf("its job is %.40q", m.Job)
	case len(m.Note) > maxText || len(m.Why) > maxText:
		return errors.New("its note is too long")
	case m.Database == "" || len(m.Database) > maxText:
		return errors.New("its database has no name")
	}
	if err := m.checkKind(); err != nil {
		return err
	}
	for _, t := range []time.Time{m.Moment, m.Started, m.Finished, m.Run.Started} {
		if t.Year() < 1 || t.Year() > 9999 {
			return errors.New("a time is not of the calendar")
		}
	}
	sizes, err := m.checkFiles()
	if err != nil {
		return err
	}
	if m.Signed != nil && len(m.Signed.By) > maxText {
		return errors.New("the name of the key that signed it is too long")
	}
	if m.Seal != nil {
		return m.checkSeal(sizes)
	}
	switch m.Payload.Type {
	case TypeSQL:
		if m.Payload.SQL == nil {
			return errors.New("its payload is missing")
		}
		return m.Payload.SQL.check(m.Kind, sizes)
	case TypeTar:
		if m.Payload.Tar == nil {
			return errors.New("its payload is missing")
		}
		return m.Payload.Tar.check(m.Kind, sizes)
	case TypeStream:
		if m.Payload.Stream == nil {
			return errors.New("its payload is missing")
		}
		return m.Payload.Stream.check(sizes)
	}
	return fmt.Errorf("its payload is of the unknown type %.40q", m.Payload.Type)
}

func (m *Manifest) checkKind() error {
	switch m.Kind {
	case Full:
		if m.Base != "" || m.Closes != "" {
			return errors.New("a full dump has a base")
		}
		return nil
	case Differential, Incremental:
		if m.Alone {
			return errors.New("a dump that builds on another stands alone")
		}
		if !digest().MatchString(m.Base) || m.Closes != "" && !digest().MatchString(m.Closes) {
			return errors.New("the id of its base is none")
		}
		return nil
	}
	return fmt.Errorf("its kind is %.40q", m.Kind)
}

// checkFiles looks at the list of files, and gives their sizes.
func (m *Manifest) checkFiles() (map[string]int64, error) {
	sizes := make(map[string]int64, len(m.Files))
	folded := make(map[string]bool, len(m.Files))
	var stored, raw int64
	for _, f := range m.Files {
		if err := checkPath(f.Path); err != nil {
			return nil, err
		}
		low := strings.ToLower(f.Path)
		if folded[low] {
			return nil, fmt.Errorf("it names %q twice", f.Path)
		}
		folded[low] = true
		if f.Bytes < 0 || f.Raw < 0 || f.Bytes > math.MaxInt64-stored || f.Raw > math.MaxInt64-raw {
			return nil, fmt.Errorf("the size of %q is not possible", f.Path)
		}
		if !digest().MatchString(f.SHA256) {
			return nil, fmt.Errorf("the digest of %q is none", f.Path)
		}
		stored, raw = stored+f.Bytes, raw+f.Raw
		sizes[f.Path] = f.Raw
	}
	for path := range folded { // no file is another's folder
		for i := range len(path) {
			if path[i] == '/' && folded[path[:i]] {
				return nil, fmt.Errorf("%q is a file and a folder", path[:i])
			}
		}
	}
	if stored != m.StoredBytes || raw != m.RawBytes && m.Seal == nil {
		return nil, errors.New("its sizes are not the sum of its files'")
	}
	return sizes, nil
}

// checkPath fails for what cannot be the path of a dump's file.
func checkPath(path string) error {
	if err := store.CheckName(path); err != nil {
		return err
	}
	if path[0] == '.' || strings.Contains(path, "/.") {
		return fmt.Errorf("the file %q is hidden", path)
	}
	if low := strings.ToLower(path); low == Name || low == Name+Signature || low == strings.ToLower(Sums) {
		return fmt.Errorf("it names %q itself", path)
	}
	return nil
}

// maxSample bounds the rows that a drill asks a server to digest.
const maxSample = 100_000

func (s *SQL) check(kind Kind, sizes map[string]int64) error {
	if !digest().MatchString(s.Catalog) {
		return errors.New("the digest of the catalog is none")
	}
	how := []string{ByComparison, ByState, ByLog}
	if full := kind == Full; full != (s.Found == "") || !full && !slices.Contains(how, s.Found) {
		return fmt.Errorf("how it was found out what changed is %.40q", s.Found)
	}
	seen := make(map[string]bool, len(s.Tables))
	taken := map[string]bool{}
	var rows, bytes int64
	for _, t := range s.Tables {
		switch {
		case t.ID == "" || seen[t.ID] || len(t.ID) > maxText:
			return fmt.Errorf("it has a table without a name of its own: %.80q", t.ID)
		case t.Rows < 0 || t.Bytes < 0 || t.Rows > math.MaxInt64-rows || t.Bytes > math.MaxInt64-bytes:
			return fmt.Errorf("the counts of the table %.80q are not possible", t.ID)
		case !sum128().MatchString(t.Sum) && (t.Sum != "" || t.Change != Logged && t.Change != Unchanged):
			return fmt.Errorf("the fingerprint of the table %.80q is none", t.ID)
		case t.Generated != "" && !sum128().MatchString(t.Generated):
			return fmt.Errorf("the fingerprint of the generated columns of the table %.80q is none", t.ID)
		case t.Witness != nil && (t.Witness.Sample < 0 || t.Witness.Sample > maxSample):
			return fmt.Errorf("the sample of the table %.80q is not possible", t.ID)
		}
		seen[t.ID] = true
		rows, bytes = rows+t.Rows, bytes+t.Bytes
		if err := t.check(kind); err != nil {
			return err
		}
		for _, path := range slices.Concat(t.Files, t.Gone, t.Ranges) {
			if _, known := sizes[path]; !known || taken[path] {
				return fmt.Errorf("the table %.80q has a file that is not its own: %.80q", t.ID, path)
			}
			taken[path] = true
		}
	}
	for kind, n := range s.Objects {
		if n < 0 || len(kind) > maxText {
			return errors.New("its counts of objects are not possible")
		}
	}
	return s.checkLog(sizes, taken)
}

// checkLog looks at what came from the log: each table of it is in one stream.
func (s *SQL) checkLog(sizes map[string]int64, taken map[string]bool) error {
	logged := map[string]bool{}
	for _, t := range s.Tables {
		if t.Change == Logged {
			logged[t.ID] = true
		}
	}
	if (s.Log != nil) != (s.Found == ByLog) {
		return errors.New("what came from the log is not there")
	}
	if s.Log == nil {
		if len(logged) > 0 {
			return errors.New("it has tables from the log, and no log")
		}
		return nil
	}
	paths := []string{s.Log.File}
	for _, c := range s.Log.Streams {
		for _, id := range c.Tables {
			if !logged[id] {
				return fmt.Errorf("a stream of the log is of a table that is not of it: %.80q", id)
			}
			delete(logged, id)
		}
		paths = append(paths, c.Files...)
	}
	for id := range logged {
		return fmt.Errorf("the table %.80q is from the log, and in no stream", id)
	}
	for _, path := range paths {
		if _, known := sizes[path]; !known || taken[path] {
			return fmt.Errorf("the log has a file that is not its own: %.80q", path)
		}
		taken[path] = true
	}
	if s.Log.Transactions < 0 {
		return errors.New("the number of transactions is not possible")
	}
	return nil
}

// check looks at what a dump has of a table.
func (t *Table) check(kind Kind) error {
	wrong := func(what string) error { return fmt.Errorf("the table %.80q %s", t.ID, what) }
	changed := t.Change == Ranges || t.Change == Logged
	switch {
	case t.Change != Whole && t.Change != Unchanged && !changed:
		return wrong(fmt.Sprintf("has changes of an unknown kind: %.40q", t.Change))
	case kind == Full && (t.Change != Whole || t.OnBase):
		return wrong("builds on another dump, and is in a full")
	case t.Shape != "" && !sum128().MatchString(t.Shape), t.Shape == "" && kind != Full:
		return wrong("has no digest of how it is made")
	case t.Change == Unchanged && len(t.Files) > 0:
		return wrong("did not change, and has files")
	case changed != (t.Counts != nil), len(t.Gone) > 0 && !changed:
		return wrong("does not say how many rows changed")
	case t.Change == Logged && len(t.Files)+len(t.Gone)+len(t.Ranges) > 0:
		return wrong("is from the log, and has files of its own")
	case t.Change == Ranges && (t.Counts.Written < 0 || t.Counts.Removed < 0 ||
		(t.Counts.Removed > 0) != (len(t.Gone) > 0)):
		return wrong("has counts of changes that are not possible")
	case t.Change == Logged && (t.Counts.Written < 0 || t.Counts.Removed < 0):
		return wrong("has counts of changes that are not possible")
	}
	return nil
}

func (t *Tar) check(kind Kind, sizes map[string]int64) error {
	paths := []string{t.File}
	if t.Index != "" {
		paths = append(paths, t.Index)
	}
	if kind != Full {
		paths = append(paths, t.Index, t.Gone)
	} else if t.Gone != "" {
		return errors.New("a full dump says what is gone")
	}
	for _, p := range paths {
		if _, known := sizes[p]; !known {
			return fmt.Errorf("it has no file %.80q", p)
		}
	}
	if !sum128().MatchString(t.Sum) || !sum128().MatchString(t.Bare) {
		return errors.New("the fingerprint of the folder is none")
	}
	if t.Entries < 0 || t.Bytes < 0 || t.Written < 0 {
		return errors.New("the counts of the folder are not possible")
	}
	for kind, n := range t.Kinds {
		if n < 0 || len(kind) > maxText {
			return errors.New("its counts of entries are not possible")
		}
	}
	return nil
}

func (s *Stream) check(sizes map[string]int64) error {
	raw, known := sizes[s.File]
	switch {
	case !known:
		return fmt.Errorf("it has no file %.80q", s.File)
	case raw != s.Bytes:
		return fmt.Errorf("the stream has %d bytes, and its file %d", s.Bytes, raw)
	case !digest().MatchString(s.SHA256):
		return errors.New("the digest of the stream is none")
	}
	return nil
}
