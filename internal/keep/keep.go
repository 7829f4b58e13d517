// Package keep is the place where dumps live, in a store: its marker, its layout, its
// leases, and how a finished dump comes into place. It also knows what it holds: a
// record of each run, so that what vanishes is missed.
package keep

import (
	"context"
	"crypto/rand"
	_ "embed"
	"encoding/hex"
	"errors"
	"io/fs"
	"net/url"
	"strings"
	"time"

	"grainkeep/internal/clock"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/record"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
	"grainkeep/internal/system"
)

const (
	markerName = "grainkeep.json"
	startName  = "START-HERE.txt"
	workName   = ".work"
	jobsName   = "jobs"
	proofsName = "proofs"
	runsName   = "runs"
	formatNow  = 1
)

// maxSmall bounds the keep's own small files: marker, jobs, proofs, records, sums.
const maxSmall = 4 << 20 // bytes

//go:embed start-here.txt
var startHere []byte

// Keep is an open keep. Its methods may be called side by side.
type Keep struct {
	ID       string
	Created  time.Time
	Floor    Floor
	ReadOnly bool // nothing can be written here now

	// Seal says for whom what is written here is sealed, Sign who signs it; nil: it is not. They are asked when something
	// is written.
	Seal    func() ([]seal.Recipient, error)
	Sign    func() (*seal.Signer, error)
	Trusted seal.Trusted // whose signatures count; none: nothing needs one

	st     store.Store
	blind  bool
	start  string        // digest of START-HERE.txt
	memory *memory       // nil: nothing is remembered
	sealed *sealedMemory // of sealed dumps that were made here; nil: the same
}

type marker struct {
	Format  int       `json:"format"`
	ID      string    `json:"id"`
	Created time.Time `json:"created"`
	Start   string    `json:"start_here_sha256"`
	Note    string    `json:"note"`
}

// Where is the keep's place, as people and scripts write it.
func (k *Keep) Where() string { return k.st.Where("") }

// Create makes a keep at a path or a URL: it makes the place if need be, then the
// marker. A place with other things in it becomes a keep only with adopt set.
func Create(ctx context.Context, place string, adopt bool) (*Keep, error) {
	st, err := store.Make(ctx, place)
	var known *fault.Error
	if errors.As(err, &known) {
		return nil, known
	}
	if err != nil {
		return nil, unwritable(shown(place), err)
	}
	var foreign []string
	err = st.List(ctx, "", func(e store.Entry) error {
		if e.Name == markerName {
			return fault.New("keep-exists", nil, "%s is a keep already", st.Where("")).
				Advise("nothing needs to be done; 'grainkeep list --from' shows what is in it")
		}
		if e.Name != "lost+found" && e.Name != startName { // a new file system, an earlier try
			foreign = append(foreign, e.Name)
		}
		return nil
	})
	if fault.HasCode(err, "keep-exists") {
		return nil, err
	}
	if err != nil {
		return nil, fault.New("keep-unreadable", err, "cannot look into %s", st.Where(""))
	}
	if len(foreign) > 0 && !adopt {
		return nil, fault.New("keep-not-empty", nil, "%s holds other things (%s)", st.Where(""), foreign[0]).
			Advise("choose an empty folder, or add --adopt to make this one a keep all the same; nothing in it is " +
				"touched")
	}
	return newKeep(ctx, st)
}

func newKeep(ctx context.Context, st store.Store) (*Keep, error) {
	var id [8]byte
	rand.Read(id[:])
	m := marker{Format: formatNow, ID: hex.EncodeToString(id[:]), Created: clock.Now().UTC().Truncate(time.Second),
		Start: record.ID(startHere), Note: "This is a keep of Grain Keep. See " + startName + "."}
	data, _, err := record.Encode(m)
	if err != nil {
		return nil, err
	}
	if err := store.WriteNew(ctx, st, startName, startHere); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, unwritable(st.Where(""), err)
	}
	if err := store.WriteNew(ctx, st, markerName, data); err != nil {
		return nil, unwritable(st.Where(""), err)
	}
	return &Keep{st: st, ID: m.ID, Created: m.Created, start: m.Start}, nil
}

func unwritable(where string, err error) error {
	if fault.HasCode(err, "object-locked") { // it says what to do
		return err
	}
	if errors.Is(err, store.ErrNotRegular) {
		return fault.New("keep-foreign", err, "the keep %s is not as it was made", where).
			Advise("a link, a pipe or a device does not belong in a keep; see who put it there, and remove it")
	}
	return fault.New("keep-unwritable", err, "cannot write to the keep %s", where).
		Advise("check that the drive is mounted and writable, and that %s may be written by this user", where)
}

func (k *Keep) unwritable(err error) error { return unwritable(k.Where(), err) }

