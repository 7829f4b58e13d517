// Package verify reads every byte of a dump back and checks it.
package verify

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/event"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// Report is what verify found.
type Report struct {
	Files    int
	Bytes    int64
	Findings []string // each names a file; none: the dump is whole
	Strays   []string // files that do not belong to the dump
}

// Dump reads all files of a dump. The error is for what kept it from looking.
func Dump(ctx context.Context, d *keep.Dump, meter *event.Meter) (*Report, error) {
	r := &Report{}
	if d.Err != nil {
		r.Findings = append(r.Findings, d.Err.Error())
		return r, nil
	}
	known := map[string]bool{manifest.Name: true, manifest.Sums: true}
	meter.Begin("verifying "+d.Name(), len(d.Manifest.Files), d.Manifest.StoredBytes)
	r.sums(d)
	for _, f := range d.Manifest.Files {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		known[f.Path] = true
		finding, err := File(d, f)
		if err != nil {
			return nil, err
		}
		if finding != "" {
			r.Findings = append(r.Findings, finding)
		}
		r.Files++
		r.Bytes += f.Bytes
		meter.Bytes.Add(f.Bytes)
		meter.Done.Add(1)
	}
	err := filepath.WalkDir(d.Path, func(p string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(d.Path, p)
		if err == nil && !e.IsDir() && !known[rel] {
			r.Strays = append(r.Strays, rel)
		}
		return err
	})
	return r, err
}

// sums checks SHA256SUMS against the manifest.
func (r *Report) sums(d *keep.Dump) {
	data, err := os.ReadFile(filepath.Join(d.Path, manifest.Sums))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.Findings = append(r.Findings, manifest.Sums+" is missing")
	case err != nil:
		r.Findings = append(r.Findings, fmt.Sprintf("%s cannot be read: %v", manifest.Sums, err))
	case string(data) != d.Manifest.SumLines(d.ID):
		r.Findings = append(r.Findings, manifest.Sums+" does not match the manifest")
	}
}

// File checks one file of a dump; the finding is empty if it is whole.
func File(d *keep.Dump, f manifest.File) (finding string, err error) {
	sum, n, err := blob.Digest(filepath.Join(d.Path, f.Path))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f.Path + " is missing", nil
	case errors.Is(err, fs.ErrPermission):
		return "", err
	case err != nil:
		return fmt.Sprintf("%s cannot be read: %v", f.Path, errors.Unwrap(err)), nil
	case n < f.Bytes:
		return fmt.Sprintf("%s is cut short: %d of %d bytes", f.Path, n, f.Bytes), nil
	case n > f.Bytes:
		return fmt.Sprintf("%s is %d bytes too long", f.Path, n-f.Bytes), nil
	case sum != f.SHA256:
		for _, other := range d.Manifest.Files {
			if other.SHA256 == sum {
				return fmt.Sprintf("%s holds the bytes of %s", f.Path, other.Path), nil
			}
		}
		return f.Path + " is damaged: its digest does not match the manifest", nil
	}
	return "", nil
}

// Present finds, without reading them, the files that are missing or have the
// wrong length.
func Present(d *keep.Dump) (findings []string) {
	for _, f := range d.Manifest.Files {
		st, err := os.Stat(filepath.Join(d.Path, f.Path))
		if err != nil {
			findings = append(findings, f.Path+" is missing")
		} else if st.Size() != f.Bytes {
			findings = append(findings, fmt.Sprintf("%s has %d bytes instead of %d", f.Path, st.Size(), f.Bytes))
		}
	}
	return findings
}

// Summary joins findings for a message.
func Summary(findings []string) string {
	const most = 5
	if len(findings) > most {
		return fmt.Sprintf("%s; and %d more", strings.Join(findings[:most], "; "), len(findings)-most)
	}
	return strings.Join(findings, "; ")
}
