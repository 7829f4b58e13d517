package mysql

import (
	"slices"
	"strings"
	"unicode/utf8"

	"grainkeep/internal/pattern"
)

// does is what a statement of the log does, as far as it matters.
type does int

const (
	nothing         does = iota // to the rows of tables
	begins                      // a transaction
	commits                     // it
	rollsBack                   // it
	rollsBackTo                 // a savepoint
	staysInside                 // of the transaction
	preparesLater               // it belongs to a transaction that is prepared
	commitsPrepared             // one that was prepared before
	changesRows                 // of any table
	changesTables               // those that it names, and what is in them
)

// statementOf is a statement of the log.
type statementOf struct {
	does does
	word string // its first words
	text string // in small letters
}

// token is a word or a sign of a statement, outside of what stands in quotes.
var token = pattern.Of(`[A-Za-z_][A-Za-z0-9_$]*|[^\s.]`)

// harmless are the words for what can be made, altered and dropped without a change in the rows of a table that is
// dumped. Everything else after CREATE, ALTER or DROP counts as a table.
var harmless = []string{"VIEW", "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT", "USER", "ROLE", "SERVER", "SEQUENCE", "PACKAGE",
	"RESOURCE", "TABLESPACE", "INSTANCE", "LIBRARY"}

// modifiers stand between such a word and the thing. Those of the second list have a value.
var modifiers, valued = []string{"OR", "REPLACE", "ONLINE", "OFFLINE", "IGNORE", "AGGREGATE", "UNDO", "LOGFILE", "UNIQUE",
	"FULLTEXT", "SPATIAL"}, []string{"ALGORITHM", "SQL"}

// logStatement says what a statement of the log does. What is not known to be harmless counts: as a change of the tables
// that it names, or of all, where that cannot be said.
func logStatement(sql string) statementOf {
	s := statementOf{text: strings.ToLower(sql)}
	read := func(versions bool) statementOf {
		return s.of(token().FindAllString(strings.ToUpper(withoutComments(sql, versions)), -1))
	}
	with, without := read(true), read(false)
	if with.does != without.does { // which of them the server meant depends on its version
		with.does = changesRows
	}
	return with
}

// of says what a statement of these words does.
func (s statementOf) of(said []string) statementOf {
	at := func(i int) string {
		if i >= 0 && i < len(said) {
			return said[i]
		}
		return ""
	}
	for at(len(said)-1) == ";" {
		said = said[:len(said)-1]
	}
	s.word, s.does = at(0), changesRows
	switch s.word {
	case "BEGIN", "COMMIT":
		if len(said) == 1 || len(said) == 2 && at(1) == "WORK" { // BEGIN NOT ATOMIC begins anything
			s.does = map[string]does{"BEGIN": begins, "COMMIT": commits}[s.word]
		}
	case "START":
		if at(1) == "TRANSACTION" {
			s.does = begins
		}
	case "ROLLBACK":
		if s.does = rollsBack; slices.Contains(said, "TO") {
			s.does = rollsBackTo
		}
	case "SAVEPOINT", "RELEASE":
		s.does = staysInside
	case "XA":
		switch at(1) {
		case "COMMIT":
			s.does = commitsPrepared
		case "ROLLBACK":
			s.does = nothing
		case "START", "BEGIN", "END", "PREPARE":
			s.does = preparesLater
		}
	case "GRANT", "REVOKE", "FLUSH", "INSTALL", "UNINSTALL":
		s.does = nothing
	case "ANALYZE", "OPTIMIZE":
		i := 1
		if at(i) == "LOCAL" || at(i) == "NO_WRITE_TO_BINLOG" {
			i++
		}
		if at(i) == "TABLE" || at(i) == "TABLES" { // ANALYZE UPDATE runs the update
			s.does = nothing
		}
	case "SET":
		return s.set(said)
	case "CREATE", "ALTER", "DROP":
		s.makes(said)
	case "RENAME":
		if s.does = changesTables; at(1) == "USER" {
			s.does = nothing
		}
	case "TRUNCATE", "REPAIR", "IMPORT":
		s.does = changesTables
	}
	return s
}

