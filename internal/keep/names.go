package keep

import (
	"crypto/sha256"
	"encoding/hex"
	"net"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// maxName is the longest escaped name; file systems allow 255 bytes, and endings
// need room.
const maxName = 200

// EscapeName makes a file name of any literal name: small letters, digits, "-",
// "_" and "." stand for themselves, every other byte becomes %xx. The result is
// the same on file systems that fold case or normalise letters, never hidden,
// and never begins with "+". A result that would be too long is cut and ends in
// "~" and a digest; the manifest holds the name itself.
func EscapeName(name string) string {
	var b strings.Builder
	for i := range len(name) {
		c := name[i]
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '_', c == '-' && i > 0, c == '.' && i > 0 &&
			i < len(name)-1:
			b.WriteByte(c)
		default:
			b.WriteByte('%')
			b.WriteString(hex.EncodeToString([]byte{c}))
		}
	}
	s := b.String()
	if s == "" {
		return "%"
	}
	if len(s) > maxName {
		sum := sha256.Sum256([]byte(name))
		s = s[:maxName-17] + "~" + hex.EncodeToString(sum[:8])
	}
	return s
}

// DatabaseFolder is the folder of a database's dumps within its job.
func DatabaseFolder(name string) string {
	if name == engine.ServerWide {
		return name
	}
	for _, start := range []string{manifest.FilesStart, manifest.StreamStart} {
		if rest, ok := strings.CutPrefix(name, start); ok {
			return start + EscapeName(rest)
		}
	}
	return EscapeName(name)
}

// TableFolder is the folder of a table's rows within a dump.
func TableFolder(schema, name string) string {
	if schema == "" {
		return EscapeName(name)
	}
	dot := func(s string) string { return strings.ReplaceAll(EscapeName(s), ".", "%2e") }
	s := dot(schema) + "." + dot(name)
	if len(s) > maxName+20 {
		return EscapeName(schema + "." + name)
	}
	return s
}

// DumpFolder is the name of a dump's folder: by default its moment in UTC and its kind.
func DumpFolder(m *manifest.Manifest, name phrase.FolderName) string {
	host, _, err := net.SplitHostPort(m.Source.Where)
	if err != nil {
		host = m.Source.Where
	}
	s := name.For(phrase.Named{Source: m.Source.Name, Host: host, Database: m.Database, Kind: string(m.Kind),
		Note:   m.Note,
		Moment: m.Moment}, EscapeName)
	return s[:min(len(s), maxName)]
}

// IsJob says whether a folder may be a job's.
func IsJob(name string) bool { return phrase.IsJob(name) }
