package manifest

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/pattern"
	"grainkeep/internal/store"
)

// A sealed dump is an ordinary one, with its own manifest, each file of it sealed. Around it is a manifest that tells
// everybody what is not secret, and names the sealed files, which have numbers for names.

// Names of files beside those of a sealed dump.
const (
	SealedKey   = "dump-key.age" // the dump's own key, sealed for its recipients
	SealedNames = "names.age"    // what each number is called, sealed for that key
)

// Signature is what is added to the name of a file for that of its signature.
const Signature = ".sig"

// MaxNames bounds the list of names, in bytes.
const MaxNames = 64 << 20

// Seal is what everybody may know of the seal around a dump.
type Seal struct {
	Of         string   `json:"of"`                   // the id of the dump inside: by it, sealed copies are known to be the same
	Was        string   `json:"was,omitempty"`        // the id of the sealed dump from which this was sealed anew
	Folder     string   `json:"folder,omitempty"`     // what dumps on top of it call its folder, where it has another name here
	For        []string `json:"for"`                  // whose keys open it, as people know them
	Partial    bool     `json:"partial,omitempty"`    // tables or rows are left out
	Inside     bool     `json:"inside,omitempty"`     // every moment between its base and itself can be restored
	Restorable bool     `json:"restorable,omitempty"` // of a command: there is one that restores
}

// Signed says when a record was signed, and with which key; the signature lies beside it.
type Signed struct {
	At time.Time `json:"at"`
	By string    `json:"by"` // the key's fingerprint
}

var sealedNumber = pattern.Of(`^[0-9]{6}\.age$`)

// SealedFile is the name of the n-th sealed file.
func SealedFile(n int) string { return fmt.Sprintf("%06d.age", n) }

// sealedText stands for what a warning says, outside of a seal: its code is no secret.
const sealedText = "what it says is sealed"

// MostSealed bounds the files of a sealed dump.
const MostSealed = 999_999

