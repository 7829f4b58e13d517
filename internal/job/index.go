package job

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"grainkeep/internal/keep"
	"grainkeep/internal/seal"
	"grainkeep/internal/state"
	"grainkeep/internal/store"
	folderstore "grainkeep/internal/store/folder"
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
		k.RememberSealed(func() (store.Store, *seal.Key, error) { return sealedMemory(filepath.Join(folder, "sealed")) })
	}
}

// sealedMemory is the folder in which this machine remembers what its next dumps need of sealed ones, and its key for that,
// which is made if it is not there.
func sealedMemory(folder string) (store.Store, *seal.Key, error) {
	if err := state.Folder(folder); err != nil {
		return nil, nil, err
	}
	key, err := memoryKey(filepath.Join(folder, "memory.key"))
	if err != nil {
		return nil, nil, err
	}
	st, err := folderstore.Open(folder)
	return st, key, err
}

func memoryKey(path string) (*seal.Key, error) {
	data, err := os.ReadFile(path)
	if err == nil {
		return seal.ParseKey(string(data))
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	key, err := seal.NewKey(false)
	if err != nil {
		return nil, err
	}
	f, err := state.Temporary(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	_, err = f.WriteString(key.String() + "\n")
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Link(f.Name(), path) // another process may have made it meanwhile: then that one counts
	}
	err = errors.Join(err, os.Remove(f.Name()))
	if errors.Is(err, fs.ErrExist) {
		return memoryKey(path)
	}
	return key, err
}
