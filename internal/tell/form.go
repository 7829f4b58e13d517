package tell

import (
	"bytes"
	"crypto/rand"
	_ "embed"
	"encoding/hex"
	"html/template"
	"os"
	"strings"
	"unicode/utf8"
)

//go:embed mail.html
var mailHTML string

var mailPage = template.Must(template.New("mail").Parse(mailHTML))

// HTML is the message as a page; everything that comes from outside is escaped.
func (m Message) HTML() (string, error) {
	var b bytes.Buffer
	err := mailPage.Execute(&b, m)
	return b.String(), err
}

// Text is the message as plain text, with the columns of its table aligned.
func (m Message) Text() string {
	var b strings.Builder
	b.WriteString(m.Title + "\n\n")
	for _, l := range m.Lines {
		b.WriteString(l + "\n")
	}
	if m.Table != nil {
		if len(m.Lines) > 0 {
			b.WriteString("\n")
		}
		rows := append([][]string{m.Table.Header}, m.Table.Rows...)
		widths := make([]int, len(m.Table.Header))
		for _, r := range rows {
			for i, c := range r {
				widths[i] = max(widths[i], utf8.RuneCountInString(c))
			}
		}
		for _, r := range rows {
			line := ""
			for i, c := range r {
				line += c + strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c)+2)
			}
			b.WriteString(strings.TrimRight(line, " ") + "\n")
		}
	}
	b.WriteString("\n-- \nGrain Keep on " + m.Host + "\n")
	return b.String()
}

// subject is the title as the subject of a mail.
func (m Message) subject() string { return "[grainkeep] " + m.Title }

func newID() string {
	var id [12]byte
	rand.Read(id[:])
	return hex.EncodeToString(id[:])
}

func hostName() string {
	name, err := os.Hostname()
	if err != nil {
		return "an unnamed machine"
	}
	return name
}
