package phrase

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/pattern"
)

// FolderName is how the folders of a job's dumps are named: text with placeholders.
type FolderName struct{ text string }

// The placeholders of a folder's name. Date and time are UTC.
var folderParts = []string{"source", "host", "database", "kind", "date", "time", "stamp", "note"}

var placeholder = pattern.Of(`\{[^{}]*\}`)

// DefaultFolderName is that of a job which says nothing of it.
var DefaultFolderName = FolderName{"{stamp}-{kind}"}

// ParseFolderName reads how folders are named; empty: as by default. The names must be unique, and sort by time.
func ParseFolderName(text string) (FolderName, error) {
	if text == "" {
		return DefaultFolderName, nil
	}
	for _, p := range placeholder().FindAllString(text, -1) {
		if !slices.Contains(folderParts, strings.Trim(p, "{}")) {
			return FolderName{}, fmt.Errorf("there is no placeholder %s; there are: %s", p, strings.Join(folderParts,
				", "))
		}
	}
	plain := placeholder().ReplaceAllString(text, "")
	if i := strings.IndexFunc(plain, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && !strings.ContainsRune("-_.", r)
	}); i >= 0 {
		return FolderName{}, fmt.Errorf("%q cannot stand in the name of a folder: use small letters, digits, points, - and _", plain[i:])
	}
	at := strings.Index(text, "{stamp}")
	if at < 0 {
		if at = strings.Index(text, "{date}-{time}"); at < 0 {
			return FolderName{}, fmt.Errorf("%q gives two dumps the same name: it needs {stamp}, or {date}-{time}",
				text)
		}
	}
	before := text[:at]
	for _, p := range []string{"{kind}", "{note}"} {
		if strings.Contains(before, p) {
			return FolderName{}, fmt.Errorf("%q does not sort by time: put %s after the time", text, p)
		}
	}
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "-") {
		return FolderName{}, fmt.Errorf("%q begins with %q", text, text[:1])
	}
	if strings.IndexFunc(before, func(r rune) bool { return r >= '0' && r <= '9' }) >= 0 {
		return FolderName{}, fmt.Errorf("%q has digits before the time, which would be taken for one", text)
	}
	return FolderName{text}, nil
}

// Named is what a folder is named by. The texts are taken as they are: whoever makes a folder escapes them.
type Named struct {
	Source, Host, Database, Kind, Note string
	Moment                             time.Time
}

// For gives the name for a dump, with each text escaped by a function.
func (n FolderName) For(d Named, escape func(string) string) string {
	if n.text == "" {
		n = DefaultFolderName
	}
	at := d.Moment.UTC()
	values := map[string]string{"source": escape(d.Source), "host": escape(d.Host), "database": escape(d.Database),
		"kind": d.Kind,
		"note": escape(d.Note), "date": at.Format("20060102"), "time": at.Format("150405"),
		"stamp": at.Format("20060102T150405Z")}
	if d.Note == "" {
		values["note"] = "" // nothing is a note too
	}
	return strings.TrimRight(placeholder().ReplaceAllStringFunc(n.text,
		func(p string) string { return values[strings.Trim(p, "{}")] }), "-_.")
}

// folderTime is the time in a folder's name.
var folderTime = pattern.Of(`(\d{8})[T-](\d{6})Z?`)

// FolderTime reads the time out of a folder's name; false: it has none.
func FolderTime(name string) (time.Time, bool) {
	all := folderTime().FindAllStringSubmatch(name, -1)
	if len(all) != 1 { // of several, nobody knows which it is
		return time.Time{}, false
	}
	t, err := time.Parse("20060102150405", all[0][1]+all[0][2])
	return t, err == nil
}
