package standby

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
	"grainkeep/internal/state"
	"grainkeep/internal/system"
)

// Note is what this machine notes of a standby. How far that has come stands in the database itself.
type Note struct {
	Format   int       `json:"format"`
	Paused   bool      `json:"paused,omitempty"`
	Since    time.Time `json:"since,omitzero"` // of that
	Released bool      `json:"released,omitempty"`
	Dump     string    `json:"dump,omitempty"` // that it was at when it was looked after last
	Moment   time.Time `json:"moment,omitzero"`
	Looked   time.Time `json:"looked,omitzero"`
	Made     int       `json:"made,omitempty"` // how many times
	Trouble  string    `json:"trouble,omitempty"`
}

const (
	noteFormat = 1
	maxNote    = 64 << 10 // bytes
)

// Notes are those of one standby.
type Notes struct{ folder, name string }

// NotesIn are the notes of a standby in a folder of this machine.
func NotesIn(folder, name string) Notes { return Notes{filepath.Join(folder, "standby"), name} }

func (n Notes) path() string { return filepath.Join(n.folder, n.name+".json") }

// Read gives the note; an empty one, if there is none.
func (n Notes) Read() (note Note, err error) {
	f, err := os.Open(n.path())
	if errors.Is(err, fs.ErrNotExist) {
		return note, nil
	}
	var data []byte
	if err == nil {
		data, err = io.ReadAll(io.LimitReader(f, maxNote))
		f.Close()
	}
	if err == nil {
		err = record.Decode(data, &note)
	}
	if err == nil && note.Format != noteFormat {
		err = errors.New("it is of another format")
	}
	if err != nil {
		err = fault.New("standby-note", err, "what was noted of the standby %s cannot be read", n.name).
			Advise("look at %s; without it the standby counts as one that follows", n.path())
	}
	return note, err
}

// Do does a piece of work while nobody else on this machine is at the standby, and keeps what it changed in the note, also
// if it fails.
func (n Notes) Do(work func(*Note) error) error {
	if err := state.Folder(n.folder); err != nil {
		return err
	}
	lock, err := state.OpenFile(filepath.Join(n.folder, n.name+".lock"), os.O_RDWR|os.O_CREATE)
	if err != nil {
		return err
	}
	defer lock.Close() // it ends with the process too
	if err := system.Lock(lock); err != nil {
		return fault.New("standby-running", nil, "somebody is at the standby %s just now", n.name).Exit(fault.Running)
	}
	note, err := n.Read()
	if err != nil {
		return err
	}
	done := work(&note)
	note.Format = noteFormat
	return errors.Join(done, n.write(note))
}

func (n Notes) write(note Note) error {
	data, _, err := record.Encode(note)
	if err != nil {
		return err
	}
	f, err := state.Temporary(n.folder)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), n.path())
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}
