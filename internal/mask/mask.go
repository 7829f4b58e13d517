// Package mask replaces the values of chosen columns while rows pass, so that clear data never reaches a test server. What
// becomes of a value depends on the value, the mask and a key alone, so that masked columns still join.
package mask

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// How says what becomes of a column's values.
type How string

// What can become of them. NULL stays NULL.
const (
	Clear   How = "clear"   // as it is: nobody is to be told of it
	Empty   How = "empty"   // NULL, or what is nearest to it where NULL is not allowed
	Fixed   How = "fixed"   // one value
	Hash    How = "hash"    // a keyed hash of the value: equal ones stay equal
	Shuffle How = "shuffle" // those of up to 1000 rows change places
	MadeUp  How = "made-up" // one of the same form: equal ones stay equal
)

// Hows lists them.
var Hows = []How{Clear, Empty, Fixed, Hash, MadeUp, Shuffle}

// Rule is a mask for the columns that a pattern means: TABLE.COLUMN or SCHEMA.TABLE.COLUMN, with wildcards.
type Rule struct {
	Pattern string
	How     How
	Value   string // of Fixed
}

// Table is what must be known of a table to mask its rows.
type Table struct {
	ID, Schema, Name string
	Root             string   // the ID of the partitioned table that it is a part of; empty: of none
	Columns          []string // in the order of the values in a row
	Create           string   // the SQL that makes it
	Replayed         bool     // transactions of the log change it
}

// column is what becomes of a column's values.
type column struct {
	name string
	how  How
	def  engine.Column
	make func(engine.Value) engine.Value // nil: as it is, or shuffled
}

// table is a table of which something is masked.
type table struct {
	Table
	columns []column
	masked  bool
}

// shown is a column as people name it.
func (t *table) shown(column string) string {
	if t.Schema != "" {
		return t.Schema + "." + t.Name + "." + column
	}
	return t.Name + "." + column
}

// Set are the masks of a restore. Its methods may be called side by side once Choose has returned.
type Set struct {
	rules  []Rule
	macs   sync.Pool    // of keyed hashes
	block  cipher.Block // of the same key
	text   engine.RowText
	tables map[string]*table
	masked []string // columns, with what becomes of each

	mu     sync.Mutex
	looked map[string]bool
	looks  map[string]string // why a column that has no mask looks as if it needed one, by its name
}

// MinKey is the length that a key has at least, in bytes.
const MinKey = 16

// New makes masks of rules. The key is what hashes and made-up values depend on.
func New(rules []Rule, key []byte) (*Set, error) {
	for _, r := range rules {
		if (r.How == Hash || r.How == MadeUp || r.How == Shuffle) && len(key) < MinKey {
			return nil, fault.Wrong("mask-key", "the mask %q of %s needs a key of %d bytes or more", r.How, r.Pattern, MinKey).
				Advise("head -c 24 /dev/urandom | base64 > FILE; chmod 600 FILE; and mask_key = \"file:FILE\"")
		}
	}
	s := &Set{rules: rules, tables: map[string]*table{}, looks: map[string]string{}, looked: map[string]bool{}}
	s.macs.New = func() any { return hmac.New(sha256.New, key) }
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte("integers"))
	var err error
	s.block, err = aes.NewCipher(mac.Sum(nil))
	return s, err
}

// Choose finds the columns of some tables of an engine that the rules mean. Each rule must mean one.
func (s *Set) Choose(name string, tables []Table) (err error) {
	if s.text, err = engine.RowTextOf(name); err != nil {
		return err
	}
	used := map[string]bool{}
	for _, t := range tables {
		x := &table{Table: t}
		s.tables[t.ID] = x
		if len(t.Columns) == 0 { // large objects
			s.looks[t.ID] = "have no columns, and are as they were dumped"
		}
		defined := map[string]engine.Column{}
		for _, d := range s.text.Columns(t.Create) {
			defined[d.Name] = d
		}
		for _, name := range t.Columns {
			c := column{name: name, def: defined[name]}
			r, err := s.ruleFor(x, name, used)
			if err != nil {
				return err
			}
			if c.how = r.How; r.How == "" {
				s.suspectName(x, c)
			}
			if c.make, err = s.maker(x, c, r); err != nil {
				return err
			}
			if r.How != "" && r.How != Clear {
				x.masked = true
				s.masked = append(s.masked, fmt.Sprintf("%s (%s)", x.shown(name), r.How))
			}
			x.columns = append(x.columns, c)
		}
	}
	for _, r := range s.rules {
		if !used[r.Pattern] {
			return fault.Wrong("mask-matches-nothing", "the mask %q matches no column of the dump", r.Pattern).
				Advise("correct it, or take it out: 'grainkeep show DUMP' lists tables, and a mask is named TABLE.COLUMN")
		}
	}
	return nil
}

// ruleFor is the rule that means a column: one without wildcards before one with them.
func (s *Set) ruleFor(t *table, column string, used map[string]bool) (found Rule, err error) {
	for _, r := range s.rules {
		if !matches(r.Pattern, t, column) {
			continue
		}
		used[r.Pattern] = true
		switch exact := !phrase.HasPattern(r.Pattern); {
		case found.How == "", exact && phrase.HasPattern(found.Pattern):
			found = r
		case exact == !phrase.HasPattern(found.Pattern) && (r.How != found.How || r.Value != found.Value):
			return found, fault.Wrong("mask-twice", "both masks %q and %q mean the column %s, and say different things",
				found.Pattern, r.Pattern, t.shown(column)).Advise("name the column itself in one of its own: that counts before patterns")
		}
	}
	return found, nil
}

