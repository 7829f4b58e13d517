package journal

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Result is what came of a run.
type Result string

// The results.
const (
	Running Result = "running"
	Good    Result = "good"
	Warned  Result = "warned"  // done, with warnings
	Failed  Result = "failed"  // at least a part of it
	Refused Result = "refused" // the job was already running
	Stopped Result = "stopped" // by a signal
	Killed  Result = "killed"  // its process ended without a word
)

// Results are all of them.
var Results = []Result{Running, Good, Warned, Failed, Refused, Stopped, Killed}

// Run is one execution of a command that changes something.
type Run struct {
	ID        string // also that of the run in the keep
	Command   string // "dump", "drill"
	Job       string
	StartedBy string // "hand", "schedule", "call"
	Host      string
	Account   string
	PID       int
	Keep      string // id
	Place     string // of the keep, for people
	Started   time.Time
	Ended     time.Time // zero: it runs
	Result    Result
	Code      string // of the failure
	Reason    string
	Advice    string
	Warnings  []Warning
	Log       string // path, on its host; empty: none was written
	Progress  Progress
	Parts     []Part
}

// Warning is what a run warned of.
type Warning struct {
	Code string `json:"code"`
	Of   string `json:"of,omitempty"`
	Text string `json:"text"`
}

// Progress is how far a run is.
type Progress struct {
	Step     string
	Rows     int64
	Bytes    int64     // of text
	Expected int64     // bytes of text; 0: unknown
	At       time.Time // its last sign of life
}

// Part is what a run did to one database, or to one dump.
type Part struct {
	Name    string // the database, or what else is dumped
	Command string // that of the run
	Dump    string // id; empty: there is none
	Path    string
	Kind    string
	Moment  time.Time
	Ended   time.Time
	Took    time.Duration
	Rows    int64
	Bytes   int64 // of text
	Stored  int64 // bytes
	Result  Result
	Code    string
	Reason  string
}

const runColumns = "id, command, job, started_by, host, account, pid, keep, place, started, ended, result, code, reason, " +
	"advice, warnings, log, step, done_rows, done_bytes, expected_bytes, beat"

// insert writes a run that is not there yet.
func (j *Journal) insert(ctx context.Context, r *Run) error {
	warnings, err := json.Marshal(r.Warnings)
	if err != nil {
		return err
	}
	_, err = j.exec(ctx, "INSERT INTO run ("+runColumns+") VALUES (?"+strings.Repeat(", ?",
		21)+") ON CONFLICT DO NOTHING",
		r.ID, r.Command, r.Job, r.StartedBy, r.Host, r.Account, r.PID, r.Keep, r.Place, micros(r.Started),
		micros(r.Ended),
		string(r.Result), r.Code, text(r.Reason), text(r.Advice), text(string(warnings)), r.Log, text(r.Progress.Step),
		r.Progress.Rows, r.Progress.Bytes, r.Progress.Expected, micros(r.Progress.At))
	return err
}

// text is one that PostgreSQL takes too.
func text(s string) string {
	return strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", "\uFFFD"), "\uFFFD")
}

func (j *Journal) insertPart(ctx context.Context, run, job string, p Part) error {
	_, err := j.exec(ctx,
		"INSERT INTO part (run, job, name, command, dump, path, kind, moment, ended, took, rows, bytes, stored, "+
			"result, code, reason) VALUES (?"+strings.Repeat(", ?", 15)+")", run, job, text(p.Name), p.Command, p.Dump,
		text(p.Path), p.Kind,
		micros(p.Moment), micros(p.Ended), p.Took.Microseconds(), p.Rows, p.Bytes, p.Stored, string(p.Result), p.Code,
		text(p.Reason))
	if err != nil || p.Result != Good || p.Dump == "" || p.Command != "verify" && p.Command != "drill" {
		return err
	}
	_, err = j.exec(ctx, "INSERT INTO read_back (dump, at) VALUES (?, ?) ON CONFLICT (dump) DO UPDATE SET at = excluded.at "+
		"WHERE read_back.at < excluded.at", p.Dump, micros(p.Ended))
	return err
}

func scanRun(rows *sql.Rows) (r Run, err error) {
	var started, ended, beat int64
	var warnings string
	err = rows.Scan(&r.ID, &r.Command, &r.Job, &r.StartedBy, &r.Host, &r.Account, &r.PID, &r.Keep, &r.Place, &started,
		&ended,
		&r.Result, &r.Code, &r.Reason, &r.Advice, &warnings, &r.Log, &r.Progress.Step, &r.Progress.Rows,
		&r.Progress.Bytes,
		&r.Progress.Expected, &beat)
	if err != nil {
		return r, err
	}
	r.Started, r.Ended, r.Progress.At = timeOf(started), timeOf(ended), timeOf(beat)
	if err := json.Unmarshal([]byte(warnings), &r.Warnings); err != nil {
		return r, fmt.Errorf("the warnings of the run %.20q: %w", r.ID, err)
	}
	return r, nil
}

