package cli

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"text/template"

	"github.com/spf13/cobra"

	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
)

type keyFlags struct{ quantum, passphrase, sign, sheet bool }

func (a *app) keyCommand() *cobra.Command {
	var k keyFlags
	cmd := explain(&cobra.Command{
		Use: "key FILE", Short: "Make a key for sealing or signing; print the recovery sheet",
		Args: args(1, 1, "the file for the private key"),
		RunE: func(_ *cobra.Command, names []string) error {
			if k.sheet {
				return a.keySheet(names[0])
			}
			return a.makeKey(names[0], k)
		},
	}, usage{`Makes a pair of keys: the private one goes into FILE, which must not be there yet; the public
one is printed, for 'seal' in a keep or a job. Dumping needs the public key only: keep the private
one away from the machine that dumps. With --sign it makes a key that signs dumps and proofs, and
FILE.pub beside it. --sheet prints the recovery sheet of a key that is there: what to put into a
safe, and what to do with it on the bad day.`, [2]string{
		"grainkeep key office.key", "grainkeep key office.key --sheet > sheet.txt"}})
	f := cmd.Flags()
	f.BoolVar(&k.quantum, "quantum", false, "a key that quantum computers do not break either; opening by hand needs age 1.3")
	f.BoolVar(&k.passphrase, "passphrase", false, "protect the file with a passphrase, which is asked for")
	f.BoolVar(&k.sign, "sign", false, "a key that signs, in the form of OpenSSH")
	f.BoolVar(&k.sheet, "sheet", false, "print the recovery sheet of the key in FILE")
	return cmd
}

func (a *app) makeKey(path string, k keyFlags) (err error) {
	if k.sign && (k.quantum || k.passphrase) {
		return fault.Wrong("flag-wrong", "a key that signs is used without anybody at hand: it is of one kind, without a passphrase")
	}
	if _, err := os.Lstat(path); err == nil {
		return fault.New("key-exists", nil, "%s exists already; it was not touched", path)
	}
	var p seal.Pair
	if k.sign {
		host, e := os.Hostname()
		if e != nil {
			host = "this-machine"
		}
		p, err = seal.MakeSigner("grainkeep@" + host)
	} else {
		secret := ""
		if k.passphrase {
			if secret, err = a.newPassphrase(path); err != nil {
				return err
			}
		}
		p, err = seal.MakePair(k.quantum, secret, clock.Now())
	}
	if err == nil {
		err = writeNew(path, p.File)
	}
	if err == nil && k.sign {
		err = writeNew(path+".pub", []byte(p.Public+"\n"))
	}
	switch {
	case errors.Is(err, fs.ErrExist):
		return fault.New("key-exists", nil, "%s or its public key exists already; it was not touched", path)
	case err != nil:
		return fault.New("key-unwritable", err, "cannot write %s", path)
	}
	a.print("%s\n", p.Public)
	if k.sign {
		a.say("The private key is in %s; the line above is the public one.\n"+
			"Next: sign = %q in a keep, and signed_by = [%q] wherever its dumps are read.", path, path, "file:"+path+".pub")
	} else {
		a.say("The private key is in %s; the line above is the public one.\n"+
			"Next: put it into seal = [\"…\"] of a keep or a job, beside that of a second key, and take the private\n"+
			"keys away from this machine: 'grainkeep key %s --sheet' prints one for the safe.", path, path)
	}
	return a.emit(map[string]string{"file": path, "public": p.Public})
}

// newPassphrase asks for a passphrase twice.
func (a *app) newPassphrase(path string) (string, error) {
	one, err := a.askPassphrase(path)()
	if err != nil {
		return "", err
	}
	const least = 12
	if len(one) < least {
		return "", fault.Wrong("passphrase-short", "the passphrase has %d characters; take at least %d, such as five words", len(one),
			least)
	}
	again, err := a.askPassphrase(path + ", again")()
	if err == nil && again != one {
		err = fault.Wrong("passphrase-differs", "the two are not the same; nothing was written")
	}
	return one, err
}

//go:embed sheet.txt
var sheetText string

var sheet = template.Must(template.New("sheet").Parse(sheetText))

// sheetKey is a key on a recovery sheet.
type sheetKey struct {
	Private, Public string
	Groups          []string // of the private one, to be read aloud
	For             []string // what the configuration seals for it
}

func (a *app) keySheet(path string) error {
	file, err := os.ReadFile(path)
	if err != nil {
		return fault.Wrong("key-absent", "the key %s cannot be read", phrase.Clean(path)).Advise("check its path and its owner")
	}
	lines, err := seal.Lines(file, a.askPassphrase(path))
	if err != nil {
		return fault.Wrong("key-unusable", "there is no sheet of %s: %v", phrase.Clean(path), err)
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	var keys []sheetKey
	for _, l := range lines {
		keys = append(keys, sheetKey{l[0], l[1], groups(l[0]), sealedFor(f, l[1])})
	}
	var b bytes.Buffer
	if err := sheet.Execute(&b, map[string]any{"Day": clock.Now().Format("2006-01-02"), "Keys": keys}); err != nil {
		return err
	}
	a.print("%s", block(phrase.CleanLines(b.String())))
	return a.emit(map[string]any{"sheet": b.String()})
}

// groups cuts a key into pieces that can be read aloud, some in a line.
func groups(key string) (lines []string) {
	const size, inLine = 8, 5
	var line []string
	for len(key) > 0 {
		n := min(size, len(key))
		line = append(line, key[:n])
		key = key[n:]
		if len(line) == inLine || len(key) == 0 {
			lines = append(lines, strings.Join(line, " "))
			line = nil
		}
	}
	return lines
}

// sealedFor says which keeps and jobs of a configuration seal for a key.
func sealedFor(f *config.File, public string) (list []string) {
	if f == nil {
		return nil
	}
	names := func(s config.Seal) bool {
		for _, one := range s {
			if strings.HasPrefix(one, public) {
				return true
			}
		}
		return false
	}
	for _, name := range f.Keeps() {
		if k := f.Keep[name]; names(k.Seal) {
			place := k.Folder
			if place == "" {
				place = phrase.Redact(k.Store)
			}
			list = append(list, fmt.Sprintf("the keep %s: %s", name, place))
		}
	}
	for _, name := range f.Jobs() {
		if j := f.Job[name]; names(j.Seal) {
			list = append(list, fmt.Sprintf("the job %s, into the keep %s", name, j.Keep))
		}
	}
	return list
}