// Open opens the keep at a path or a URL. A folder without a marker is not a keep, even
// if it is empty: a drive may not be mounted there.
func Open(ctx context.Context, place string) (*Keep, error) {
	st, err := store.Open(ctx, place)
	if errors.Is(err, fs.ErrNotExist) {
		if shown, is := strings.CutPrefix(place, "s3://"); is {
			bucket, _, _ := strings.Cut(shown, "/")
			return nil, fault.New("keep-absent", nil, "there is no bucket %s", bucket).
				Advise("check its name and the endpoint, or make a keep there with 'grainkeep keep create'")
		}
		return nil, fault.New("keep-absent", nil, "there is no folder %s", shown(place)).
			Advise("mount its drive, or make a keep there with 'grainkeep keep create %s'", shown(place))
	}
	var known *fault.Error
	if errors.As(err, &known) { // it says what to do
		return nil, known
	}
	if err != nil {
		return nil, fault.New("keep-unreadable", err, "cannot read the keep %s", shown(place))
	}
	return In(ctx, st)
}

// shown is a place for people: without what only opening it needs, and without secrets.
func shown(place string) string {
	if !strings.Contains(place, "://") {
		return phrase.Redact(place)
	}
	place, _, _ = strings.Cut(place, "?")
	u, err := url.Parse(place)
	if err != nil {
		return phrase.Redact(place)
	}
	if u.User != nil { // the name alone is no secret
		u.User = url.User(u.User.Username())
	}
	return u.String()
}

// In opens the keep in a store.
func In(ctx context.Context, st store.Store) (*Keep, error) {
	m, err := readMarker(ctx, st)
	if err != nil {
		return nil, err
	}
	k := &Keep{st: st, ID: m.ID, Created: m.Created, start: m.Start}
	if r, ok := st.(interface{ ReadOnly() bool }); ok {
		k.ReadOnly = r.ReadOnly()
	}
	return k, nil
}

func readMarker(ctx context.Context, st store.Store) (*marker, error) {
	where := st.Where("")
	data, err := store.ReadAll(ctx, st, markerName, maxSmall)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault.New("keep-unmarked", nil, "%s is not a keep: it has no %s", where, markerName).
			Advise("if a drive belongs there, it may not be mounted; if this is really the place, make it a keep "+
				"with 'grainkeep keep create %s'", where)
	case errors.Is(err, store.ErrNotRegular):
		return nil, markerDamaged(where, err)
	case err != nil:
		return nil, fault.New("keep-unreadable", err, "cannot read the keep %s", where)
	}
	m, err := parseMarker(data)
	if err != nil {
		return nil, markerDamaged(where, err)
	}
	if m.Format > formatNow {
		return nil, fault.New("format-too-new", nil,
			"the keep %s has format %d, and this program knows formats up to %d",
			where, m.Format, formatNow).Advise("use a newer grainkeep")
	}
	return m, nil
}

func parseMarker(data []byte) (*marker, error) {
	var m marker
	if err := record.Decode(data, &m); err != nil {
		return nil, err
	}
	if m.Format < 1 || !hexID(m.ID) {
		return nil, errors.New("what it says makes no sense")
	}
	return &m, nil
}

func markerDamaged(where string, err error) error {
	return fault.New("keep-marker-damaged", err, "%s in %s is damaged", markerName, where).
		Advise("the dumps themselves may be intact: give 'verify' the path of a dump's folder")
}

// hexID says whether a text is an id of ours: it also becomes a part of names.
func hexID(s string) bool {
	return len(s) >= 4 && len(s) <= 64 && strings.Trim(s, "0123456789abcdef") == ""
}

// Present fails when the keep's place no longer carries its marker: its drive
// went away while somebody was writing.
func (k *Keep) Present(ctx context.Context) error {
	gone := func(err error) error {
		return fault.New("keep-vanished", err, "the keep %s went away while a dump was written", k.Where()).
			Advise("check its drive and its mount; the dump that was being written does not count")
	}
	if p, ok := k.st.(interface{ Present() bool }); ok && !p.Present() {
		return gone(nil)
	}
	if k.blind {
		return context.Cause(ctx)
	}
	m, err := readMarker(ctx, k.st)
	if err != nil && ctx.Err() == nil || err == nil && m.ID != k.ID {
		return gone(nil)
	}
	return context.Cause(ctx)
}

// Writes fails where nothing can be written to the keep now.
func (k *Keep) Writes() error {
	switch {
	case !k.ReadOnly:
		return nil
	case !system.Folders:
		return system.Unsynced()
	}
	return fault.New("keep-unwritable", nil, "the keep %s cannot be written by this user", k.Where()).
		Advise("check that its drive is not mounted read-only, and who owns the folder")
}

// SameDrive says whether a path of this machine lies on the keep's file system; known
// is false where that cannot be told.
func (k *Keep) SameDrive(path string) (same, known bool) {
	if b, ok := k.st.(interface {
		SameDrive(path string) (same, known bool)
	}); ok {
		return b.SameDrive(path)
	}
	return false, false
}

// NewRun makes the id of a run.
func NewRun() string {
	var b [6]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}