// Filter says which runs are meant. What is left empty does not matter.
type Filter struct {
	ID       string // the beginning of it
	Job      string
	Name     string // a database
	Kind     string // of a dump
	Commands []string
	Results  []Result
	Keep     string // id
	Since    time.Time
	Until    time.Time
	Most     int // so many, the newest; 0: all
}

func (f Filter) where() (text string, args []any) {
	add := func(condition string, values ...any) {
		text, args = text+" AND "+condition, append(args, values...)
	}
	if f.ID != "" {
		add("substr(id, 1, ?) = ?", len(f.ID), f.ID)
	}
	if f.Job != "" {
		add("job = ?", f.Job)
	}
	if f.Keep != "" {
		add("keep = ?", f.Keep)
	}
	if f.Name != "" {
		add("id IN (SELECT run FROM part WHERE name = ?)", f.Name)
	}
	if f.Kind != "" {
		add("id IN (SELECT run FROM part WHERE kind = ?)", f.Kind)
	}
	if len(f.Commands) > 0 {
		add("command IN (?"+strings.Repeat(", ?", len(f.Commands)-1)+")", anys(f.Commands)...)
	}
	if len(f.Results) > 0 {
		add("result IN (?"+strings.Repeat(", ?", len(f.Results)-1)+")", anys(f.Results)...)
	}
	if !f.Since.IsZero() {
		add("started >= ?", micros(f.Since))
	}
	if !f.Until.IsZero() {
		add("started < ?", micros(f.Until))
	}
	return text, args
}

func anys[T ~string](list []T) (out []any) {
	for _, x := range list {
		out = append(out, string(x))
	}
	return out
}

// Runs gives the runs that a filter means with their parts, the newest first.
func (j *Journal) Runs(ctx context.Context, f Filter) (list []Run, err error) {
	where, args := f.where()
	query := "SELECT " + runColumns + " FROM run WHERE 1 = 1" + where + " ORDER BY started DESC, id"
	if f.Most > 0 {
		query += fmt.Sprintf(" LIMIT %d", f.Most)
	}
	rows, err := j.query(ctx, query, args...)
	if err != nil {
		return nil, unusable(j.where, err)
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, unusable(j.where, err)
		}
		list = append(list, r)
	}
	if err := rows.Err(); err != nil {
		return nil, unusable(j.where, err)
	}
	rows.Close()
	for i := range list {
		if list[i].Parts, err = j.parts(ctx, list[i].ID); err != nil {
			return nil, unusable(j.where, err)
		}
	}
	return list, nil
}

func (j *Journal) parts(ctx context.Context, run string) (list []Part, err error) {
	rows, err := j.query(ctx,
		"SELECT name, command, dump, path, kind, moment, ended, took, rows, bytes, stored, result, code, "+
			"reason FROM part WHERE run = ? ORDER BY ended, name", run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p Part
		var moment, ended, took int64
		if err := rows.Scan(&p.Name, &p.Command, &p.Dump, &p.Path, &p.Kind, &moment, &ended, &took, &p.Rows, &p.Bytes,
			&p.Stored,
			&p.Result, &p.Code, &p.Reason); err != nil {
			return nil, err
		}
		p.Moment, p.Ended, p.Took = timeOf(moment), timeOf(ended), time.Duration(took)*time.Microsecond
		list = append(list, p)
	}
	return list, rows.Err()
}

// Last gives the newest run of a job's command that ended in one of some results; nil: there is none.
func (j *Journal) Last(ctx context.Context, job, command string, results ...Result) (*Run, error) {
	list, err := j.Runs(ctx, Filter{Job: job, Commands: []string{command}, Results: results, Most: 1})
	if len(list) == 0 {
		return nil, err
	}
	return &list[0], err
}

// ReadBack gives when each dump was last read to its end and found as it should be: when it was verified or
// drilled.
func (j *Journal) ReadBack(ctx context.Context) (map[string]time.Time, error) {
	rows, err := j.query(ctx, "SELECT dump, at FROM read_back")
	if err != nil {
		return nil, unusable(j.where, err)
	}
	defer rows.Close()
	read := map[string]time.Time{}
	for rows.Next() {
		var id string
		var at int64
		if err := rows.Scan(&id, &at); err != nil {
			return nil, unusable(j.where, err)
		}
		read[id] = timeOf(at)
	}
	return read, rows.Err()
}

// Count is how many runs ended in a way.
type Count struct {
	Job, Command string
	Result       Result
	N            int64
}

// Counts counts the runs that have ended.
func (j *Journal) Counts(ctx context.Context) (list []Count, err error) {
	rows, err := j.query(ctx,
		"SELECT job, command, result, count(*) FROM run WHERE result <> 'running' GROUP BY job, command, result "+
			"ORDER BY job, command, result")
	if err != nil {
		return nil, unusable(j.where, err)
	}
	defer rows.Close()
	for rows.Next() {
		var c Count
		if err := rows.Scan(&c.Job, &c.Command, &c.Result, &c.N); err != nil {
			return nil, unusable(j.where, err)
		}
		list = append(list, c)
	}
	return list, rows.Err()
}
