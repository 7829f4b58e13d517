package ask

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// filter are conditions that a question puts on all rows of its one table: those that are seen, which need not be all.
type filter struct {
	words string // as the question has them
	conds []condition
	at    []int // the columns that they are about
}

// condition compares a column with literals.
type condition struct {
	column   string
	operator string // =, <>, <, <=, >, >=
	with     engine.Cell
}

func (f *filter) empty() bool { return len(f.conds) == 0 }

// place finds the columns of the conditions. One of a column that is not there does not count.
func (f *filter) place(columns []string) {
	var known []condition
	for _, c := range f.conds {
		at := slices.IndexFunc(columns, func(n string) bool { return strings.EqualFold(n, c.column) })
		if at >= 0 {
			known, f.at = append(known, c), append(f.at, at)
		}
	}
	f.conds = known
}

// passes says whether a row may be in the answer.
func (f *filter) passes(text engine.RowText, t *table, row []engine.Value) bool {
	for i, c := range f.conds {
		at := f.at[i]
		class := t.defined[at].Class
		if class != engine.Integer && c.with.Kind == engine.IntCell || class != engine.Texts && c.with.Kind == engine.TextCell {
			continue // how those compare is for SQLite to say
		}
		if !c.holds(cell(text, &t.defined[at], row[at])) {
			return false
		}
	}
	return true
}

func (c *condition) holds(x engine.Cell) bool {
	if x.Kind == engine.NullCell {
		return false
	}
	if x.Kind != c.with.Kind {
		return true
	}
	order := cmp.Compare(x.Int, c.with.Int)
	if x.Kind == engine.TextCell {
		order = bytes.Compare(x.Data, c.with.Data)
	}
	switch c.operator {
	case "=", "==":
		return order == 0
	case "<>", "!=":
		return order != 0
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order >= 0
}

// ends are the words that end the conditions of a question.
var ends = []string{"GROUP", "ORDER", "LIMIT", "HAVING", "WINDOW", ";"}

// seen finds the conditions that a question puts on its one table: what stands between ANDs after the only WHERE of the
// only SELECT, and compares a column with a literal. Whatever is more than that is left to SQLite.
func seen(sql string) map[string]filter {
	var words []string
	for _, w := range token().FindAllString(sql, -1) {
		if strings.TrimSpace(w) != "" && !strings.HasPrefix(w, "--") && !strings.HasPrefix(w, "/*") {
			words = append(words, w)
		}
	}
	is := func(i int, word string) bool { return i < len(words) && strings.EqualFold(words[i], word) }
	count := func(word string) (n int) {
		for i := range words {
			if is(i, word) {
				n++
			}
		}
		return n
	}
	from := slices.IndexFunc(words, func(w string) bool { return strings.EqualFold(w, "FROM") })
	where := slices.IndexFunc(words, func(w string) bool { return strings.EqualFold(w, "WHERE") })
	if count("SELECT") != 1 || count("FROM") != 1 || count("WHERE") != 1 || count("FILTER") > 0 || where < from+2 || where > from+4 ||
		slices.Contains(words[from:where], ",") {
		return nil
	}
	f := filter{}
	rest := words[where+1:]
	depth, start := 0, 0
	for i := 0; i <= len(rest); i++ {
		end := i == len(rest) || depth == 0 && slices.ContainsFunc(ends, func(e string) bool { return strings.EqualFold(e, rest[i]) })
		if end || depth == 0 && strings.EqualFold(rest[i], "AND") {
			if c, ok := compared(rest[start:i]); ok {
				f.conds = append(f.conds, c)
			}
			start = i + 1
		}
		switch {
		case end:
			f.words = strings.Join(rest[:i], " ")
			if len(f.conds) == 0 {
				return nil
			}
			return map[string]filter{plain(words[from+1]): f}
		case strings.EqualFold(rest[i], "OR") && depth == 0, strings.EqualFold(rest[i], "BETWEEN"), strings.EqualFold(rest[i], "CASE"):
			return nil
		case rest[i] == "(":
			depth++
		case rest[i] == ")":
			depth--
		}
	}
	return nil
}

// compared reads "column operator literal".
func compared(words []string) (c condition, ok bool) {
	if len(words) == 5 && words[1] == "." { // the table, or what it is called
		words = words[2:]
	}
	if len(words) != 3 || !slices.Contains([]string{"=", "==", "<>", "!=", "<", "<=", ">", ">="}, words[1]) {
		return c, false
	}
	c = condition{column: plain(words[0]), operator: words[1]}
	switch literal := words[2]; {
	case literal[0] == '\'':
		c.with = engine.Cell{Kind: engine.TextCell, Data: []byte(strings.ReplaceAll(literal[1:len(literal)-1], "''", "'"))}
	default:
		n, err := strconv.ParseInt(literal, 10, 64)
		if err != nil {
			return c, false
		}
		c.with = engine.Cell{Kind: engine.IntCell, Int: n}
	}
	return c, words[0][0] != '\'' && (words[0][0] < '0' || words[0][0] > '9')
}