// set says what SET does: SET STATEMENT goes on with any other.
func (s statementOf) set(said []string) statementOf {
	if len(said) < 2 {
		return s
	}
	switch said[1] {
	case "PASSWORD", "DEFAULT", "ROLE", "RESOURCE":
		s.does = nothing
	case "STATEMENT":
		if i := slices.Index(said, "FOR"); i > 0 {
			return s.of(said[i+1:])
		}
	}
	return s
}

// makes says what a statement does that makes, alters or drops something.
func (s *statementOf) makes(said []string) {
	s.does = changesTables
	for i := 1; i < len(said); i++ {
		w := said[i]
		switch {
		case slices.Contains(modifiers, w):
		case slices.Contains(valued, w):
			i += 2 // ALGORITHM = x, SQL SECURITY x
		case w == "TEMPORARY", w == "DEFINER", slices.Contains(harmless, w): // tables have no definer
			s.does = nothing
			return
		default:
			s.word += " " + w
			return
		}
	}
}

// withoutComments leaves the statement's own words, and of comments for versions what is in them, or nothing. Of what
// stands in quotes a dot is left.
func withoutComments(sql string, versions bool) string {
	var out strings.Builder
	versioned := 0
	for len(sql) > 0 {
		skip := 1
		switch c := sql[0]; {
		case c == '\'' || c == '"' || c == '`':
			skip = quotedLength(sql)
			out.WriteByte('.')
		case versions && versionedComment().MatchString(sql):
			skip = len(versionedComment().FindString(sql))
			versioned++
			out.WriteByte(' ')
		case versioned > 0 && strings.HasPrefix(sql, "*/"):
			versioned--
			skip = 2
			out.WriteByte(' ')
		case strings.HasPrefix(sql, "/*"):
			skip = through(sql, 2, "*/")
			out.WriteByte(' ')
		case c == '#', strings.HasPrefix(sql, "--") && (len(sql) == 2 || sql[2] <= ' '):
			skip = through(sql, 1, "\n")
			out.WriteByte(' ')
		default:
			out.WriteByte(c)
		}
		sql = sql[skip:]
	}
	return out.String()
}

// versionedComment begins a comment that a server of some version reads.
var versionedComment = pattern.Of(`^/\*M?![0-9]*`)

// through is the length up to and with an end that is searched from a place on, or of all.
func through(sql string, from int, end string) int {
	at := strings.Index(sql[from:], end)
	if at < 0 {
		return len(sql)
	}
	return from + at + len(end)
}

// quotedLength is the length of what stands in quotes at the beginning of a statement, with them.
func quotedLength[T string | []byte](sql T) int {
	for i := 1; i < len(sql); i++ {
		switch {
		case sql[i] == '\\' && sql[0] != '`':
			i++
		case sql[i] == sql[0]:
			return i + 1
		}
	}
	return len(sql)
}

// mayMean says whether a statement of a session in some database may mean a table: whether its name, or that of the
// database where that is what the statement makes or drops, stands anywhere in it.
func (s *statementOf) mayMean(session, database, table string) bool {
	if session != database && !s.names(database) {
		return false
	}
	return strings.HasSuffix(s.word, "DATABASE") || strings.HasSuffix(s.word, "SCHEMA") || s.names(table)
}

// names says whether a name may stand anywhere in a statement. The quotes and the character set of the statement's
// client are not known for sure.
func (s *statementOf) names(table string) bool {
	if strings.ContainsAny(table, "`\"'\\") {
		return true
	}
	if strings.ContainsFunc(table, func(c rune) bool { return c >= utf8.RuneSelf }) {
		return strings.ContainsFunc(s.text, func(c rune) bool { return c >= utf8.RuneSelf })
	}
	name := strings.ToLower(table)
	for at := 0; ; {
		i := strings.Index(s.text[at:], name)
		if i < 0 {
			return false
		}
		i += at
		if !partOfName(s.text, i-1) && !partOfName(s.text, i+len(name)) {
			return true
		}
		at = i + 1
	}
}

// partOfName says whether a byte of a text may go on with a name that stands beside it.
func partOfName(text string, at int) bool {
	if at < 0 || at >= len(text) {
		return false
	}
	c := text[at]
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= utf8.RuneSelf
}
