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

var (
	comment   = pattern.Of(`^(?:\s+|--[ \t][^\n]*(?:\n|$)|#[^\n]*(?:\n|$)|/\*[^!M].*?\*/|/\*M?![0-9]*)+`)
	firstWord = pattern.Of(`^[A-Za-z]+`)
	anyWord   = pattern.Of(`[A-Za-z_]+`)
)

// whatIsMade are the words for what a statement makes, alters or drops. Those after which the rows of tables may be
// others come first.
var withRows = []string{"TABLE", "TABLES", "INDEX", "DATABASE", "SCHEMA"}

var withoutRows = []string{"TEMPORARY", "VIEW", "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT", "USER", "ROLE", "SERVER",
	"SEQUENCE", "PACKAGE", "RESOURCE", "SPATIAL", "TABLESPACE", "LOGFILE", "INSTANCE", "UNDO", "LIBRARY"}

// logStatement says what a statement of the log does.
func logStatement(sql string) statementOf {
	rest := sql[len(comment().FindString(sql)):]
	word := strings.ToUpper(firstWord().FindString(rest))
	s := statementOf{word: word, text: strings.ToLower(sql)}
	upper := strings.ToUpper(rest[:min(len(rest), 64)])
	switch word {
	case "BEGIN", "START":
		s.does = begins
	case "COMMIT":
		s.does = commits
	case "ROLLBACK":
		if s.does = rollsBack; strings.Contains(upper, " TO ") {
			s.does = rollsBackTo
		}
	case "SAVEPOINT", "RELEASE":
		s.does = staysInside
	case "XA":
		switch {
		case strings.HasPrefix(upper, "XA COMMIT"):
			s.does = commitsPrepared
		case strings.HasPrefix(upper, "XA ROLLBACK"):
			s.does = nothing
		default:
			s.does = preparesLater
		}
	case "GRANT", "REVOKE", "FLUSH", "ANALYZE", "OPTIMIZE", "SET", "INSTALL", "UNINSTALL":
		s.does = nothing
	case "CREATE", "ALTER", "DROP":
		s.makes(rest)
	case "TRUNCATE", "RENAME", "REPAIR", "IMPORT":
		s.does = changesTables
		if strings.HasPrefix(upper, "RENAME USER") {
			s.does = nothing
		}
	default:
		s.does = changesRows
	}
	return s
}

// makes says what a statement does that makes, alters or drops something: the first word for a thing decides.
func (s *statementOf) makes(rest string) {
	s.does = changesTables
	for _, w := range anyWord().FindAllString(words(rest), -1) {
		w = strings.ToUpper(w)
		if slices.Contains(withRows, w) {
			s.word += " " + w
			return
		}
		if slices.Contains(withoutRows, w) && w != "SPATIAL" {
			s.does = nothing
			return
		}
	}
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
