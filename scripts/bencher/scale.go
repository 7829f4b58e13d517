package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"grainkeep/internal/demo"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/record"
	_ "grainkeep/internal/store/folder" // where the keep lies
)

// How many there are of everything, at full scale.
const (
	manyDumps     = 20_000
	manyRuns      = 200_000
	manyDatabases = 4
	manyTables    = 20
	provenEvery   = 20 // of the dumps
)

const manyConfig = `timezone = "UTC"
[journal]
folder = "state"
[source.files]
engine = "sqlite"
path = "data"
[keep.barn]
folder = "barn"
[job.nightly]
source = "files"
keep = "barn"
full = "each 30 min"
drill = "11:00"
retain = "newest 5 fulls, everything for 3 days, one a day for 60 days, one a week for 52 weeks, one a month for 5 years"
accept = ["same-file-system"]
`

// benchScale measures the commands of the morning on a keep with many dumps and a journal of many runs.
func benchScale(program, dir string, dumps int) error {
	if err := os.Chdir(dir); err != nil {
		return err
	}
	if err := makeMany(program, dumps, dumps*(manyRuns/manyDumps)); err != nil {
		return err
	}
	for _, words := range [][]string{{"list"}, {"status", "--offline"}, {"history"}, {"thin", "nightly"},
		{"schedule"}} {
		var took []time.Duration
		var most int64
		for range rounds + 1 { // the first fills the cache
			d, memory, err := measured(program, append([]string{"--config", "grainkeep.toml", "--quiet"}, words...)...)
			if err != nil {
				return err
			}
			took, most = append(took, d), max(most, memory)
		}
		best := took[1]
		for _, d := range took[1:] {
			best = min(best, d)
		}
		fmt.Printf("%-22s %d dumps, %d runs: first %.2f s, then %.2f s (aim 0.50), memory %d MiB (aim 96)\n", words[0],
			dumps,
			dumps*(manyRuns/manyDumps), took[0].Seconds(), best.Seconds(), most)
	}
	return nil
}

func makeMany(program string, dumps, runs int) error {
	if err := os.Mkdir("data", 0o755); err != nil {
		return err
	}
	for d := range manyDatabases {
		db, err := demo.OpenSQLite(fmt.Sprintf("data/db%d.sqlite", d))
		if err != nil {
			return err
		}
		for t := range manyTables {
			if _, err := db.Exec(fmt.Sprintf("CREATE TABLE a_table_%02d (id INTEGER PRIMARY KEY, name TEXT, amount INTEGER)", t)); err != nil {
				return err
			}
		}
		if err := db.Close(); err != nil {
			return err
		}
	}
	if err := os.WriteFile("grainkeep.toml", []byte(manyConfig), 0o600); err != nil {
		return err
	}
	for _, words := range [][]string{{"keep", "create", "barn"}, {"dump", "nightly"}} {
		if _, _, err := measured(program, append([]string{"--config", "grainkeep.toml"}, words...)...); err != nil {
			return err
		}
	}
	ctx := context.Background()
	k, err := keep.Open(ctx, "barn")
	if err != nil {
		return err
	}
	first, err := k.Dumps(ctx)
	if err != nil {
		return err
	}
	for _, d := range first {
		if err := d.Whole(ctx); err != nil {
			return err
		}
	}
	for n := range dumps / manyDatabases {
		if err := cloneRun(ctx, k, first, n+1); err != nil {
			return err
		}
	}
	return makeRuns(runs)
}

// cloneRun writes the dumps of a run again, as of some time ago, with its record.
func cloneRun(ctx context.Context, k *keep.Keep, first []*keep.Dump, n int) error {
	run := keep.NewRun()
	r := keep.RunRecord{Format: 1, Keep: k.ID, Run: run, Job: "nightly", Ended: time.Now().UTC()}
	ago := time.Duration(n) * 30 * time.Minute
	for _, d := range first {
		m := *d.Manifest
		m.Run.ID, m.Moment, m.Started, m.Finished = run, m.Moment.Add(-ago), m.Started.Add(-ago), m.Finished.Add(-ago)
		data, id, err := m.Encode()
		if err != nil {
			return err
		}
		dir := fmt.Sprintf("nightly/%s/%s-full", keep.DatabaseFolder(m.Database), m.Moment.Format("20060102T150405Z"))
		if err := os.MkdirAll(filepath.Join("barn", dir), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join("barn", dir, manifest.Name), data, 0o600); err != nil {
			return err
		}
		r.Dumps = append(r.Dumps, keep.Placed{ID: id, Path: dir, Database: m.Database, Moment: m.Moment})
		if n%provenEvery == 0 {
			if err := (&keep.Dump{Keep: k}).Record(ctx, keep.Proof{Format: 1, Dump: id, At: m.Finished.Add(time.Minute),
				Proven: true}); err != nil {
				return err
			}
		}
	}
	data, _, err := record.Encode(r)
	if err != nil {
		return err
	}
	return os.WriteFile(fmt.Sprintf("barn/runs/%s-%s.json", time.Now().Add(-ago).UTC().Format("20060102T150405.000Z"),
		run), data, 0o600)
}

func makeRuns(runs int) error {
	db, err := sql.Open("sqlite", "state/journal.db")
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	now := time.Now()
	for n := range runs {
		at := now.Add(-time.Duration(n+1) * 10 * time.Minute).UnixMicro()
		id := fmt.Sprintf("%012x", n)
		if _, err := tx.Exec(`INSERT INTO run VALUES (?, ?, 'nightly', 'schedule', 'quay', 'dumper', 1, 'k', '/barn', ?, ?, 'good', '', '', '',
			'null', '/logs/none.log', '', 0, 0, 0, ?)`, id, []string{"dump", "drill", "verify"}[n%3], at, at+5e6, at+5e6); err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO read_back VALUES (?, ?) ON CONFLICT DO NOTHING", fmt.Sprintf("%064x",
			n%manyDumps), at); err != nil {
			return err
		}
		if _, err := tx.Exec(`INSERT INTO part VALUES (?, 'nightly', 'db0.sqlite', ?, ?, '/barn/x', 'full', ?, ?, 1000000, 1000, 5000, 2000, 'good',
			'', '')`, id, []string{"dump", "drill", "verify"}[n%3], fmt.Sprintf("%064x", n%manyDumps), at, at+5e6); err != nil {
			return err
		}
	}
	return tx.Commit()
}
