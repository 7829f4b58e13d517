package job

import (
	"errors"
	"os"
	"path/filepath"

	"grainkeep/internal/keep"
	"grainkeep/internal/state"
)

// indexes keeps indexes of keeps in a folder of this machine.
type indexes struct{ folder string }

// maxIndex bounds an index.
const maxIndex = 256 << 20 // bytes

func (x indexes) path(keep string) string { return filepath.Join(x.folder, keep+".index") }

// Read implements keep.Index.
func (x indexes) Read(keep string) ([]byte, error) {
	st, err := os.Lstat(x.path(keep))
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() || st.Size() > maxIndex {
		return nil, os.ErrInvalid
	}
	return os.ReadFile(x.path(keep))
}

// Write implements keep.Index.
func (x indexes) Write(keep string, data []byte) error {
	if err := state.Folder(x.folder); err != nil {
		return err
	}
	f, err := state.Temporary(x.folder)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), x.path(keep))
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// Remember gives a keep an index, where this machine has a folder for it.
func (s Set) Remember(k *keep.Keep) {
	if folder := s.State(); folder != "" {
		k.Remember(indexes{filepath.Join(folder, "keeps")})
	}
}
