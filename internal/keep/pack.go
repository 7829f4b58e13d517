package keep

import (
	"bytes"
	"encoding/gob"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/manifest"
)

// The form of an index: rows of numbers, and one table of the texts that many of them have in common. So it is read
// fast, and takes little memory.

// indexVersion changes when what is remembered does.
const indexVersion = 4

type packed struct {
	Version int
	Texts   []string
	Dumps   []packedDump
	Records []packedRecord
	Proofs  map[string]knownProofs
}

// packedDump is a dump; the ints before the sizes are places in the table of texts.
type packedDump struct {
	Folder, Name, ID                                                int
	Tool, Keep, Job, Database, Kind, Base, Note, Why, Zone, Run, Of int
	Closes                                                          int
	Source, Compression, Warnings, Payload, Seal, Signed            int
	Bytes, Time, Moment, Started, Finished, RunStarted, Raw, Stored int64
	Format, Tables                                                  int
	Rows                                                            int64
	Partial, Narrowed, Alone, Inside                                bool
}

type packedRecord struct {
	Name    int
	Bytes   int64
	Dumps   []packedPlace
	Removed []int
}

type packedPlace struct {
	ID, Folder, Name, Database int
	Moment                     int64
}

// table collects texts.
type table struct {
	texts []string
	at    map[string]int
}

func (t *table) add(s string) int {
	n, known := t.at[s]
	if !known {
		n = len(t.texts)
		t.at[s] = n
		t.texts = append(t.texts, s)
	}
	return n
}

// json adds anything as JSON.
func (t *table) json(v any) int {
	data, err := json.Marshal(v)
	if err != nil {
		return t.add("null") // these are plain types
	}
	return t.add(string(data))
}

// parted parts a path at its last slash.
func parted(path string) (folder, name string) {
	i := strings.LastIndexByte(path, '/')
	return path[:max(0, i)], path[i+1:]
}

func packIndex(x *indexed) ([]byte, error) {
	t := &table{at: map[string]int{}}
	p := packed{Version: indexVersion, Proofs: x.proofs}
	for _, dir := range slices.Sorted(maps.Keys(x.dumps)) {
		d := x.dumps[dir]
		m, b := d.manifest, d.manifest.Brief()
		folder, name := parted(dir)
		w := packedDump{Folder: t.add(folder), Name: t.add(name), ID: t.add(d.id), Tool: t.add(m.Tool),
			Keep: t.add(m.Keep), Job: t.add(m.Job),
			Database: t.add(m.Database), Kind: t.add(string(m.Kind)), Base: t.add(m.Base), Note: t.add(m.Note),
			Zone: t.add(m.Zone),
			Run:  t.add(m.Run.ID), Of: t.json(m.Run.Databases), Source: t.json(m.Source),
			Compression: t.add(m.Compression),
			Warnings:    t.json(m.Warnings), Payload: t.add(""), Bytes: d.bytes, Time: d.time,
			Moment:  m.Moment.UnixNano(),
			Started: m.Started.UnixNano(), Finished: m.Finished.UnixNano(), RunStarted: m.Run.Started.UnixNano(),
			Raw:    m.RawBytes,
			Stored: m.StoredBytes, Format: m.Format, Tables: b.Tables, Rows: b.Rows, Partial: b.Partial,
			Seal: t.json(m.Seal), Signed: t.json(m.Signed),
			Narrowed: m.Run.Narrowed, Alone: m.Alone, Why: t.add(m.Why), Closes: t.add(m.Closes), Inside: b.Inside}
		if m.Payload.Type != manifest.TypeSQL || m.Seal != nil {
			w.Payload = t.json(m.Payload)
		}
		p.Dumps = append(p.Dumps, w)
	}
	for _, name := range slices.Sorted(maps.Keys(x.records)) {
		r := packedRecord{Name: t.add(name), Bytes: x.records[name].Bytes}
		for _, d := range x.records[name].Dumps {
			folder, base := parted(d.Path)
			r.Dumps = append(r.Dumps, packedPlace{t.add(d.ID), t.add(folder), t.add(base), t.add(d.Database),
				d.Moment.UnixNano()})
		}
		for _, id := range x.records[name].Removed {
			r.Removed = append(r.Removed, t.add(id))
		}
		p.Records = append(p.Records, r)
	}
	p.Texts = t.texts
	var b bytes.Buffer
	err := gob.NewEncoder(&b).Encode(p)
	return b.Bytes(), err
}

