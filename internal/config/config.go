// Package config reads the configuration file: sources, keeps and jobs. It is
// strict: what it does not know is an error that shows where.
package config

import (
	"bytes"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
)

// File is a configuration file.
type File struct {
	Timezone string             `toml:"timezone,omitempty"`
	Journal  Journal            `toml:"journal,omitempty"`
	Schedule Serve              `toml:"schedule,omitempty"`
	Source   map[string]Source  `toml:"source"`
	Keep     map[string]Keep    `toml:"keep"`
	Job      map[string]Job     `toml:"job"`
	Tell     map[string]Tell    `toml:"tell,omitempty"`
	Refresh  map[string]Refresh `toml:"refresh,omitempty"`
	Standby  map[string]Standby `toml:"standby,omitempty"`
	Keys     []string           `toml:"keys,omitempty"` // private ones that open sealed dumps

	path string
	zone *time.Location
}

// Source is a database server, or SQLite files.
type Source struct {
	Engine  string   `toml:"engine"`
	Server  string   `toml:"server,omitempty"`
	User    string   `toml:"user,omitempty"`
	Secret  string   `toml:"secret,omitempty"`
	TLS     string   `toml:"tls,omitempty"`
	CA      string   `toml:"ca,omitempty"`
	Path    string   `toml:"path,omitempty"`
	Dump    []string `toml:"dump,omitempty"` // commands of the engine "command"
	Restore []string `toml:"restore,omitempty"`
	Check   []string `toml:"check,omitempty"`
	Limit   string   `toml:"limit,omitempty"`  // of each of them
	In      string   `toml:"folder,omitempty"` // in which they run
	Accept  []string `toml:"accept,omitempty"`
}

// Keep is a place where dumps live.
type Keep struct {
	Folder string `toml:"folder,omitempty"`
	Store  string `toml:"store,omitempty"` // a URL instead of a folder: sftp://, s3://
	Floor  string `toml:"floor,omitempty"`
	ID     string `toml:"id,omitempty"`     // that the keep must have; who may not read there has to say it
	Before []Step `toml:"before,omitempty"` // it is used: mount, unlock
	After  []Step `toml:"after,omitempty"`
	Retain string `toml:"retain,omitempty"` // which copies stay; empty: all
	Thin   string `toml:"thin,omitempty"`   // when the others go
	Seal   Seal   `toml:"seal,omitempty"`   // for whom what comes into it is encrypted
	Lone   bool   `toml:"one_recipient,omitempty"`
	Sign   string `toml:"sign,omitempty"`      // path of the private key that signs
	Signed Seal   `toml:"signed_by,omitempty"` // whose signatures count; what has none is refused
	Mirror bool   `toml:"mirror,omitempty"`    // what was removed where it was copied from goes here too

	Key        string `toml:"key,omitempty"`         // SFTP: path of a private key
	KnownHosts string `toml:"known_hosts,omitempty"` // SFTP: path of a file
	Jump       string `toml:"jump,omitempty"`        // SFTP: a host by way of which the server is reached

	Endpoint    string `toml:"endpoint,omitempty"`      // S3: URL of the service
	Region      string `toml:"region,omitempty"`        // S3
	Style       string `toml:"style,omitempty"`         // S3: path or host, where the bucket stands
	Credentials string `toml:"credentials,omitempty"`   // S3: path of a file; else the environment, or the usual one
	Profile     string `toml:"profile,omitempty"`       // S3: in that file
	Class       string `toml:"storage_class,omitempty"` // S3
	Lock        string `toml:"lock,omitempty"`          // S3: for how long nobody can remove a dump
	Encryption  string `toml:"encryption,omitempty"`    // S3: that the service does
}

// storeOptions are what opening a store needs besides its place, by the names that its URL has for them.
func (f *File) storeOptions(k Keep) url.Values {
	options := url.Values{}
	for name, value := range map[string]string{"jump": k.Jump, "endpoint": k.Endpoint, "region": k.Region, "style": k.Style,
		"profile": k.Profile, "class": k.Class, "lock": k.Lock, "encryption": k.Encryption} {
		if value != "" {
			options.Set(name, value)
		}
	}
	for name, path := range map[string]string{"key": k.Key, "known_hosts": k.KnownHosts, "credentials": k.Credentials} {
		if path != "" {
			options.Set(name, f.Absolute(path))
		}
	}
	return options
}

