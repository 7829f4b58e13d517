// Package verify reads every byte of a dump back and checks it.
package verify

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/store"
)

// Report is what verify found.
type Report struct {
	Files    int
	Bytes    int64
	Findings []string // each names a file; none: the dump is intact
	Strays   []string // files that do not belong to the dump
}

// Dump reads all files of a dump. The error is for what kept it from looking: it says
// nothing about the dump.
func Dump(ctx context.Context, d *keep.Dump, feed *event.Feed) (*Report, error) {
	r := &Report{}
	if d.Err != nil {
		if fault.Of(d.Err).Class != fault.ProvenBad {
			return nil, d.Readable()
		}
		r.Findings = append(r.Findings, d.Err.Error())
		return r, nil
	}
	m, err := d.Stored(ctx)
	if err != nil {
		if fault.Of(err).Class != fault.ProvenBad {
			return nil, err
		}
		r.Findings = append(r.Findings, err.Error())
		return r, nil
	}
	meter := feed.Gauge()
	meter.Begin("verifying "+d.Name(), len(m.Files), m.StoredBytes)
	if err := r.sums(ctx, d, m); err != nil {
		return nil, err
	}
	for _, f := range m.Files {
		finding, err := File(ctx, d, f, func(n int64) { meter.Bytes.Add(n) })
		if err != nil {
			return nil, err
		}
		if finding != "" {
			r.Findings = append(r.Findings, finding)
		}
		r.Files++
		r.Bytes += f.Bytes
		meter.Done.Add(1)
	}
	if err := r.strays(ctx, d, m); err != nil {
		return nil, err
	}
	return r, nil
}

// sums checks SHA256SUMS against the manifest.
func (r *Report) sums(ctx context.Context, d *keep.Dump, m *manifest.Manifest) error {
	want := m.SumLines(d.ID)
	data, err := d.ReadAll(ctx, manifest.Sums, int64(len(want)))
	var large *store.TooLargeError
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, store.ErrNotRegular):
		r.Findings = append(r.Findings, Absent(manifest.Sums, err))
	case errors.As(err, &large), err == nil && string(data) != want:
		r.Findings = append(r.Findings, manifest.Sums+" does not match the manifest")
	case err != nil:
		return unread(d, manifest.Sums, err)
	}
	return nil
}

// Absent is the finding about a file that is not there, or is something else.
func Absent(path string, err error) string {
	if errors.Is(err, store.ErrNotRegular) {
		return path + " " + store.ErrNotRegular.Error()
	}
	return path + " is missing"
}

func unread(d *keep.Dump, path string, err error) error {
	return fault.New("dump-unreadable", err, "cannot read %s of %s", path, d.Path()).
		Advise("that says nothing about the dump: check who owns it, and the drive")
}

// File checks one file of a dump; the finding is empty if it is intact. step, which may
// be nil, is told of the bytes that are read.
func File(ctx context.Context, d *keep.Dump, f manifest.File, step func(bytes int64)) (finding string, err error) {
	e, err := d.Stat(ctx, f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, store.ErrNotRegular), err == nil && (e.Foreign || e.Folder):
		if err == nil {
			err = store.ErrNotRegular
		}
		return Absent(f.Path, err), nil
	case err != nil:
		return "", unread(d, f.Path, err)
	case e.Bytes < f.Bytes:
		return fmt.Sprintf("%s is cut short: %d of %d bytes", f.Path, e.Bytes, f.Bytes), nil
	case e.Bytes > f.Bytes:
		return fmt.Sprintf("%s is %d bytes too long", f.Path, e.Bytes-f.Bytes), nil
	}
	in, err := d.Raw(ctx, f.Path)
	if err != nil {
		return "", unread(d, f.Path, err)
	}
	defer in.Close()
	sum, n, err := blob.Digest(in, f.Bytes, func(n int64) bool {
		if step != nil {
			step(n)
		}
		return ctx.Err() == nil
	})
	switch {
	case ctx.Err() != nil:
		return "", context.Cause(ctx)
	case err != nil:
		return "", unread(d, f.Path, err)
	case n != f.Bytes:
		return fmt.Sprintf("%s changed while it was read", f.Path), nil
	case sum != f.SHA256:
		return mistaken(d, f.Path, sum), nil
	}
	return "", nil
}

// mistaken says whose bytes a file has.
func mistaken(d *keep.Dump, path, sum string) string {
	m, err := d.Stored(context.Background())
	if err != nil {
		m = d.Manifest
	}
	for _, other := range m.Files {
		if other.SHA256 == sum {
			return fmt.Sprintf("%s holds the bytes of %s", path, other.Path)
		}
	}
	return path + " is damaged: its digest does not match the manifest"
}

// strays finds what lies in the dump's folder and is not of the dump.
func (r *Report) strays(ctx context.Context, d *keep.Dump, m *manifest.Manifest) error {
	known := map[string]bool{manifest.Name: true, manifest.Sums: true}
	if m.Signed != nil {
		known[manifest.Name+manifest.Signature] = true
	}
	for _, f := range m.Files {
		known[f.Path] = true
	}
	var walk func(folder string) error
	walk = func(folder string) error {
		return d.List(ctx, folder, func(e store.Entry) error {
			switch {
			case known[e.Name]:
			case e.Folder && store.CheckName(e.Name) == nil:
				return walk(e.Name)
			default:
				r.Strays = append(r.Strays, e.Name)
			}
			return nil
		})
	}
	if err := walk(""); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return unread(d, "a folder", err)
	}
	return nil
}

// Present finds, without reading them, the files that are missing or have the
// wrong length.
func Present(ctx context.Context, d *keep.Dump) (findings []string, err error) {
	m, err := d.Stored(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range m.Files {
		e, err := d.Stat(ctx, f.Path)
		switch {
		case ctx.Err() != nil:
			return nil, context.Cause(ctx)
		case errors.Is(err, fs.ErrNotExist), errors.Is(err, store.ErrNotRegular):
			findings = append(findings, Absent(f.Path, err))
		case err != nil:
			return findings, unread(d, f.Path, err)
		case e.Foreign || e.Folder:
			findings = append(findings, Absent(f.Path, store.ErrNotRegular))
		case e.Bytes != f.Bytes:
			findings = append(findings, fmt.Sprintf("%s has %d bytes instead of %d", f.Path, e.Bytes, f.Bytes))
		}
	}
	return findings, nil
}

// Summary joins findings for a message.
func Summary(findings []string) string {
	const most = 5
	if len(findings) > most {
		return fmt.Sprintf("%s; and %d more", strings.Join(findings[:most], "; "), len(findings)-most)
	}
	return strings.Join(findings, "; ")
}
