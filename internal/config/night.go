package config

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/pattern"
	"grainkeep/internal/phrase"
)

// Journal says where the history of runs is.
type Journal struct {
	Folder   string `toml:"folder,omitempty"`   // of the journal's file, the logs of runs, and the notes about steps
	Source   string `toml:"source,omitempty"`   // a PostgreSQL server that several machines share, instead of the file
	Database string `toml:"database,omitempty"` // there
	KeepFor  string `toml:"keep_for,omitempty"`
}

// Serve is about 'schedule serve'.
type Serve struct {
	AtOnce int    `toml:"at_once,omitempty"`      // jobs; 0: one
	Over   string `toml:"takeover,omitempty"`     // how long a machine is silent until another does its work
	Listen string `toml:"listen,omitempty"`       // address; empty: none
	Token  string `toml:"token_sha256,omitempty"` // of who may start jobs, hashed
}

// Tell says whom to tell of what, and how.
type Tell struct {
	By      string   `toml:"by"`             // mail, webhook, syslog
	On      []string `toml:"on,omitempty"`   // what is told; empty: failure, stale, recovery
	Jobs    []string `toml:"jobs,omitempty"` // empty: all
	Summary any      `toml:"summary,omitempty"`
	Report  any      `toml:"report,omitempty"` // when the report of the last month is sent
	Again   string   `toml:"again,omitempty"`  // the same trouble is told again after that
	Server  string   `toml:"server,omitempty"`
	TLS     string   `toml:"tls,omitempty"`
	CA      string   `toml:"ca,omitempty"`
	User    string   `toml:"user,omitempty"`
	Secret  string   `toml:"secret,omitempty"`
	From    string   `toml:"from,omitempty"`
	To      []string `toml:"to,omitempty"`
	URL     string   `toml:"url,omitempty"`

	Facility string `toml:"facility,omitempty"`
}

// DefaultKeepFor is how long runs stay in the journal.
const DefaultKeepFor = 2 * 365 * 24 * time.Hour

var (
	sha256Hex = pattern.Of(`^[0-9a-f]{64}$`)
	codeWord  = pattern.Of(`^[a-z0-9]+(-[a-z0-9]+)*$`)
)

// minLog is what a server holds back of its log in any case, or more.
const minLog = 64 << 20

// minRate keeps a bound on bytes a second from being a standstill.
const minRate = 64 << 10

func (f *File) checkAges(where string, ages map[string]string) error {
	for _, key := range sorted(ages) {
		if _, err := age(ages[key], 0); err != nil {
			return f.wrong(where, "%s: %v", key, err)
		}
	}
	return nil
}

func (f *File) checkSteps(where string, lists ...[]Step) error {
	for _, l := range lists {
		if _, err := f.Steps(l); err != nil {
			return f.wrong(where, "%v", err)
		}
	}
	return nil
}

func (f *File) checkLimits(where string, j Job) error {
	if j.Priority != "" && j.Priority != Normal && j.Priority != Low {
		return f.wrong(where, "priority is %q", j.Priority).Advise("write %q or %q", Normal, Low)
	}
	if j.Tries < 0 || j.Tries > 20 {
		return f.wrong(where, "tries is %d",
			j.Tries).Advise("write a number from 1 to 20: how often a run is tried whose connection fails")
	}
	if _, err := ParseRate(j.Rate); err != nil {
		return f.wrong(where, "rate: %v", err).Advise("write one such as \"20 MiB/s\", of at least 64 KiB/s")
	}
	if j.LogLimit != "" {
		switch n, err := phrase.ParseBytes(j.LogLimit); {
		case err != nil:
			return f.wrong(where, "log_limit: %v", err)
		case n < minLog:
			return f.wrong(where, "log_limit is %s, and one piece of a log is larger", j.LogLimit).
				Advise("write one of at least %s: what may be written between two dumps", phrase.Bytes(minLog))
		}
	}
	if _, err := phrase.ParseFolderName(j.Name); err != nil {
		return f.wrong(where, "name: %v", err)
	}
	if err := f.checkFiles(where, j.Files); err != nil {
		return err
	}
	for _, c := range j.Accept {
		if !codeWord().MatchString(c) {
			return f.wrong(where, "accept: %q is no code of a warning",
				c).Advise("--json shows the code of each; the guide lists them")
		}
	}
	return f.checkSteps(where, j.Before, j.After, j.AfterDrill)
}

// ParseRate reads a bound on bytes a second; empty: none, 0.
func ParseRate(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := phrase.ParseBytes(strings.TrimSpace(strings.TrimSuffix(text, "/s")))
	if err == nil && n < minRate {
		err = fmt.Errorf("%q is too little: a dump would not end", text)
	}
	return n, err
}