// remoteStores are the kinds of stores that are named by a URL.
var remoteStores = []string{"sftp://", "s3://"}

// IsRemote says whether a place is a URL of a store, and no path.
func IsRemote(place string) bool {
	return slices.ContainsFunc(remoteStores, func(s string) bool { return strings.HasPrefix(place, s) })
}

// Place is where a keep is: a path, or a URL with what opening it needs.
func (f *File) Place(k Keep) string {
	if k.Store == "" {
		return f.Absolute(k.Folder)
	}
	options := f.storeOptions(k)
	if len(options) == 0 {
		return k.Store
	}
	return k.Store + "?" + options.Encode()
}

func (f *File) checkKeep(where string, k Keep) error {
	switch {
	case k.Folder == "" && k.Store == "":
		return f.wrong(where, "the key folder is missing").Advise("say where the keep is: folder = \"/path\", or store = " +
			"\"sftp://user@host/path\"")
	case k.Folder != "" && k.Store != "":
		return f.wrong(where, "it has a folder and a store").Advise("a keep is in one place: make two of it, and copy")
	case k.Store != "" && !IsRemote(k.Store):
		return f.wrong(where, "store is %q", k.Store).Advise("write a URL: %s…; a path is a folder", strings.Join(remoteStores, "…, "))
	case k.Store != "" && strings.Contains(k.Store, "?"):
		return f.wrong(where, "store has options in it").Advise("write them as keys: key, known_hosts, jump; or " +
			"endpoint, region, credentials")
	case k.Store == "" && len(f.storeOptions(k)) > 0:
		return f.wrong(where, "%s is for a store on another machine", sorted(f.storeOptions(k))[0])
	}
	if _, err := phrase.ParseFloor(k.Floor); err != nil {
		return f.wrong(where, "floor: %v", err)
	}
	if _, err := phrase.ParseRetain(k.Retain); err != nil {
		return f.wrong(where, "retain: %v", err)
	}
	if err := f.checkSeal(where, k.Seal, k.Lone); err != nil {
		return err
	}
	for _, s := range k.Signed {
		if _, err := seal.ParseSignatory(s); err != nil && !strings.HasPrefix(s, "file:") {
			return f.wrong(where, "signed_by: %v", err).Advise("write public keys of OpenSSH, or file:PATH of a file with some")
		}
	}
	if _, err := age(k.Lock, 0); err != nil {
		return f.wrong(where, "lock: %v", err)
	}
	switch {
	case k.Encryption != "" && k.Encryption != "service" && !strings.HasPrefix(k.Encryption, "kms:"):
		return f.wrong(where, "encryption is %q", k.Encryption).Advise(`write "service", or "kms:" and the id of a key`)
	case k.Thin != "" && k.Thin != AfterCopy && k.Thin != ByHand:
		return f.wrong(where, "thin is %q", k.Thin).Advise("write %q or %q", AfterCopy, ByHand)
	case k.Thin == AfterCopy && k.Retain == "":
		return f.wrong(where, "there is nothing to thin without retain").Advise("say what stays: retain = \"newest 5 fulls\"")
	case k.Mirror && k.Retain != "":
		return f.wrong(where, "it is a mirror, and has a retain phrase of its own").Advise("leave one of them out")
	}
	return f.checkSteps(where, k.Before, k.After)
}

// Seal are public keys, or where some are: file:PATH, passphrase:file:PATH, passphrase:env:NAME.
type Seal []string

