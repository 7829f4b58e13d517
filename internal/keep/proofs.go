package keep

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// Proof is the record of a drill, or of an audit.
type Proof struct {
	Format      int       `json:"format"`
	Dump        string    `json:"dump"`
	At          time.Time `json:"at"`
	Proven      bool      `json:"proven"`
	Audit       bool      `json:"audit,omitempty"` // nothing was restored: what a log had told was held against the rows themselves
	On          string    `json:"on"`              // where it was restored
	Keep        string    `json:"keep,omitempty"`  // the id of that from which the dump was read
	Product     string    `json:"product"`
	Version     string    `json:"version"`
	Tool        string    `json:"tool"`
	Seconds     float64   `json:"restore_seconds"`
	Tables      int       `json:"tables"`
	Rows        int64     `json:"rows"`
	Objects     int       `json:"objects"`
	Differences []string  `json:"differences,omitempty"` // in sentences; proven means that there is none
	Details     []Detail  `json:"details,omitempty"`     // the same, taken apart; a bounded number
	Warnings    []string  `json:"warnings,omitempty"`
	NotTested   []string  `json:"not_tested,omitempty"`
	Checks      []Answer  `json:"checks,omitempty"`

	// Sealed is, of a sealed dump, all that tells of what is inside, sealed for the dump's own key.
	Sealed []byte `json:"sealed,omitempty"`
	// Signed says that a signature lies beside the proof.
	Signed *manifest.Signed `json:"signed,omitempty"`
}

// inside is what a proof of a sealed dump tells of what is inside.
type inside struct {
	Tables      int      `json:"tables"`
	Rows        int64    `json:"rows"`
	Objects     int      `json:"objects"`
	Differences []string `json:"differences"`
	Details     []Detail `json:"details"`
	Warnings    []string `json:"warnings"`
	NotTested   []string `json:"not_tested"`
	Checks      []Answer `json:"checks"`
}

// differenceSealed stands for the differences that a proof of a sealed dump tells to those who can open it.
const differenceSealed = "what differs is sealed with the dump: give --key to see it"

// close seals what a proof tells of the inside of a dump.
func (p *Proof) close(key *seal.Key) error {
	data, err := json.Marshal(inside{p.Tables, p.Rows, p.Objects, p.Differences, p.Details, p.Warnings, p.NotTested, p.Checks})
	if err == nil {
		p.Sealed, err = key.SealBytes(data)
	}
	p.Tables, p.Rows, p.Objects, p.Details, p.Warnings, p.NotTested, p.Checks = 0, 0, 0, nil, nil, nil, nil
	if len(p.Differences) > 0 {
		p.Differences = []string{differenceSealed}
	}
	return err
}

// opened is a proof with what it tells of the inside of a dump; as it is, where that cannot be opened.
func (p Proof) opened(key *seal.Key) Proof {
	if len(p.Sealed) == 0 {
		return p
	}
	data, err := unsealAll(key, p.Sealed, maxSmall)
	var in inside
	if err != nil || json.Unmarshal(data, &in) != nil {
		p.Warnings = []string{"what it tells of the inside of the dump cannot be opened"}
		return p
	}
	p.Tables, p.Rows, p.Objects, p.Differences, p.Details, p.Warnings, p.NotTested, p.Checks = in.Tables, in.Rows,
		in.Objects, in.Differences, in.Details, in.Warnings, in.NotTested, in.Checks
	return p
}

// Detail is a difference, taken apart.
type Detail struct {
	Concern Concern `json:"concern"`
	Of      string  `json:"of"`            // what differs
	Text    string  `json:"text"`          // a sentence
	Was     string  `json:"was,omitempty"` // as it was dumped, where there are two forms of it
	Is      string  `json:"is,omitempty"`  // as it came back
}

// Concern says what a difference is about.
type Concern string

// What differences are about.
const (
	OfRows        Concern = "rows"
	OfDefinitions Concern = "definitions"
	OfChecks      Concern = "checks"
	OfDump        Concern = "dump" // it could not be restored
)

// Answer is the outcome of an administrator's check.
type Answer struct {
	SQL    string `json:"sql"`
	Wanted string `json:"wanted"`
	Got    string `json:"got"`
	Good   bool   `json:"good"`
}

