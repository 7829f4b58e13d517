package ask

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// rowids are the names by which SQLite knows the number of a row that no column stands for.
var rowids = []string{"rowid", "_rowid_", "oid"}

// isRowid says whether a column is that number.
func isRowid(text engine.RowText, c engine.Column) bool {
	return sqliteText(text) && c.Type == "" && slices.Contains(rowids, c.Name)
}

// sqliteText says whether rows are SQLite's.
func sqliteText(text engine.RowText) bool { return !text.Copied && !text.Backslash }

func rowidClass(text engine.RowText, name string) engine.Class {
	if sqliteText(text) && slices.Contains(rowids, name) {
		return engine.Integer
	}
	return engine.Other
}

// quoted is a name as SQLite writes it.
func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// nameAll gives each table a name in the temporary database, its own where no other schema has it too, and makes it.
func (s *Session) nameAll(ctx context.Context) error {
	count := map[string]int{}
	for _, t := range s.tables {
		count[strings.ToLower(t.Name)]++
	}
	for _, t := range s.tables {
		if t.name = t.Name; count[strings.ToLower(t.Name)] > 1 && t.Schema != "public" && t.Schema != "" {
			t.name = t.Schema + "." + t.Name
		}
		if t.name == "" || strings.HasPrefix(strings.ToLower(t.name), "sqlite_") {
			t.name = "dumped_" + t.name
		}
		if s.byName[t.name] != nil {
			return fault.New("ask-impossible", nil, "two tables are called %s", t.name)
		}
		s.byName[t.name] = t
		if err := s.make(ctx, t); err != nil {
			return err
		}
	}
	return s.trees(ctx)
}

// trees makes views of partitioned tables, which are the rows of their partitions.
func (s *Session) trees(ctx context.Context) error {
	parts, roots := map[string][]*table{}, []string{}
	for _, t := range s.tables {
		if t.Tree == "" {
			continue
		}
		if parts[t.Tree] == nil {
			roots = append(roots, t.Tree)
		}
		parts[t.Tree] = append(parts[t.Tree], t)
	}
	for _, root := range roots {
		_, name, _ := strings.Cut(root, ".")
		name = plain(name)
		if name == "" || s.byName[name] != nil {
			continue
		}
		columns := make([]string, len(parts[root][0].Columns))
		for i, c := range parts[root][0].Columns {
			columns[i] = quoted(c)
		}
		var all []string
		for _, t := range parts[root] {
			all = append(all, "SELECT "+strings.Join(columns, ", ")+" FROM "+quoted(t.name))
		}
		if _, err := s.db.Exec(ctx, "CREATE VIEW "+quoted(name)+" AS "+strings.Join(all, " UNION ALL ")); err != nil {
			return err
		}
	}
	return nil
}

// types are those of the temporary database's columns, by what they hold.
var types = map[engine.Class]string{engine.Integer: " INTEGER", engine.Decimal: " NUMERIC", engine.Real: " REAL", engine.Boolean: " INTEGER",
	engine.Texts: " TEXT", engine.Date: " TEXT", engine.UUID: " TEXT", engine.Document: " TEXT"}

// make makes an empty table, in the place of the one that is there.
func (s *Session) make(ctx context.Context, t *table, more ...string) error {
	var list []string
	for _, c := range t.defined {
		switch {
		case isRowid(s.text, c):
		case sqliteText(s.text): // its values have their types
			one := quoted(c.Name) + " " + quoted(c.Type)
			if t.keyed() == 1 && c.Key == 1 && strings.EqualFold(c.Type, "INTEGER") { // the number of its row
				one = quoted(c.Name) + " INTEGER PRIMARY KEY"
			}
			list = append(list, one)
		case t.exactly(c):
			list = append(list, quoted(c.Name))
		default:
			list = append(list, quoted(c.Name)+types[c.Class])
		}
	}
	if len(list) == 0 {
		list = append(list, `"no column" INTEGER`)
	}
	t.columns, t.filter = nil, ""
	_, err := s.db.Exec(ctx, "DROP TABLE IF EXISTS "+quoted(t.name)+"; CREATE TABLE "+quoted(t.name)+" ("+
		strings.Join(append(list, more...), ", ")+")")
	return roomier(err)
}

// keyed is how many columns the primary key has.
func (t *table) keyed() (n int) {
	for _, c := range t.defined {
		n = max(n, c.Key)
	}
	return n
}

// token is a word, a name, a number, a text or a sign of a question.
var token = pattern.Of(`(?s)'(?:[^']|'')*'|"(?:[^"]|"")*"|` + "`(?:[^`]|``)*`" + `|\[[^\]]*\]|--[^\n]*|/\*.*?\*/|[\pL_][\pL\pN_$]*|` +
	`[0-9][0-9A-Za-z.]*|<=|>=|<>|!=|==|\|\||\s+|.`)

// Questions cuts a text into its questions, at the semicolons between them.
func Questions(text string) (list []string) {
	var b strings.Builder
	for _, w := range append(token().FindAllString(text, -1), ";") {
		if w != ";" {
			b.WriteString(w)
			continue
		}
		if one := strings.TrimSpace(b.String()); one != "" {
			list = append(list, one)
		}
		b.Reset()
	}
	return list
}

// plain is a name without its quotes.
func plain(name string) string {
	if len(name) > 1 && strings.Contains("\"`[", name[:1]) {
		q := name[:1]
		return strings.ReplaceAll(name[1:len(name)-1], q+q, q)
	}
	return name
}

// unqualify names tables as the temporary database does, where a question names them with their schema.
func (s *Session) unqualify(sql string) string {
	words := token().FindAllString(sql, -1)
	var b strings.Builder
	for i := 0; i < len(words); i++ {
		if i+2 < len(words) && words[i+1] == "." {
			at := slices.IndexFunc(s.tables, func(t *table) bool {
				return t.Schema != "" && strings.EqualFold(t.Schema, plain(words[i])) && strings.EqualFold(t.Name, plain(words[i+2]))
			})
			if at >= 0 {
				b.WriteString(quoted(s.tables[at].name))
				i += 2
				continue
			}
		}
		b.WriteString(words[i])
	}
	return b.String()
}

var noTable = pattern.Of(`no such table: (\S+)`)

// explained says which tables there are, where a question names one that is not.
func (s *Session) explained(sql string, err error) error {
	f, is := err.(*fault.Error)
	if !is {
		return err
	}
	m := noTable().FindStringSubmatch(f.Error())
	if m == nil && strings.Contains(f.Error(), "no such column") {
		var known []string
		words := token().FindAllString(sql, -1)
		for _, t := range s.tables {
			if slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(plain(w), t.name) }) {
				known = append(known, t.name+" has "+strings.Join(t.Columns, ", "))
			}
		}
		return f.Advise("%s", strings.Join(known, "; "))
	}
	if m == nil {
		return f.Advise("questions are SQL of SQLite, on the tables of the dump")
	}
	for _, o := range s.objects {
		if name := strings.Trim(o.Name, "`"); strings.HasSuffix(o.Kind, "view") && (name == m[1] || strings.HasSuffix(name, "."+m[1])) {
			return f.Advise("%s is a view, which only the server can open: ask its tables", m[1])
		}
	}
	var names []string
	for _, t := range s.tables {
		if names = append(names, t.name); len(names) == shownNames {
			names = append(names, fmt.Sprintf("and %d more", len(s.tables)-shownNames))
			break
		}
	}
	return f.Advise("the dump has %s", strings.Join(names, ", "))
}

// shownNames is how many tables an error names.
const shownNames = 12