// Job is what to dump from a source into a keep.
type Job struct {
	Source       string   `toml:"source,omitempty"`
	Databases    []string `toml:"databases,omitempty"`
	Optional     []string `toml:"optional,omitempty"`
	Except       []string `toml:"except,omitempty"`
	Keep         string   `toml:"keep"`
	CopyTo       []string `toml:"copy_to,omitempty"` // keeps, after each dump
	Seal         Seal     `toml:"seal,omitempty"`    // for whom its dumps are encrypted; empty: as the keep says
	Lone         bool     `toml:"one_recipient,omitempty"`
	Compression  string   `toml:"compression,omitempty"`
	LockWait     string   `toml:"lock_wait,omitempty"`
	Silence      string   `toml:"silence,omitempty"`
	Workers      *int     `toml:"workers,omitempty"`   // at most; nil: one for each core
	Server       *bool    `toml:"server,omitempty"`    // nil: unless it names one database
	Passwords    *bool    `toml:"passwords,omitempty"` // of the server's users, as hashes; nil: no, with a warning
	DrillOn      string   `toml:"drill_on,omitempty"`
	SkipTables   []string `toml:"skip_tables,omitempty"`  // patterns
	HoldWriters  bool     `toml:"hold_writers,omitempty"` // those without transactions
	CopyFirst    bool     `toml:"copy_first,omitempty"`   // of a SQLite file
	Full         any      `toml:"full,omitempty"`         // when: a phrase, or a list of them
	Differential any      `toml:"differential,omitempty"`
	Incremental  any      `toml:"incremental,omitempty"`
	Changes      string   `toml:"changes,omitempty"`   // how incrementals find them; empty: as it can be done
	LogLimit     string   `toml:"log_limit,omitempty"` // the server may hold back so much of its log for it
	Copy         any      `toml:"copy,omitempty"`      // when dumps are copied to copy_to; empty: after each run
	Drill        any      `toml:"drill,omitempty"`
	DrillFrom    []string `toml:"drill_from,omitempty"` // keeps whose dumps are drilled in turns
	Verify       any      `toml:"verify,omitempty"`
	Grace        string   `toml:"grace,omitempty"`     // how late is late
	Retain       string   `toml:"retain,omitempty"`    // which dumps stay; empty: all
	Thin         string   `toml:"thin,omitempty"`      // when the others go
	CatchUp      string   `toml:"catch_up,omitempty"`  // how late a missed run is still made up for
	Spread       string   `toml:"spread,omitempty"`    // starts are delayed by up to that
	ReadBack     string   `toml:"read_back,omitempty"` // each dump is read back once in this time
	Name         string   `toml:"name,omitempty"`      // of the folders of its dumps
	Limit        string   `toml:"limit,omitempty"`     // how long a dump may take
	DrillLimit   string   `toml:"drill_limit,omitempty"`
	RestoreLimit string   `toml:"restore_limit,omitempty"`
	Tries        int      `toml:"tries,omitempty"` // of a run whose connection fails
	Wait         string   `toml:"wait,omitempty"`  // for another run of the job
	Priority     string   `toml:"priority,omitempty"`
	Rate         string   `toml:"rate,omitempty"`   // at most so many bytes a second into the keep
	Accept       []string `toml:"accept,omitempty"` // codes of warnings that are known and accepted
	Rows         []RowsOf `toml:"rows,omitempty"`
	Check        []Check  `toml:"check,omitempty"`
	Before       []Step   `toml:"before,omitempty"`
	After        []Step   `toml:"after,omitempty"`
	Files        []Files  `toml:"files,omitempty"`
	AfterDrill   []Step   `toml:"after_drill,omitempty"`
}

// Priorities of a job's work.
const (
	Normal = "normal"
	Low    = "low" // for processor and disk
)

// When dumps go that a retain phrase does not keep.
const (
	AfterGoodDump = "after a good dump"
	AfterCopy     = "after a copy" // into a keep
	ByHand        = "by hand"      // also where nothing is said
)

// Files is a companion folder that a job dumps beside its databases.
type Files struct {
	Name   string   `toml:"name"`
	Folder string   `toml:"folder"`
	Only   []string `toml:"only,omitempty"`   // patterns
	Except []string `toml:"except,omitempty"` // patterns
	Split  bool     `toml:"split,omitempty"`  // each folder in it is a dump of its own

	// ChangedBy is how a dump of changes tells what changed: by times, or by content.
	ChangedBy string `toml:"changed_by,omitempty"`
}

// RowsOf says which rows of a table a job takes.
type RowsOf struct {
	Table     string `toml:"table"`
	Condition string `toml:"condition"`
}

// Check is a query with the answer that it must have in every drill.
type Check struct {
	Database string `toml:"database,omitempty"`
	SQL      string `toml:"sql"`
	Answer   string `toml:"answer"`
}

