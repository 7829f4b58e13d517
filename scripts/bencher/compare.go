package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// changedRows are changed before each dump that compares.
const changedRows = 10_000

// benchCompare measures dumps by comparison, of a table of which some rows changed that lie together, against reading
// it; what they write, and what the digests take.
func benchCompare(what, program, from, store string, change func(first, last int) error, read func() error) error {
	if !strings.HasPrefix("comparison", part) {
		return nil
	}
	dump := []string{"dump", "--from", from, "--to", store, "--job", "compare", "--kind", "incremental", "--changes",
		"compare"}
	if _, _, err := measured(program, dump...); err != nil { // the full, since there is none
		return err
	}
	first := 1000
	err := contest{what: "comparison, " + what, aim: 1.15,
		prepare: func() error {
			first += 2 * changedRows
			return change(first, first+changedRows-1)
		},
		against: read,
		own:     func(int) []string { return dump },
	}.run(program)
	if err != nil {
		return err
	}
	full, err := dumped(store, "*-full")
	if err != nil {
		return err
	}
	last, err := dumped(store, "*-incremental*")
	if err != nil {
		return err
	}
	written := last.Payload.SQL.Tables[0].Counts.Written
	digests := int64(0)
	for _, f := range full.Files {
		if strings.HasPrefix(f.Path, "ranges/") {
			digests += f.Bytes
		}
	}
	fmt.Printf("%-22s %d rows changed, %d written: %.2f (aim: at most 2); digests %.2f %% of the dump (aim: at most 2); "+
		"the increment 1/%d of the full\n", "", changedRows, written, float64(written)/changedRows,
		100*float64(digests)/float64(full.Stored), full.Stored/last.Stored)
	return nil
}

// dumpRecord is what is looked at of a manifest.
type dumpRecord struct {
	Stored int64 `json:"stored_bytes"`
	Files  []struct {
		Path  string
		Bytes int64
	}
	Payload struct {
		SQL struct {
			Tables []struct{ Counts struct{ Written int64 } }
		}
	}
}

// dumped reads the manifest of the last dump whose folder has such a name.
func dumped(store, pattern string) (r dumpRecord, err error) {
	found, err := filepath.Glob(filepath.Join(store, "compare", "*", pattern, "manifest.json"))
	if err != nil || len(found) == 0 {
		return r, fmt.Errorf("no dump %s: %w", pattern, err)
	}
	slices.Sort(found)
	data, err := os.ReadFile(found[len(found)-1])
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(data, &r)
}
