// Package manifest is the record that a dump carries about itself. A dump exists
// when its manifest exists. The format is documented in docs/format.md.
package manifest

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Names of the files beside the data.
const (
	Name      = "manifest.json"
	Sums      = "SHA256SUMS"
	Readme    = "README.txt"
	ObjectsOf = "objects.json"
	CountSQL  = "row-counts.sql"
	CountText = "row-counts.txt"
)

// Version is the version of the format that this program writes.
const Version = 1

// Kind says what a dump builds on.
type Kind string

// Full is a dump that builds on nothing.
const Full Kind = "full"

// Run is the execution of a job that a dump came from.
type Run struct {
	ID        string    `json:"id"`
	Databases []string  `json:"databases"` // all that the run set out to dump
	Started   time.Time `json:"started"`
}

// Source is where the data came from.
type Source struct {
	Name    string `json:"name,omitempty"`
	Engine  string `json:"engine"`
	Where   string `json:"where"` // server or file, no secrets
	Product string `json:"product"`
	Version string `json:"version"`
	User    string `json:"user,omitempty"`
}

// Table is a dumped table.
type Table struct {
	ID      string   `json:"id"`
	Schema  string   `json:"schema,omitempty"`
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
	Sum     string   `json:"sum"`
	Bytes   int64    `json:"bytes"` // text of the rows

	Condition string   `json:"condition,omitempty"` // the dump has only those rows
	Tree      string   `json:"tree,omitempty"`      // the partitioned table at the top, of a partition
	Through   string   `json:"through,omitempty"`   // the same, where rows are loaded through it
	Files     []string `json:"files"`
}

// Has says whether the dump has a file of a section.
func (m *Manifest) Has(section string) bool {
	return slices.ContainsFunc(m.Files, func(f File) bool { return strings.HasPrefix(f.Path, section+".") })
}

// File is a file of the dump.
type File struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	Raw    int64  `json:"raw_bytes,omitempty"` // before compression
	SHA256 string `json:"sha256"`
}

// Manifest is everything known about a dump. Times are UTC.
type Manifest struct {
	Format      int               `json:"format"`
	Tool        string            `json:"tool"`
	Keep        string            `json:"keep"`
	Job         string            `json:"job"`
	Database    string            `json:"database"`
	Kind        Kind              `json:"kind"`
	Moment      time.Time         `json:"moment"`
	Zone        string            `json:"zone"`
	Started     time.Time         `json:"started"`
	Finished    time.Time         `json:"finished"`
	Run         Run               `json:"run"`
	Source      Source            `json:"source"`
	Facts       map[string]string `json:"facts"`
	Compression string            `json:"compression"`
	Fingerprint string            `json:"fingerprint"`
	Objects     map[string]int    `json:"objects"`            // how many of each kind
	Position    map[string]string `json:"position,omitempty"` // of the moment in the server's change log
	LeftOut     []string          `json:"left_out,omitempty"` // by the job: tables, and what needs them
	Warnings    []string          `json:"warnings,omitempty"`
	RawBytes    int64             `json:"raw_bytes"`
	StoredBytes int64             `json:"stored_bytes"`
	Tables      []Table           `json:"tables"`
	Files       []File            `json:"files"`
}

// ObjectEntry is one line of the objects file: an object and where its SQL is.
type ObjectEntry struct {
	engine.Object
	File   string `json:"file"`
	Offset int64  `json:"offset"` // of the SQL in the file's text
	Length int64  `json:"length"`
}

// Encode gives the manifest's bytes, ending in the check over themselves, and
// the dump's id, which is their SHA-256.
func (m *Manifest) Encode() (data []byte, id string, err error) {
	data, err = json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, "", err
	}
	data = append(bytes.TrimSuffix(data, []byte("\n}")), ",\n"...)
	sum := sha256.Sum256(data)
	data = append(data, fmt.Sprintf("  %q: %q\n}\n", checkKey, hex.EncodeToString(sum[:]))...)
	return data, IDOf(data), nil
}

const checkKey = "sha256_of_the_lines_above"

// IDOf gives the id of a manifest's bytes.
func IDOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Decode reads a manifest's bytes, checks them against themselves, and gives the
// dump's id.
func Decode(data []byte) (*Manifest, string, error) {
	at := bytes.LastIndex(data, []byte("  \""+checkKey+"\": \""))
	if at < 0 {
		return nil, "", damaged("its last line is not the check over the lines above")
	}
	sum := sha256.Sum256(data[:at])
	want := fmt.Sprintf("  %q: %q\n}\n", checkKey, hex.EncodeToString(sum[:]))
	if string(data[at:]) != want {
		return nil, "", damaged("the check in its last line does not match the lines above")
	}
	var m Manifest
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, "", damaged(err.Error())
	}
	if m.Format > Version {
		return nil, "", fault.New("format-too-new", nil,
			"this dump has format %d, and this program knows formats up to %d", m.Format, Version).
			Advise("use a newer grainkeep, or restore it by hand as its README.txt says")
	}
	return &m, IDOf(data), nil
}

func damaged(why string) *fault.Error {
	return fault.New("manifest-damaged", nil, "%s is damaged: %s", Name, why).Exit(fault.ProvenBad)
}

// Read reads the manifest of the dump in a folder.
func Read(path string) (*Manifest, string, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, "", err
	}
	return Decode(data)
}

// Rows is the sum of the rows of all tables.
func (m *Manifest) Rows() (n int64) {
	for _, t := range m.Tables {
		n += t.Rows
	}
	return n
}

// SumLines are the lines of SHA256SUMS, the manifest's own among them.
func (m *Manifest) SumLines(id string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s\n", id, Name)
	for _, f := range m.Files {
		fmt.Fprintf(&b, "%s  %s\n", f.SHA256, f.Path)
	}
	return b.String()
}