const proofEnding = ".json"

// proofs reads the records of a dump's drills, oldest first. An error about the newest
// is told: an older one must not speak in its place.
func (k *Keep) proofs(ctx context.Context, id string) (list []Proof, err error) {
	var last error
	err = k.st.List(ctx, proofsName+"/"+id, func(e store.Entry) error {
		if base := e.Name[strings.LastIndexByte(e.Name, '/')+1:]; base[0] == '.' || !strings.HasSuffix(base,
			proofEnding) {
			return nil
		}
		var p Proof
		if p, last = k.proof(ctx, e.Name, id); last == nil {
			list = append(list, p)
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = last
	}
	return list, err
}

func (k *Keep) proof(ctx context.Context, name, id string) (p Proof, err error) {
	data, err := store.ReadAll(ctx, k.st, name, maxSmall)
	if err == nil {
		p, err = parseProof(data, id)
	}
	if err == nil && len(k.Trusted) > 0 {
		if err := checkSignature(ctx, k.st, name, data, k.Trusted); err != nil {
			return p, err
		}
	}
	if err != nil {
		err = fault.New("proof-damaged", err, "the proof %s cannot be used", k.st.Where(name)).
			Advise("drill the dump again")
	}
	return p, err
}

func parseProof(data []byte, id string) (p Proof, err error) {
	err = record.Decode(data, &p)
	if err == nil && p.Dump != id {
		err = errors.New("it is the proof of another dump")
	}
	return p, err
}

// Record writes a proof of the dump into its keep.
func (d *Dump) Record(ctx context.Context, p Proof) (err error) {
	k := d.Keep
	p.Keep = k.ID
	if d.outer != nil {
		if d.key == nil {
			return d.locked(nil)
		}
		if err := p.close(d.key); err != nil {
			return err
		}
	}
	signed, sign, err := k.signer()
	if err != nil {
		return err
	}
	p.Signed = signed
	data, _, err := record.Encode(p)
	if err != nil {
		return err
	}
	signature, err := sign(data)
	if err != nil {
		return err
	}
	for at := p.At.UTC(); ; at = at.Add(time.Millisecond) { // two drills may end in one
		err := k.writeProof(ctx, proofsName+"/"+p.Dump+"/"+at.Format("20060102T150405.000Z")+proofEnding, data, signature)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
}

// writeProof writes a proof, and before it its signature, if there is one.
func (k *Keep) writeProof(ctx context.Context, name string, data, signature []byte) error {
	if there, err := store.Exists(ctx, k.st, name); there || err != nil {
		return errors.Join(err, fs.ErrExist)
	}
	if len(signature) > 0 {
		if err := store.WriteNew(ctx, k.st, name+manifest.Signature, signature); err != nil && !errors.Is(err, fs.ErrExist) {
			return k.unwritable(err)
		}
	}
	if err := store.WriteNew(ctx, k.st, name, data); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return err
		}
		return k.unwritable(err)
	}
	return nil
}

// CopyProofs brings the proofs of a dump along that are not there yet: they are about its bytes, wherever those lie.
func (k *Keep) CopyProofs(ctx context.Context, d *Dump) error {
	if d.ProofErr != nil || d.Keep == nil {
		return d.ProofErr
	}
	from := d.Keep.st
	var names []string
	err := from.List(ctx, proofsName+"/"+d.ID, func(e store.Entry) error {
		if base := path.Base(e.Name); base[0] != '.' && strings.HasSuffix(base, proofEnding) {
			names = append(names, e.Name)
		}
		return nil
	})
	if err = store.IgnoreAbsent(err); err != nil {
		return err
	}
	for _, name := range names {
		data, err := store.ReadAll(ctx, from, name, maxSmall)
		if err != nil {
			return err
		}
		signature, err := store.ReadAll(ctx, from, name+manifest.Signature, seal.MaxSignature)
		if err = store.IgnoreAbsent(err); err != nil {
			return err
		}
		if err := k.writeProof(ctx, name, data, signature); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// Took is how long the restore took.
func (p Proof) Took() time.Duration { return time.Duration(p.Seconds * float64(time.Second)) }
