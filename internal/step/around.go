package step

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/record"
	"grainkeep/internal/state"
	"grainkeep/internal/system"
)

// Around are the steps around a piece of work. Those after it run whatever happened: a note in a folder of this
// machine is there from before the first step until the last one is done, and MakeGood finishes what it finds.
type Around struct {
	Before []Step
	After  []Step
	Folder string // of the notes
}

// note is what is on disk while work goes on whose steps are not done.
type note struct {
	Format int       `json:"format"`
	Name   string    `json:"name"`
	Since  time.Time `json:"since"`
	Stage  Stage     `json:"stage"`
	After  []Step    `json:"after"`
	Facts  Facts     `json:"facts"`
}

const (
	noteFormat = 1
	noteEnding = ".json"
	maxNote    = 1 << 20 // bytes
)

// Open is work that was begun between steps. Close is always called.
type Open struct {
	a     Around
	stage Stage
	path  string
	lock  *os.File // of the note: held as long as this process lives
}

// Begin writes down what is to be done afterwards, and runs the steps before. When one fails, those after are run
// at once.
func (a Around) Begin(ctx context.Context, name string, before, after Stage, facts Facts, feed *event.Feed) (*Open,
	error) {
	if len(a.Before)+len(a.After) == 0 {
		return nil, nil
	}
	o := &Open{a: a, stage: after}
	if err := o.write(name, facts); err != nil {
		return nil, fault.New("intent-unwritable", err,
			"it could not be written down that steps are to be run afterwards").
			Advise("nothing was begun; check who owns %s, and whether its disk is full", a.Folder)
	}
	if err := all(ctx, a.Before, before, facts, feed, false); err != nil {
		facts.Result = "failed"
		return nil, errors.Join(err, o.Close(ctx, facts, feed))
	}
	return o, nil
}

func (o *Open) write(name string, facts Facts) error {
	if err := state.Folder(o.a.Folder); err != nil {
		return err
	}
	facts.Result = "killed" // if it is read
	data, _, err := record.Encode(note{noteFormat, name, time.Now().UTC(), o.stage, o.a.After, facts})
	if err != nil {
		return err
	}
	o.path = filepath.Join(o.a.Folder, name+noteEnding)
	f, err := state.Temporary(o.a.Folder)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = errors.Join(system.Lock(f), f.Sync())
	}
	if err == nil {
		err = os.Rename(f.Name(), o.path)
	}
	if err == nil {
		err = system.SyncFolder(o.a.Folder)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()), f.Close())
	}
	o.lock = f
	return nil
}

// Close runs the steps after, also when the context is cancelled. Those that fail stay written down: the next
// start of a command that runs jobs tries them again.
func (o *Open) Close(ctx context.Context, facts Facts, feed *event.Feed) error {
	if o == nil {
		return nil
	}
	defer o.lock.Close()
	if err := all(context.WithoutCancel(ctx), o.a.After, o.stage, facts, feed, true); err != nil {
		return err
	}
	return os.Remove(o.path)
}

// MakeGood runs the steps that killed runs left undone, and says for which work that was. What goes on is left alone.
func MakeGood(ctx context.Context, folder string, feed *event.Feed) error {
	return eachNote(folder, func(name string) error {
		return makeGood(ctx, filepath.Join(folder, name+noteEnding), feed)
	})
}

// eachNote does something for each note in a folder, whatever becomes of the others.
func eachNote(folder string, do func(name string) error) error {
	list, err := os.ReadDir(folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.New("intent-unreadable", err, "it cannot be seen whether an earlier run left steps undone")
	}
	var failed []error
	for _, e := range list {
		if name, ok := strings.CutSuffix(e.Name(), noteEnding); ok && !strings.HasPrefix(name, ".") {
			failed = append(failed, do(name))
		}
	}
	return errors.Join(failed...)
}

func makeGood(ctx context.Context, path string, feed *event.Feed) error {
	f, err := os.OpenFile(path, os.O_RDONLY|system.NoFollow, 0)
	if errors.Is(err, os.ErrNotExist) {
		return nil // done meanwhile
	}
	if err != nil {
		return fault.New("intent-unreadable", err, "it cannot be seen which steps an earlier run left undone")
	}
	defer f.Close()
	if system.Lock(f) != nil {
		return nil // it goes on
	}
	if !system.Still(f, path) {
		return nil
	}
	n, err := readNote(f)
	if err != nil {
		return fault.New("intent-unreadable", err,
			"the note about steps that an earlier run left undone cannot be used: %s", path).
			Advise("see that what it stopped is up again, then remove the file")
	}
	feed.Warn("made-good", "", "%s did not end properly %s: its steps after are run now", n.Name,
		phrase.Ago(time.Since(n.Since)))
	if err := all(context.WithoutCancel(ctx), n.After, n.Stage, n.Facts, feed, true); err != nil {
		return fmt.Errorf("what %s left undone is still undone, and will be tried again (%s): %w", n.Name, path, err)
	}
	return os.Remove(path)
}

func readNote(f *os.File) (n note, err error) {
	st, err := f.Stat()
	if err != nil {
		return n, err
	}
	if !st.Mode().IsRegular() || st.Size() > maxNote {
		return n, errors.New("it is none that was written here")
	}
	data := make([]byte, st.Size())
	if _, err := f.ReadAt(data, 0); err != nil {
		return n, err
	}
	if err := record.Decode(data, &n); err != nil {
		return n, err
	}
	for _, s := range n.After {
		if len(s.Words) == 0 {
			return n, errors.New("one of its steps has no words")
		}
	}
	return n, nil
}