// Parse reads a configuration; path is only for messages and for relative paths.
func Parse(data []byte, path string) (*File, error) {
	f := &File{path: path}
	d := toml.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(f); err != nil {
		return nil, explain(path, err)
	}
	if err := exact(path, data); err != nil {
		return nil, err
	}
	return f, f.check()
}

func (f *File) wrong(where, format string, args ...any) *fault.Error {
	return fault.Wrong("config-unclear", "%s, [%s]: %s", f.path, where, fmt.Sprintf(format, args...))
}

func (f *File) check() (err error) {
	if f.zone, err = time.LoadLocation(f.Timezone); err != nil {
		return f.wrong("timezone", "there is no time zone %q",
			f.Timezone).Advise("write one such as \"Atlantic/Faroe\"")
	}
	if f.Timezone == "" {
		if f.zone, err = localZone(); err != nil {
			return err
		}
	}
	for _, name := range sorted(f.Source) {
		s := f.Source[name]
		s.Engine = engine.Meant(s.Engine)
		f.Source[name] = s
		if s.Engine == Command {
			if err := f.checkCommand("source."+name, s); err != nil {
				return err
			}
			continue
		}
		if len(s.Dump)+len(s.Restore)+len(s.Check) > 0 {
			return f.wrong("source."+name, "dump, restore and check are for the engine \"command\"")
		}
		if _, err := engine.Find(s.Engine); err != nil {
			return f.wrong("source."+name, "there is no engine %q", s.Engine).Advise("the engines are: %s",
				strings.Join(append(engine.Names(), Command), ", "))
		}
		if (s.Engine == "sqlite") != (s.Path != "") {
			return f.wrong("source."+name,
				"a sqlite source has a path, and only it does").Advise("path is a file or a folder of files")
		}
		if s.TLS != "" && s.TLS != "off" && s.TLS != "on" && s.TLS != "verify" {
			return f.wrong("source."+name, "tls is %q", s.TLS).Advise("write \"off\", \"on\" or \"verify\"")
		}
		if s.Secret != "" && !isPlace(s.Secret) {
			return f.wrong("source."+name, "the secret itself must not stand in this file").
				Advise("write secret = \"file:/path\" or \"env:NAME\", and change the password that stood here")
		}
	}
	for _, name := range sorted(f.Keep) {
		if err := f.checkKeep("keep."+name, f.Keep[name]); err != nil {
			return err
		}
	}
	for _, name := range sorted(f.Job) {
		if err := f.checkJob(name, f.Job[name]); err != nil {
			return err
		}
	}
	for _, name := range sorted(f.Standby) {
		if err := f.checkStandby(name, f.Standby[name]); err != nil {
			return err
		}
	}
	for _, name := range sorted(f.Refresh) {
		if err := f.checkRefresh(name, f.Refresh[name]); err != nil {
			return err
		}
	}
	return f.checkNight()
}

