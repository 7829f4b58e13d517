package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/system"
)

// Place is a folder that is being made. Until Commit it has a working name beside its own; Abort, which may follow
// that, removes what is unfinished.
type Place struct {
	Work    string // the folder to fill
	to      string
	replace bool
}

// Vacant fails where something has the name of a folder that is to be made.
func Vacant(to string, replace bool) error {
	_, err := os.Lstat(to)
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && replace:
		return nil
	case err != nil:
		return fault.New("target-unwritable", err, "cannot look at %s", to)
	}
	return fault.New("target-exists", nil, "%s exists already", to).
		Advise("name another folder with --to, or add --replace: the old one is then renamed, not deleted")
}

// NewPlace begins to make a folder. One that is there is renamed aside in the end, if replace is set.
func NewPlace(to string, replace bool) (*Place, error) {
	to, err := filepath.Abs(to)
	if err != nil {
		return nil, err
	}
	if err := Vacant(to, replace); err != nil {
		return nil, err
	}
	work, err := os.MkdirTemp(filepath.Dir(to), ".grainkeep-"+filepath.Base(to)+"-")
	if err != nil {
		return nil, fault.New("target-unwritable", err, "no folder can be made in %s", filepath.Dir(to)).
			Advise("make it, or check who may write there")
	}
	return &Place{Work: work, to: to, replace: replace}, nil
}

// Commit gives the folder its name. It gives what the old one is called now; empty: there was none.
func (p *Place) Commit(now time.Time) (aside string, err error) {
	if err := Vacant(p.to, p.replace); err != nil {
		return "", err
	}
	if _, err := os.Lstat(p.to); err == nil {
		aside = Aside(p.to, now)
		if err := os.Rename(p.to, aside); err != nil {
			return "", fault.New("target-unwritable", err, "%s could not be renamed",
				p.to).Advise("nothing was changed")
		}
	}
	if err := os.Rename(p.Work, p.to); err != nil {
		if aside != "" {
			err = errors.Join(err, os.Rename(aside, p.to))
		}
		return "", fault.New("target-unwritable", err, "%s could not be put in place", p.to)
	}
	p.Work = ""
	return aside, system.SyncFolder(filepath.Dir(p.to))
}

// Abort removes the folder, if it has not come into place.
func (p *Place) Abort() error {
	if p.Work == "" {
		return nil
	}
	return os.RemoveAll(p.Work)
}

// Aside is a free name for a folder that is put aside.
func Aside(path string, now time.Time) string {
	name := path + "_before_" + now.UTC().Format("20060102t150405z")
	for n := 2; ; n++ {
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return name
		}
		name = fmt.Sprintf("%s_before_%s_%d", path, now.UTC().Format("20060102t150405z"), n)
	}
}

// Free is a free name for something beside a folder.
func Free(path, ending string) string {
	name := path + ending
	for n := 2; ; n++ {
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return name
		}
		name = fmt.Sprintf("%s%s_%d", path, ending, n)
	}
}
