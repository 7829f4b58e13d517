package keep

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
)

// Dump is a dump found in a keep.
type Dump struct {
	Path     string
	ID       string // the manifest's SHA-256
	Manifest *manifest.Manifest
	Err      error // why the manifest cannot be read; then ID and Manifest are empty
	Proofs   []Proof
	Keep     *Keep // nil for a dump outside a keep
}

// Short is the part of a dump's id that people type.
func (d *Dump) Short() string {
	if len(d.ID) < 10 {
		return d.ID
	}
	return d.ID[:10]
}

// Name is JOB/DATABASE, or the path when the manifest cannot be read.
func (d *Dump) Name() string {
	if d.Manifest == nil {
		return d.Path
	}
	return d.Manifest.Job + "/" + d.Manifest.Database
}

// Dumps lists the dumps of a keep, oldest first, with their proofs.
func (k *Keep) Dumps() ([]*Dump, error) {
	jobs, err := os.ReadDir(k.Folder)
	if err != nil {
		return nil, fault.New("keep-unreadable", err, "cannot look into the keep %s", k.Folder)
	}
	var dumps []*Dump
	for _, j := range jobs {
		if !j.IsDir() || !JobName.MatchString(j.Name()) || j.Name() == jobsName || j.Name() == proofsName {
			continue
		}
		paths, err := filepath.Glob(filepath.Join(globQuote(k.Folder), j.Name(), "*", "*"))
		if err != nil {
			return nil, err
		}
		for _, p := range paths {
			if dumpFolder.MatchString(filepath.Base(p)) {
				if d := k.read(p); d != nil {
					dumps = append(dumps, d)
				}
			}
		}
	}
	sort.SliceStable(dumps, func(a, b int) bool { return dumps[a].when().Before(dumps[b].when()) })
	return dumps, nil
}

func globQuote(s string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(s)
}

func (d *Dump) when() time.Time {
	if d.Manifest != nil {
		return d.Manifest.Moment
	}
	t, _ := time.Parse(stampLayout, strings.SplitN(filepath.Base(d.Path), "-", 2)[0])
	return t
}

// read gives the dump in a folder; nil where there is no manifest, so no dump.
func (k *Keep) read(path string) *Dump {
	d, err := ReadDump(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return &Dump{Path: path, Err: err, Keep: k}
	}
	d.Keep = k
	d.Proofs = k.proofs(d.ID)
	return d
}

// DumpAt reads the dump in a folder, with its proofs if it lies in a keep.
func DumpAt(path string) (*Dump, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	if k := Around(path); k != nil {
		if d := k.read(path); d != nil {
			return d, nil
		}
	}
	d, err := ReadDump(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.Wrong("dump-absent", "%s is not a dump: it has no %s", path, manifest.Name)
	}
	if err != nil {
		return &Dump{Path: path, Err: err}, nil
	}
	return d, nil
}

// ReadDump reads the manifest of the dump in a folder.
func ReadDump(path string) (*Dump, error) {
	m, id, err := manifest.Read(filepath.Join(path, manifest.Name))
	if err != nil {
		return nil, err
	}
	return &Dump{Path: path, ID: id, Manifest: m}, nil
}

// Proof is the record of a drill.
type Proof struct {
	Format      int       `json:"format"`
	Dump        string    `json:"dump"`
	At          time.Time `json:"at"`
	Proven      bool      `json:"proven"`
	On          string    `json:"on"` // where it was restored
	Product     string    `json:"product"`
	Version     string    `json:"version"`
	Tool        string    `json:"tool"`
	Seconds     float64   `json:"restore_seconds"`
	Tables      int       `json:"tables"`
	Rows        int64     `json:"rows"`
	Objects     int       `json:"objects"`
	Differences []string  `json:"differences,omitempty"`
	Warnings    []string  `json:"warnings,omitempty"`
	NotTested   []string  `json:"not_tested,omitempty"`
	Checks      []Answer  `json:"checks,omitempty"`
}

// Answer is the outcome of an administrator's check.
type Answer struct {
	SQL    string `json:"sql"`
	Wanted string `json:"wanted"`
	Got    string `json:"got"`
	Good   bool   `json:"good"`
}

// State is what is known of a dump's restoring: "proven", "unproven" or
// "failed its drill". The newest drill counts.
func (d *Dump) State() string {
	switch p := d.LastProof(); {
	case p == nil && d.Manifest != nil && d.Manifest.Database == engine.ServerWide:
		return "not drilled"
	case p == nil:
		return "unproven"
	case p.Proven:
		return "proven"
	}
	return "failed its drill"
}

// LastProof is the newest drill's record, or nil.
func (d *Dump) LastProof() *Proof {
	if len(d.Proofs) == 0 {
		return nil
	}
	return &d.Proofs[len(d.Proofs)-1]
}

func (k *Keep) proofs(id string) (list []Proof) {
	paths, _ := filepath.Glob(filepath.Join(globQuote(k.Folder), proofsName, id, "*.json"))
	sort.Strings(paths)
	for _, p := range paths {
		var proof Proof
		data, err := os.ReadFile(p)
		if err == nil && json.Unmarshal(data, &proof) == nil && proof.Dump == id {
			list = append(list, proof)
		}
	}
	return list
}

// Record writes a proof beside the dumps.
func (k *Keep) Record(p Proof) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	folder := filepath.Join(k.Folder, proofsName, p.Dump)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return unwritable(k.Folder, err)
	}
	name := p.At.UTC().Format("20060102T150405.000Z") + ".json"
	temp := filepath.Join(folder, ".new-"+name)
	if err := WriteNew(temp, append(data, '\n')); err != nil {
		return unwritable(k.Folder, err)
	}
	if err := os.Rename(temp, filepath.Join(folder, name)); err != nil {
		return unwritable(k.Folder, err)
	}
	return syncFolder(folder)
}