func (f *File) checkJob(name string, j Job) error {
	where := "job." + name
	if !phrase.IsJob(name) {
		return f.wrong(where,
			"a job cannot be named so").Advise("use small letters, digits, - and _, at most 64; %s are taken",
			strings.Join(phrase.Reserved, ", "))
	}
	if _, ok := f.Source[j.Source]; !ok && (j.Source != "" || len(j.Files) == 0) {
		return f.wrong(where, "there is no source %q", j.Source).Advise("the sources are: %s",
			strings.Join(sorted(f.Source), ", "))
	}
	if err := f.checkSeal(where, j.Seal, j.Lone); err != nil {
		return err
	}
	if _, ok := f.Keep[j.Keep]; !ok {
		return f.wrong(where, "there is no keep %q", j.Keep).Advise("the keeps are: %s", strings.Join(sorted(f.Keep),
			", "))
	}
	if on, ok := f.Source[j.DrillOn]; j.DrillOn != "" && (!ok || on.Engine != f.Source[j.Source].Engine) {
		return f.wrong(where, "drill_on is %q, which is not a source of the same engine", j.DrillOn)
	}
	if j.Workers != nil && *j.Workers < 1 {
		return f.wrong(where, "workers is %d",
			*j.Workers).Advise("write how many connections may read at the same time, or leave it out")
	}
	if _, err := blob.ParseCompression(j.Compression); err != nil {
		return f.wrong(where, "%v", err).Advise("use zstd, gzip or none")
	}
	if err := f.checkAges(where, map[string]string{"lock_wait": j.LockWait, "silence": j.Silence, "grace": j.Grace,
		"catch_up": j.CatchUp, "spread": j.Spread, "read_back": j.ReadBack, "limit": j.Limit,
		"drill_limit":   j.DrillLimit,
		"restore_limit": j.RestoreLimit, "wait": j.Wait}); err != nil {
		return err
	}
	if err := f.checkLimits(where, j); err != nil {
		return err
	}
	for key, value := range map[string]any{"full": j.Full, "differential": j.Differential,
		"incremental": j.Incremental, "copy": j.Copy, "drill": j.Drill, "verify": j.Verify} {
		if _, err := Schedules(value); err != nil {
			return f.wrong(where, "%s: %v", key, err)
		}
	}
	if err := f.checkCopies(where, j); err != nil {
		return err
	}
	if err := f.checkKinds(where, j); err != nil {
		return err
	}
	if _, err := phrase.ParseRetain(j.Retain); err != nil {
		return f.wrong(where, "retain: %v", err)
	}
	switch {
	case j.Thin != "" && j.Thin != AfterGoodDump && j.Thin != ByHand:
		return f.wrong(where, "thin is %q", j.Thin).Advise("write %q or %q", AfterGoodDump, ByHand)
	case j.Thin == AfterGoodDump && j.Retain == "":
		return f.wrong(where,
			"there is nothing to thin without retain").Advise("say what stays: retain = \"newest 5 fulls\"")
	}
	for _, r := range j.Rows {
		if r.Table == "" || r.Condition == "" {
			return f.wrong(where, "an entry of rows lacks its table or its condition").
				Advise("write both: the table's name or pattern, and the condition as SQL")
		}
	}
	for _, c := range j.Check {
		if c.SQL == "" {
			return f.wrong(where, "a check has no sql")
		}
	}
	return nil
}

// isPlace says whether a text says where a secret is, and is none itself.
func isPlace(text string) bool {
	return strings.HasPrefix(text, "file:") || strings.HasPrefix(text, "env:")
}

func sorted[T any](m map[string]T) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// Jobs lists the names of the jobs, sorted.
func (f *File) Jobs() []string { return sorted(f.Job) }

// Keeps lists the names of the keeps, sorted.
func (f *File) Keeps() []string { return sorted(f.Keep) }

// Sources lists the names of the sources, sorted.
func (f *File) Sources() []string { return sorted(f.Source) }

// Zone is the time zone of the jobs.
func (f *File) Zone() *time.Location { return f.zone }

// Absolute reads a path relative to the configuration file.
func (f *File) Absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(f.path), path)
}

// Excerpt is the part of the configuration that one job needs. Secrets are named
// in it only by where they are.
func (f *File) Excerpt(name string) ([]byte, error) {
	j := f.Job[name]
	part := File{Timezone: f.zone.String(), Source: map[string]Source{}, Keep: map[string]Keep{},
		Job: map[string]Job{name: j}}
	j.Files = slices.Clone(j.Files)
	for i, c := range j.Files {
		j.Files[i].Folder = f.Absolute(c.Folder)
	}
	j.Before, j.After, j.AfterDrill = nil, nil, nil // commands have no place in a keep
	part.Job[name] = j
	for _, n := range []string{j.Source, j.DrillOn} {
		if s, ok := f.Source[n]; ok {
			if s.Path != "" {
				s.Path = f.Absolute(s.Path)
			}
			if s.Engine == Command {
				s.Dump, s.Restore, s.Check = []string{"write the command here"}, nil, nil
			}
			part.Source[n] = s
		}
	}
	k := f.Keep[j.Keep]
	k.Before, k.After = nil, nil
	for _, path := range []*string{&k.Folder, &k.Key, &k.KnownHosts, &k.Credentials} {
		if *path != "" {
			*path = f.Absolute(*path)
		}
	}
	part.Keep[j.Keep] = k
	var b bytes.Buffer
	fmt.Fprintf(&b, "# The job %s as it last ran. It can be used with --config.\n", name)
	err := toml.NewEncoder(&b).SetIndentTables(false).Encode(part)
	return b.Bytes(), err
}
