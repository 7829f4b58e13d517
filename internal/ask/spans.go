package ask

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
	"grainkeep/internal/payload"
)

// remove removes the rows that a dump of changes removes.
func (s *Session) remove(ctx context.Context, t *table, x payload.Layer) error {
	var went int64
	for _, path := range x.Table.Gone {
		err := s.file(ctx, x.Files, path, func(ctx context.Context, text io.Reader) error {
			n, err := engine.Removals(text, func(sql []byte) (int64, error) { return s.removeSpan(ctx, t, sql) }, nil)
			went += n
			return err
		})
		if err != nil {
			return err
		}
	}
	if x.Table.Counts != nil && went != x.Table.Counts.Removed && len(x.Table.Gone) > 0 {
		return fault.New("rows-missing", nil, "%d rows of %s went, and %d were to go", went, t.ID, x.Table.Counts.Removed)
	}
	return nil
}

// removeSpan removes the rows of a span of a key.
func (s *Session) removeSpan(ctx context.Context, t *table, sql []byte) (int64, error) {
	_, where, _ := strings.Cut(string(sql[strings.LastIndex(string(sql), "DELETE FROM "):]), t.ID+" WHERE ")
	p := &spans{s: s, t: t, rest: where}
	condition, err := p.either()
	if err == nil && p.rest != "" {
		err = errNoSpan
	}
	if err != nil {
		return 0, orderUnknown(t, where, err)
	}
	return s.db.Exec(ctx, "DELETE FROM "+quoted(t.name)+" WHERE "+condition, p.with...)
}

func orderUnknown(t *table, where string, cause error) error {
	return fault.New("ask-impossible", cause, "rows of %s were replaced in a span of its key whose order only the server knows: %.80q", t.name,
		where).Advise("ask the full that the chain begins with (--at), or restore the dump")
}

var errNoSpan = errors.New("it is not understood")

// spans reads the condition of a span, in the form of each engine, and writes it in SQLite's.
type spans struct {
	s    *Session
	t    *table
	rest string
	with []engine.Cell
}

func (p *spans) take(text string) bool {
	rest, is := strings.CutPrefix(p.rest, text)
	if is {
		p.rest = rest
	}
	return is
}

// either is one or more conditions with ORs between them.
func (p *spans) either() (string, error) {
	return p.list(" OR ", func() (string, error) { return p.list(" AND ", p.one) })
}

func (p *spans) list(between string, part func() (string, error)) (string, error) {
	var all []string
	for {
		sql, err := part()
		if err != nil {
			return "", err
		}
		if all = append(all, sql); !p.take(between) {
			return strings.Join(all, between), nil
		}
	}
}

var comparison = pattern.Of(`^ ?(<=|>=|<|>|=) ?`)

// one is a comparison of one or more columns, or conditions in parentheses.
func (p *spans) one() (string, error) {
	was := p.rest
	if p.take("true") {
		return "true", nil
	}
	columns, several := p.columns()
	m := comparison().FindStringSubmatch(p.rest)
	if columns == nil || m == nil {
		if p.rest = was; !p.take("(") {
			return "", errNoSpan
		}
		sql, err := p.either()
		if err == nil && !p.take(")") {
			err = errNoSpan
		}
		return "(" + sql + ")", err
	}
	p.rest = p.rest[len(m[0]):]
	if several && !p.take("(") {
		return "", errNoSpan
	}
	var names, marks []string
	for i, at := range columns {
		if i > 0 && !p.take(", ") && !p.take(",") {
			return "", errNoSpan
		}
		if err := p.value(at); err != nil {
			return "", err
		}
		names, marks = append(names, quoted(p.t.Columns[at])), append(marks, "?")
	}
	if several && !p.take(")") {
		return "", errNoSpan
	}
	return "(" + strings.Join(names, ", ") + ") " + m[1] + " (" + strings.Join(marks, ", ") + ")", nil
}

// columns are the columns on the left of a comparison, by their places in a row; nil: there are none.
func (p *spans) columns() (list []int, several bool) {
	several = p.take("(")
	for {
		at := p.column()
		if at < 0 {
			return nil, several
		}
		p.take(` COLLATE "C"`)
		list = append(list, at)
		switch {
		case several && (p.take(", ") || p.take(",")):
		case several && !p.take(")"):
			return nil, several
		default:
			return list, several
		}
	}
}

// column is the place of the column that is named next; -1: none is.
func (p *spans) column() int {
	name := spanName().FindString(p.rest)
	at := slices.Index(p.t.Columns, plain(name))
	if name == "" || at < 0 {
		return -1
	}
	p.rest = p.rest[len(name):]
	return at
}

var spanName = pattern.Of("^(?:\"(?:[^\"]|\"\")*\"|`(?:[^`]|``)*`|[\\pL_][\\pL\\pN_$]*)")

// value takes the value of a column. Texts compare here by their bytes, so they must do so on the server.
func (p *spans) value(at int) error {
	if p.s.text.Backslash && p.t.defined[at].Class == engine.Texts && !strings.Contains(p.rest, "_bin") {
		return fmt.Errorf("texts of %s compare by a collation", p.t.Columns[at])
	}
	p.take("+") // before what SQLite casts
	n, rest, err := p.s.text.Cutter().Valued([]byte(p.rest))
	if err != nil {
		return err
	}
	p.rest = string(rest)
	c, err := p.t.cell(p.s.text, at, n.Value)
	c.Data = []byte(string(c.Data))
	p.with = append(p.with, c)
	return err
}