// matches says whether a pattern means a column.
func matches(pattern string, t *table, column string) bool {
	names := []string{t.Name, t.ID}
	if t.Schema != "" {
		names = append(names, t.Schema+"."+t.Name)
	}
	if t.Root != "" {
		_, last, _ := strings.Cut(t.Root, ".")
		names = append(names, t.Root, last)
	}
	return slices.ContainsFunc(names, func(n string) bool {
		return n != "" && (pattern == n+"."+column || phrase.Match(pattern, n+"."+column))
	})
}

// Masked lists the columns that are masked, each with what becomes of it.
func (s *Set) Masked() []string { return s.masked }

// Looks lists the columns that have no mask and look as if they needed one, each with the reason, sorted.
func (s *Set) Looks() (list []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, why := range s.looks {
		list = append(list, name+" "+why)
	}
	sort.Strings(list)
	return list
}

// Impossible is the code of errors that say why a column cannot be masked so.
const Impossible = "mask-impossible"

// impossible is the error about a mask that a column cannot have.
func impossible(t *table, c column, why string) *fault.Error {
	return fault.Wrong(Impossible, "the column %s cannot have the mask %q: %s", t.shown(c.name), c.how, why)
}

// maker says what becomes of a value; nil: it stays, or is shuffled.
func (s *Set) maker(t *table, c column, r Rule) (func(engine.Value) engine.Value, error) {
	if wide := c.def.Class == engine.Texts && wideCharset(c.def.Charset); wide && (r.How == Fixed || r.How == Hash || r.How == MadeUp) {
		return nil, impossible(t, c, "its texts are in "+c.def.Charset).Advise("take \"empty\" or \"shuffle\"")
	}
	switch r.How {
	case Shuffle:
		if t.Replayed {
			return nil, impossible(t, c, "the dump has single changes of its rows, from the server's log").
				Advise("take another mask, or refresh from a full with --at")
		}
	case Empty:
		v, ok := s.empty(c.def)
		if !ok {
			return nil, impossible(t, c, "it may not be NULL, and nothing is known of its type, "+c.def.Type).Advise("take {fixed = …}")
		}
		return func(engine.Value) engine.Value { return v }, nil
	case Fixed:
		v, err := s.fixed(t, c, r.Value)
		return func(was engine.Value) engine.Value {
			if was.Kind == engine.Null {
				return was
			}
			return v
		}, err
	case Hash, MadeUp:
		f := s.hash(c.def)
		if r.How == MadeUp {
			f = s.madeUp(c.def)
		}
		if f == nil {
			return nil, impossible(t, c, fmt.Sprintf("its type is %q", c.def.Type)).Advise("take \"empty\", \"shuffle\" or {fixed = …}")
		}
		return func(v engine.Value) engine.Value {
			if v.Kind == engine.Null {
				return v
			}
			return f(v)
		}, nil
	}
	return nil, nil
}

func wideCharset(name string) bool {
	return slices.Contains([]string{"ucs2", "utf16", "utf16le", "utf32"}, name)
}

// empty is the value that says nothing.
func (s *Set) empty(d engine.Column) (engine.Value, bool) {
	if !d.NotNull && d.Name != "" {
		return engine.Value{}, true
	}
	text, ok := map[engine.Class]string{engine.Integer: "0", engine.Decimal: "0", engine.Real: "0", engine.Boolean: "false",
		engine.Texts: "", engine.Binary: "", engine.Date: "1970-01-01", engine.UUID: "00000000-0000-0000-0000-000000000000",
		engine.Document: "{}"}[d.Class]
	return s.value(d, text), ok
}

// value writes a text as a value of a column.
func (s *Set) value(d engine.Column, text string) engine.Value {
	kind := engine.Text
	if !s.text.Copied {
		switch d.Class {
		case engine.Integer, engine.Decimal, engine.Real:
			kind = engine.Number
		case engine.Binary:
			kind = engine.Bytes
		}
	}
	return engine.Value{Kind: kind, Data: []byte(text)}
}

// fixed is the value that takes the place of all.
func (s *Set) fixed(t *table, c column, text string) (engine.Value, error) {
	v := s.value(c.def, text)
	switch c.def.Class {
	case engine.Integer, engine.Decimal, engine.Real:
		if !plainNumber([]byte(text)) {
			return v, impossible(t, c, fmt.Sprintf("%q is no number", text))
		}
	case engine.Texts:
		if n := len([]rune(text)); c.def.Limit > 0 && n > c.def.Limit {
			return v, impossible(t, c, fmt.Sprintf("%q has %d characters, and it takes %d", text, n, c.def.Limit))
		}
	case engine.Binary:
		if s.text.Copied {
			v.Data = fmt.Appendf(nil, `\x%x`, text)
		}
	}
	return v, nil
}

// plainNumber says whether a text is a decimal.
func plainNumber(text []byte) bool {
	text = bytes.TrimPrefix(text, []byte("-"))
	whole, part, dotted := bytes.Cut(text, []byte("."))
	digits := func(s []byte) bool {
		return len(s) > 0 && !slices.ContainsFunc(s, func(c byte) bool { return c < '0' || c > '9' })
	}
	return digits(whole) && (!dotted || digits(part))
}
