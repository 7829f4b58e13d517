package keep

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
	"grainkeep/internal/store"
)

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
	Differences []string  `json:"differences,omitempty"` // in sentences; proven means that there is none
	Details     []Detail  `json:"details,omitempty"`     // the same, taken apart; a bounded number
	Warnings    []string  `json:"warnings,omitempty"`
	NotTested   []string  `json:"not_tested,omitempty"`
	Checks      []Answer  `json:"checks,omitempty"`
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

// Record writes a proof beside the dumps.
func (k *Keep) Record(ctx context.Context, p Proof) error {
	data, _, err := record.Encode(p)
	if err != nil {
		return err
	}
	for at := p.At.UTC(); ; at = at.Add(time.Millisecond) { // two drills may end in one
		name := proofsName + "/" + p.Dump + "/" + at.Format("20060102T150405.000Z") + proofEnding
		err := store.WriteNew(ctx, k.st, name, data)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return k.unwritable(err)
		}
		return nil
	}
}

// Took is how long the restore took.
func (p Proof) Took() time.Duration { return time.Duration(p.Seconds * float64(time.Second)) }
