package mask

import (
	"bytes"
	"io"
	"strings"
	"unicode"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

var (
	mailForm = pattern.Of(`^[^@\s<>"]{1,64}@[^@\s<>"]+\.[A-Za-z]{2,24}$`)
	cardForm = pattern.Of(`^[0-9](?:[ -]?[0-9]){12,18}$`)
	bankForm = pattern.Of(`^[A-Z]{2}[0-9]{2}(?: ?[A-Z0-9]){11,30}$`)
	dayForm  = pattern.Of(`^[0-9]{4}-[01][0-9]-[0-3][0-9](?:[ T]|$)`)
	homeForm = pattern.Of(`(?i)^(?:[0-9]+[a-z]? [\pL' ]*(?:street|road|lane|avenue|quay|way|drive|close|hill|brae|terrace)|` +
		`[\pL' ]*(?:street|road|lane|avenue|drive|terrace|straße|strasse|weg|gata|vej) [0-9]+)\b`)
)

func isMail(text []byte) bool { return bytes.IndexByte(text, '@') > 0 && mailForm().Match(text) }

func isCard(text []byte) bool { return cardForm().Match(text) && luhn(text) }

func startsWithDate(text []byte) bool { return dayForm().Match(text) }

// luhn says whether the digits of a text have the check digit that cards have (ISO/IEC 7812-1).
func luhn(text []byte) bool {
	sum, double := 0, false
	for i := len(text) - 1; i >= 0; i-- {
		d := int(text[i]) - '0'
		if d < 0 || d > 9 {
			continue
		}
		if double {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum, double = sum+d, !double
	}
	return sum%10 == 0
}

// isAccount says whether a text is a bank account's number (ISO 13616): its check digits fit.
func isAccount(text []byte) bool {
	if !bankForm().Match(text) {
		return false
	}
	text = bytes.ReplaceAll(text, []byte(" "), nil)
	rest := 0
	for _, c := range append(bytes.Clone(text[4:]), text[:4]...) {
		if c >= 'A' {
			rest = (rest*100 + int(c-'A') + 10) % 97
		} else {
			rest = (rest*10 + int(c-'0')) % 97
		}
	}
	return rest == 1
}

// nameWords are words of columns' names that say what is in them.
var nameWords = map[string]string{
	"mail": "a mail address", "email": "a mail address", "address": "an address", "addr": "an address", "street": "an address",
	"postcode": "an address", "zip": "an address", "card": "a card", "iban": "a bank account", "phone": "a telephone number",
	"mobile": "a telephone number", "telephone": "a telephone number", "birth": "a birthday", "birthday": "a birthday",
	"dob": "a birthday", "born": "a birthday", "surname": "a person's name", "lastname": "a person's name",
	"firstname": "a person's name", "forename": "a person's name", "passport": "a passport", "ssn": "a person's number",
	"password": "a password", "passwd": "a password", "token": "a password", "salary": "a salary",
}

// words cuts a column's name into words: at what is no letter, and where a capital follows a small letter.
func words(name string) []string {
	var b strings.Builder
	small := false
	for _, r := range name {
		if unicode.IsUpper(r) && small {
			b.WriteByte(' ')
		}
		small = unicode.IsLower(r)
		if !unicode.IsLetter(r) {
			r = ' '
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return strings.Fields(b.String())
}

// suspectName looks at the name of a column that has no mask.
func (s *Set) suspectName(t *table, c column) {
	if c.def.Class == engine.Boolean {
		return
	}
	list := words(c.name)
	for i, w := range list {
		what := nameWords[w]
		if what == "" && i > 0 {
			what = nameWords[list[i-1]+w]
		}
		if what != "" {
			s.looks[t.shown(c.name)] = "is named like " + what
			return
		}
	}
}

// Bounds of what is looked at of a table's rows.
const (
	lookedBytes = 256 << 10
	lookedRows  = 400
)

// look passes a text on, and looks at the values of its first rows.
func (s *Set) look(t *table, text io.Reader) io.Reader {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.looked[t.ID] {
		return text
	}
	s.looked[t.ID] = true
	head, err := io.ReadAll(io.LimitReader(text, lookedBytes))
	all := io.MultiReader(bytes.NewReader(head), text)
	if err != nil {
		all = io.MultiReader(bytes.NewReader(head), failing{err})
	}
	seen := make([]map[string]int, len(t.columns))
	values := make([]int, len(t.columns))
	rows, cutter := 0, s.text.Cutter()
	var row []engine.Value
	_ = s.text.EachRow(bytes.NewReader(head), func(line, _ []byte) error { // it ends in the middle of a row
		if rows++; rows > lookedRows {
			return io.EOF
		}
		if row, err = cutter.Cut(row[:0], line); err != nil || len(row) != len(t.columns) {
			return io.EOF
		}
		for i, v := range row {
			what := looksLike(v)
			if v.Kind != engine.Null && len(v.Data) > 0 {
				values[i]++
			}
			if what != "" {
				if seen[i] == nil {
					seen[i] = map[string]int{}
				}
				seen[i][what]++
			}
		}
		return nil
	}, func([]byte) error { return nil })
	for i, c := range t.columns {
		for what, n := range seen[i] {
			if c.how == "" && 2*n > values[i] {
				s.looks[t.shown(c.name)] = "has values like " + what
			}
		}
	}
	return all
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

func looksLike(v engine.Value) string {
	if v.Kind != engine.Text && v.Kind != engine.Number {
		return ""
	}
	switch {
	case isMail(v.Data):
		return "a mail address"
	case isCard(v.Data):
		return "a card"
	case v.Kind == engine.Number:
	case isAccount(v.Data):
		return "a bank account"
	case homeForm().Match(v.Data):
		return "an address"
	}
	return ""
}
