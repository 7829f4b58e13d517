package mysql

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/pattern"

	"golang.org/x/text/encoding/charmap"
)

// MySQL shows a text in another character set than its own as question marks where it shows
// a table. Its information tables have the text, byte by byte as if each were a character of
// latin1. So it is written as bytes.

var (
	shownText  = pattern.Of(`_(\w+)'((?:[^'\\]|\\.|'')*)'`)
	listedText = pattern.Of(`(?s)_(\w+)\\'((?:[^\\]|\\[^'])*?)\\'`)
)

// texts restores the texts in the parts of a table's definition that hold expressions.
func (r *catalogReader) texts(ctx context.Context, t *table) error {
	if r.s.maria || !strings.Contains(strings.Join(t.inside, "")+strings.Join(t.keys, ""), "?") {
		return nil
	}
	at := " WHERE table_schema = database() AND table_name = " + literal(t.name)
	rows, err := r.c.rows(ctx, "SELECT concat('`', replace(column_name, '`', '``'), '`'), "+
		"concat(coalesce(column_default, ''), coalesce(generation_expression, '')) FROM information_schema.columns"+at+
		" UNION ALL SELECT concat('KEY `', replace(index_name, '`', '``'), '`'), group_concat(expression ORDER BY "+
		"seq_in_index SEPARATOR ' ') FROM information_schema.statistics"+at+" GROUP BY index_name"+
		" UNION ALL SELECT concat('CONSTRAINT `', replace(constraint_name, '`', '``'), '`'), check_clause FROM "+
		"information_schema.check_constraints JOIN information_schema.table_constraints USING (constraint_schema, "+
		"constraint_name)"+at)
	if err != nil {
		return err
	}
	known := map[string]string{}
	for _, row := range rows {
		known[row[0]] = row[1]
	}
	for _, list := range [][]string{t.inside, t.keys} {
		for i, item := range list {
			head := quoted().FindStringIndex(item)
			if head == nil {
				continue
			}
			name := strings.TrimPrefix(item[:head[1]], "UNIQUE ")
			fixed, ok := withTexts(item, known[name])
			if !ok {
				r.warns = append(r.warns, fmt.Sprintf("the server shows a text in the definition of %s.%s as question marks, "+
					"and it could not be found elsewhere", t.name, name))
			}
			list[i] = fixed
		}
	}
	return nil
}

// withTexts puts the texts that the information tables list in the place of those that are
// shown with question marks; both have them in the same order.
func withTexts(item, listed string) (fixed string, ok bool) {
	shown := shownText().FindAllStringSubmatchIndex(item, -1)
	if !strings.Contains(item, "?") || len(shown) == 0 {
		return item, true
	}
	texts := listedText().FindAllStringSubmatch(listed, -1)
	var b strings.Builder
	last := 0
	for i, m := range shown {
		if charset := item[m[2]:m[3]]; !strings.Contains(item[m[4]:m[5]], "?") || strings.HasPrefix(charset, "utf8") {
			continue
		}
		if len(texts) != len(shown) {
			return item, false
		}
		b.WriteString(item[last:m[0]] + fmt.Sprintf("_%s x'%x'", texts[i][1], bytesOf(texts[i][2])))
		last = m[1]
	}
	return b.String() + item[last:], true
}

// bytesOf gives the bytes that were taken for characters of latin1, as this server has it.
func bytesOf(text string) (raw []byte) {
	for _, c := range text {
		b, known := charmap.Windows1252.EncodeRune(c)
		if !known {
			b = byte(c)
		}
		raw = append(raw, b)
	}
	return raw
}
