package mysql

import "strings"

// words is a definition of the same length in which whatever stands between quotes is
// blotted out: what is searched in it is the server's own word, and never a part of a
// name, a default or a comment that somebody wrote.
func words(sql string) string {
	b := []byte(sql)
	for i := 0; i < len(b); i++ {
		q := b[i]
		if q != '\'' && q != '`' && q != '"' {
			continue
		}
		for i++; i < len(b) && b[i] != q; i++ {
			if b[i] == '\\' && q != '`' && i+1 < len(b) {
				b[i] = '.'
				i++
			}
			b[i] = '.'
		}
	}
	return string(b)
}

// replaceWords replaces a text that begins outside all quotes.
func replaceWords(sql, old, with string) string {
	var b strings.Builder
	said := words(sql)
	for {
		at := strings.Index(sql, old)
		if at < 0 {
			return b.String() + sql
		}
		b.WriteString(sql[:at])
		if said[at] == old[0] {
			b.WriteString(with)
		} else {
			b.WriteString(old)
		}
		sql, said = sql[at+len(old):], said[at+len(old):]
	}
}