// Outside is what everybody may know of a dump whose id inside the seal is of. Its files are those that are sealed.
func (m *Manifest) Outside(of string, recipients []string, files []File) *Manifest {
	o := &Manifest{Format: m.Format, Tool: m.Tool, Keep: m.Keep, Job: m.Job, Database: m.Database, Kind: m.Kind,
		Base: m.Base, Alone: m.Alone, Closes: m.Closes, Moment: m.Moment, Zone: m.Zone, Started: m.Started,
		Finished: m.Finished, Run: m.Run, From: m.From, To: m.To, Compression: m.Compression, RawBytes: m.RawBytes,
		Source: Source{Name: m.Source.Name, Engine: m.Source.Engine, Product: m.Source.Product, Version: m.Source.Version},
		Seal: &Seal{Of: of, For: recipients, Partial: m.Partial(), Inside: m.Inside(),
			Restorable: m.Payload.Stream != nil && m.Payload.Stream.Restorable},
		Payload: Payload{Type: m.Payload.Type}, Files: slices.Clone(files)}
	for _, w := range m.Warnings {
		o.Warnings = append(o.Warnings, Warning{w.Code, sealedText})
	}
	slices.SortFunc(o.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	for _, f := range o.Files {
		o.StoredBytes += f.Bytes
	}
	return o
}

// ForNext says whether a file is one that a dump on top of this one reads: digests of what is there, and no data.
func ForNext(path string) bool {
	return strings.HasPrefix(path, RangesFolder+"/") || strings.HasPrefix(path, Entries) || strings.HasPrefix(path, GoneFile)
}

// Where files lie that dumps on top of one read.
const (
	RangesFolder = "ranges"          // digests of ranges of tables
	Entries      = "entries"         // of a folder's tar
	GoneFile     = "40-changes/gone" // names that are no longer in a folder
)

// Locked says that the dump is sealed, and that nothing of what is inside is known here.
func (m *Manifest) Locked() bool {
	return m.Seal != nil && m.Payload.SQL == nil && m.Payload.Tar == nil && m.Payload.Stream == nil
}

// Unlock gives the manifest that is inside a seal, as a dump of the place where it lies: its links are those of sealed
// dumps, and each file says in which it is. inner is the manifest file, names what the numbers stand for.
func (m *Manifest) Unlock(inner, names []byte) (*Manifest, error) {
	in, id, err := Decode(inner)
	if err != nil {
		return nil, err
	}
	switch {
	case id != m.Seal.Of:
		return nil, damaged("what is sealed is another dump than it says")
	case in.Seal != nil || in.Job != m.Job || in.Database != m.Database || in.Kind != m.Kind ||
		!in.Moment.Equal(m.Moment) || in.Payload.Type != m.Payload.Type || (in.Base == "") != (m.Base == ""):
		return nil, damaged("what it says outside of its seal is not what is inside")
	}
	numbers, err := ParseNames(names)
	if err != nil {
		return nil, damaged(err.Error())
	}
	for i := range in.Files {
		f := &in.Files[i]
		if f.In = numbers[f.Path]; f.In == "" {
			return nil, damaged(fmt.Sprintf("no sealed file is %.80q", f.Path))
		}
	}
	in.Base, in.Seal, in.Signed = m.Base, m.Seal, m.Signed
	in.StoredBytes = m.StoredBytes
	return in, nil
}

// NameList writes what the numbers of sealed files stand for, a line each.
func NameList(numbers map[string]string) []byte {
	var b bytes.Buffer
	for _, path := range slices.SortedFunc(maps.Keys(numbers), func(x, y string) int {
		return strings.Compare(numbers[x], numbers[y])
	}) {
		fmt.Fprintf(&b, "%s %s\n", numbers[path], path)
	}
	return b.Bytes()
}

// ParseNames reads what NameList writes, and gives the number of each file.
func ParseNames(data []byte) (map[string]string, error) {
	numbers, taken := map[string]string{}, map[string]bool{}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		number, path, ok := strings.Cut(lines.Text(), " ")
		if !ok || !sealedNumber().MatchString(number) || taken[number] || numbers[path] != "" {
			return nil, fmt.Errorf("its list of names has a line that is none: %.80q", lines.Text())
		}
		if path != Name && path != Name+Signature && path != Sums {
			if err := checkPath(path); err != nil {
				return nil, err
			}
		}
		numbers[path], taken[number] = number, true
	}
	return numbers, lines.Err()
}

// checkSeal looks at what stands outside of a seal.
func (m *Manifest) checkSeal(sizes map[string]int64) error {
	if !digest().MatchString(m.Seal.Of) {
		return errors.New("the id of the dump that is sealed is none")
	}
	if m.Seal.Was != "" && !digest().MatchString(m.Seal.Was) {
		return errors.New("the id of the dump from which it was sealed anew is none")
	}
	if m.Seal.Folder != "" && (store.CheckName(m.Seal.Folder) != nil || strings.Contains(m.Seal.Folder, "/")) {
		return errors.New("the name of its folder is none")
	}
	if n := len(m.Seal.For); n == 0 || n > 1000 || slices.ContainsFunc(m.Seal.For, func(s string) bool { return len(s) > maxText }) {
		return errors.New("it does not say for whom it is sealed")
	}
	if !m.Locked() || m.Note+m.Why != "" || slices.ContainsFunc(m.Warnings, func(w Warning) bool { return w.Text != sealedText }) {
		return errors.New("it is sealed, and tells what is inside")
	}
	if m.Payload.Type != TypeSQL && m.Payload.Type != TypeTar && m.Payload.Type != TypeStream {
		return fmt.Errorf("its payload is of the unknown type %.40q", m.Payload.Type)
	}
	if m.RawBytes < 0 {
		return errors.New("its size is not possible")
	}
	for _, name := range []string{SealedKey, SealedNames} {
		if _, known := sizes[name]; !known {
			return fmt.Errorf("it has no file %s", name)
		}
	}
	for path := range sizes {
		if path != SealedKey && path != SealedNames && path != Readme && !sealedNumber().MatchString(path) {
			return fmt.Errorf("it is sealed, and has a file of the name %.80q", path)
		}
	}
	return nil
}
