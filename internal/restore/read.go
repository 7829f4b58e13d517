package restore

import (
	"fmt"
	"io"
	"path/filepath"

	"grainkeep/internal/blob"
	"grainkeep/internal/verify"
)

// read gives the text of a file, checked against the manifest.
func (l *loader) read(path string) ([]byte, error) {
	f, err := blob.Open(filepath.Join(l.d.Path, path), blob.Compression(l.m.Compression))
	if err != nil {
		return nil, l.fileTrouble(path, err)
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err != nil {
		return nil, l.fileTrouble(path, err)
	}
	return text, l.checkSum(path, f)
}

func (l *loader) checkSum(path string, f *blob.Source) error {
	sum, err := f.Sum()
	if err != nil {
		return l.fileTrouble(path, err)
	}
	for _, known := range l.m.Files {
		if known.Path == path && known.SHA256 == sum {
			return nil
		}
	}
	return damaged(l.d, path+" does not match its digest")
}

// fileTrouble tells a damaged file from other causes: the digest decides.
func (l *loader) fileTrouble(path string, cause error) error {
	for _, f := range l.m.Files {
		if f.Path == path {
			if finding, err := verify.File(l.d, f); err == nil && finding != "" {
				return damaged(l.d, finding)
			}
		}
	}
	return fmt.Errorf("%s: %w", path, cause)
}