var errIndex = errors.New("the index cannot be used")

// unpackIndex reads an index. One that is damaged is an error, whatever is in it.
func unpackIndex(data []byte) (x *indexed, err error) {
	var p packed
	if err := gob.NewDecoder(bytes.NewReader(data)).Decode(&p); err != nil {
		return nil, err
	}
	if p.Version != indexVersion {
		return nil, errIndex
	}
	defer func() {
		if recover() != nil { // a place that is outside the table
			x, err = nil, errIndex
		}
	}()
	u := &unpacker{packed: p, of: map[int][]string{}, sources: map[int]manifest.Source{},
		warnings: map[int][]manifest.Warning{}}
	x = &indexed{make(map[string]*knownDump, len(p.Dumps)), make(map[string]knownRecord, len(p.Records)), p.Proofs}
	if x.proofs == nil {
		x.proofs = map[string]knownProofs{}
	}
	for _, w := range p.Dumps {
		d, err := u.dump(w)
		if err != nil {
			return nil, err
		}
		x.dumps[p.Texts[w.Folder]+"/"+p.Texts[w.Name]] = d
	}
	for _, r := range p.Records {
		known := knownRecord{Bytes: r.Bytes, Dumps: make([]Placed, len(r.Dumps))}
		for i, d := range r.Dumps {
			known.Dumps[i] = Placed{ID: p.Texts[d.ID], Path: p.Texts[d.Folder] + "/" + p.Texts[d.Name],
				Database: p.Texts[d.Database],
				Moment:   nanos(d.Moment)}
		}
		for _, n := range r.Removed {
			known.Removed = append(known.Removed, p.Texts[n])
		}
		x.records[p.Texts[r.Name]] = known
	}
	return x, nil
}

func nanos(n int64) time.Time { return time.Unix(0, n).UTC() }

// unpacker reads what many dumps have in common once.
type unpacker struct {
	packed
	of       map[int][]string
	sources  map[int]manifest.Source
	warnings map[int][]manifest.Warning
}

// once reads a text of the table as JSON, the first time that it is met.
func once[T any](u *unpacker, n int, known map[int]T) (v T, err error) {
	v, ok := known[n]
	if !ok {
		err = json.Unmarshal([]byte(u.Texts[n]), &v)
		known[n] = v
	}
	return v, err
}

func (u *unpacker) dump(w packedDump) (*knownDump, error) {
	t := u.Texts
	of, err1 := once(u, w.Of, u.of)
	source, err2 := once(u, w.Source, u.sources)
	warnings, err3 := once(u, w.Warnings, u.warnings)
	m := &manifest.Manifest{Format: w.Format, Tool: t[w.Tool], Keep: t[w.Keep], Job: t[w.Job], Database: t[w.Database],
		Kind: manifest.Kind(t[w.Kind]), Base: t[w.Base], Note: t[w.Note], Why: t[w.Why], Alone: w.Alone, Closes: t[w.Closes],
		Moment: nanos(w.Moment), Zone: t[w.Zone],
		Started:  nanos(w.Started),
		Finished: nanos(w.Finished), Run: manifest.Run{ID: t[w.Run], Databases: of, Started: nanos(w.RunStarted),
			Narrowed: w.Narrowed},
		Source: source, Compression: t[w.Compression], Warnings: warnings, RawBytes: w.Raw, StoredBytes: w.Stored,
		Payload: manifest.Payload{Type: manifest.TypeSQL}}
	var err4 error
	err5 := json.Unmarshal([]byte(t[w.Seal]), &m.Seal)
	err6 := json.Unmarshal([]byte(t[w.Signed]), &m.Signed)
	if m.Seal != nil {
		m.Payload = manifest.Payload{}
	}
	if t[w.Payload] != "" {
		err4 = json.Unmarshal([]byte(t[w.Payload]), &m.Payload)
	}
	m.Set(manifest.Brief{Rows: w.Rows, Tables: w.Tables, Partial: w.Partial, Inside: w.Inside})
	return &knownDump{w.Bytes, w.Time, t[w.ID], m}, errors.Join(err1, err2, err3, err4, err5, err6)
}