// checkNight looks at what is about all jobs.
func (f *File) checkNight() error {
	if err := f.checkAges("journal", map[string]string{"keep_for": f.Journal.KeepFor}); err != nil {
		return err
	}
	if n := f.Journal.Source; n != "" {
		if s, ok := f.Source[n]; !ok || s.Engine != "postgres" {
			return f.wrong("journal", "source is %q, which is no PostgreSQL source", n)
		}
		if f.Journal.Database == "" {
			return f.wrong("journal",
				"the key database is missing").Advise("name an existing database for the journal's tables")
		}
	}
	s := f.Schedule
	if _, err := f.Takeover(); err != nil {
		return f.wrong("schedule", "takeover is %q", s.Over).
			Advise("write how long a machine may be silent, 10 s at least: takeover = \"2 min\"")
	}
	if s.AtOnce < 0 || s.AtOnce > 64 {
		return f.wrong("schedule", "at_once is %d",
			s.AtOnce).Advise("write how many jobs may run at the same time, from 1 to 64")
	}
	if s.Listen != "" {
		if host, _, err := net.SplitHostPort(s.Listen); err != nil || host == "" {
			return f.wrong("schedule", "listen is %q",
				s.Listen).Advise("write an address and a port: \"127.0.0.1:7643\"")
		}
	}
	if s.Token != "" && !sha256Hex().MatchString(s.Token) {
		return f.wrong("schedule", "token_sha256 is no SHA-256 in hexadecimal").
			Advise("'grainkeep schedule token' makes a token and prints this line; the token itself must not stand here")
	}
	for _, name := range sorted(f.Tell) {
		if err := f.checkTell("tell."+name, f.Tell[name]); err != nil {
			return err
		}
	}
	return nil
}

// Tellable is what can be told.
var Tellable = []string{"failure", "warning", "success", "recovery", "stale"}

// ways are how people are told, with the keys that each needs.
var ways = map[string]func(Tell) string{
	"mail": func(t Tell) string {
		return lacking(map[string]bool{"server": t.Server != "", "from": t.From != "", "to": len(t.To) > 0})
	},
	"webhook": func(t Tell) string { return lacking(map[string]bool{"url": t.URL != ""}) },
	"syslog":  func(t Tell) string { return lacking(map[string]bool{"server": t.Server != ""}) },
}

func lacking(has map[string]bool) string {
	for _, key := range sorted(has) {
		if !has[key] {
			return key
		}
	}
	return ""
}

func (f *File) checkTell(where string, t Tell) error {
	if !codeWord().MatchString(strings.TrimPrefix(where, "tell.")) {
		return f.wrong(where, "it cannot be named so").Advise("use small letters, digits and -")
	}
	if t.By == "mail" {
		if _, port, err := net.SplitHostPort(t.Server); t.Server != "" && (err != nil || port == "") {
			return f.wrong(where, "server is %q",
				t.Server).Advise("write a host and a port: \"mail.ternskerry.example:587\"")
		}
		if t.TLS != "" && t.TLS != "starttls" && t.TLS != "tls" && t.TLS != "off" {
			return f.wrong(where, "tls is %q", t.TLS).Advise("write \"starttls\", \"tls\" or \"off\"")
		}
		if t.User != "" && t.Secret == "" {
			return f.wrong(where, "the key secret is missing")
		}
	}
	needs, ok := ways[t.By]
	if !ok {
		return f.wrong(where, "by is %q", t.By).Advise("write \"mail\", \"webhook\" or \"syslog\"")
	}
	if key := needs(t); key != "" {
		return f.wrong(where, "the key %s is missing", key)
	}
	for _, on := range t.On {
		if !slices.Contains(Tellable, on) {
			return f.wrong(where, "on: %q cannot be told of", on).Advise("write some of: %s", strings.Join(Tellable,
				", "))
		}
	}
	for _, j := range t.Jobs {
		if _, ok := f.Job[j]; !ok {
			return f.wrong(where, "there is no job %q", j).Advise("the jobs are: %s", strings.Join(f.Jobs(), ", "))
		}
	}
	if _, err := Schedules(t.Report); err != nil {
		return f.wrong(where, "report: %v", err)
	}
	if _, err := Schedules(t.Summary); err != nil {
		return f.wrong(where, "summary: %v", err)
	}
	if t.Secret != "" && !isPlace(t.Secret) {
		return f.wrong(where, "the secret itself must not stand in this file").
			Advise("write secret = \"file:/path\" or \"env:NAME\", and change the password that stood here")
	}
	for _, to := range append([]string{t.From, t.URL, t.Server}, t.To...) {
		if strings.ContainsFunc(to, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return f.wrong(where, "%q has a control character in it", to)
		}
	}
	return f.checkAges(where, map[string]string{"again": t.Again})
}

// systemState is the state folder of a machine.
const systemState = "/var/lib/grainkeep"

// StateFolder is where this machine's own files about the runs are: the journal, the logs, the notes about steps.
// It is empty where nothing says where that may be.
func StateFolder(f *File) string {
	switch {
	case f != nil && f.Journal.Folder != "":
		return f.Absolute(f.Journal.Folder)
	case f != nil && f.path == SystemFile, os.Getuid() == 0 && os.Getenv("HOME") == "/root":
		return systemState // the same for whoever uses the machine's configuration
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "grainkeep")
	}
	if dir := os.Getenv("LocalAppData"); filepath.IsAbs(dir) { // Windows
		return filepath.Join(dir, "grainkeep")
	}
	if home := os.Getenv("HOME"); filepath.IsAbs(home) {
		return filepath.Join(home, ".local", "state", "grainkeep")
	}
	if os.Getuid() == 0 {
		return systemState
	}
	return ""
}

// Tells lists the names of those who are told, sorted.
func (f *File) Tells() []string { return sorted(f.Tell) }

// defaultTakeover is how long a machine is silent until another does its work, unless something else is said; and the
// least that can be said.
const (
	defaultTakeover = 2 * time.Minute
	leastTakeover   = 10 * time.Second
)

// Takeover is how long a machine with a shared journal may be silent until another does its work.
func (f *File) Takeover() (time.Duration, error) {
	d, err := age(f.Schedule.Over, defaultTakeover)
	if err == nil && d < leastTakeover {
		err = errors.New("it is too short")
	}
	return d, err
}
