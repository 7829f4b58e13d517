package cli

import (
	"os"
	"strings"

	"grainkeep/internal/fault"
	"grainkeep/internal/seal"
)

// away goes through a sealed copy on a second keep, the loss of the machine, and the way back with the recovery key.
func (w *walk) away(step int) {
	if w.err != nil {
		return
	}
	w.say("── %d. Away, and sealed. Two keys: one for the office, one on paper in a safe. A copy for both goes to a second keep,\n"+
		"   encrypted before its first byte leaves this machine. (Here that is a folder; it may be sftp://… or s3://….)", step)
	w.run("0", "key", "office.key")
	w.run("0", "key", "recovery.key")
	w.run("0", "key", "recovery.key", "--sheet")
	w.run("0", "keep", "create", "./vault")
	var seals []string
	for _, path := range []string{"office.key", "recovery.key"} {
		file, err := os.ReadFile(path)
		var lines [][2]string
		if err == nil {
			lines, err = seal.Lines(file, nil)
		}
		if err != nil {
			w.err = fault.New("demo-failed", err, "the demo's key %s cannot be read", path)
			return
		}
		seals = append(seals, "--seal", lines[0][1])
	}
	w.run("0", append([]string{"copy", "nightly", "--to", "./vault"}, seals...)...)
	w.say("   Whoever looks into that keep without a key sees what there is, and nothing of what is in it.")
	w.run("0", "list", "--from", "./vault")

	w.say("── %d. The bad day: the machine is lost, with its configuration, its keep and the office's key. There is a fresh one, the\n"+
		"   second keep, and the sheet of paper.", step+1)
	if w.err == nil {
		w.err = w.lose()
	}
	name := "nightly/" + w.stage.bookings
	w.run("1", "restore", name, "--from", "./vault", "--to", w.stage.fresh, "--as", w.stage.found)
	w.run("0", "restore", name, "--from", "./vault", "--to", w.stage.fresh, "--as", w.stage.found, "--key", "recovery.key")
	w.run("0", "drill", name, "--from", "./vault", "--to", w.stage.fresh, "--key", "recovery.key")
	if w.err == nil {
		w.err = w.find()
	}
}

// gone are the files that a lost machine does not have.
var gone = []string{"barn", "grainkeep.toml", "office.key"}

// lose puts away what is lost; commands then run without a configuration.
func (w *walk) lose() error {
	if err := os.MkdirAll("lost", 0o700); err != nil {
		return err
	}
	for _, name := range gone {
		if err := os.Rename(name, "lost/"+name); err != nil {
			return err
		}
	}
	if !strings.Contains(w.stage.fresh, "://") {
		if err := os.MkdirAll(w.stage.fresh, 0o700); err != nil {
			return err
		}
	}
	w.bare = true
	return nil
}

// find brings it back for whoever looks at the demo afterwards.
func (w *walk) find() error {
	w.bare = false
	for _, name := range gone {
		if err := os.Rename("lost/"+name, name); err != nil {
			return err
		}
	}
	return os.Remove("lost")
}
