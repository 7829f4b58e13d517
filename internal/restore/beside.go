package restore

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"grainkeep/internal/chain"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// FolderOutcome is what came of the restore of a folder.
type FolderOutcome struct {
	files.Unpacked
	Folder string
	Aside  string // what an old folder of that name is called now
	Took   time.Duration
}

// Warnings are sentences about what did not come back as it was.
func (o *FolderOutcome) Warnings() (list []string) {
	if o.Owners > 0 {
		list = append(list, fmt.Sprintf("this user may not set owners: %s belong to it", phrase.Plural(int64(o.Owners),
			"entry")))
	}
	if o.Lost > 0 {
		list = append(list, fmt.Sprintf("%s could not be set: %s", phrase.Plural(int64(o.Lost), "extended attribute"),
			strings.Join(o.Attrs, ", ")))
	}
	return list
}

// Folder restores the dump of a folder: all of it, or what some paths mean, into a new folder. One that is there is
// renamed aside, if replace is set.
func Folder(ctx context.Context, plan *chain.Plan, to string, only []string, replace bool,
	feed *event.Feed) (o *FolderOutcome, err error) {
	began := time.Now()
	place, err := files.NewPlace(to, replace)
	if err != nil {
		return nil, err
	}
	defer func() {
		if e := place.Abort(); e != nil && err == nil {
			err = e
		}
	}()
	o = &FolderOutcome{Folder: to}
	if o.Unpacked, err = Unpack(ctx, plan, place.Work, only, feed); err != nil {
		return nil, err
	}
	if o.Aside, err = place.Commit(time.Now()); err != nil {
		return nil, err
	}
	o.Took = time.Since(began)
	return o, nil
}

// Unpack unpacks the chain of a folder into one that is there and empty, and checks every byte that it reads.
func Unpack(ctx context.Context, plan *chain.Plan, folder string, only []string, feed *event.Feed) (u files.Unpacked,
	err error) {
	list := plan.Dumps()
	last := plan.Last()
	past, err := payload.Past(ctx, list)
	if err != nil {
		return u, err
	}
	p, err := files.NewUnpacking(folder, only)
	if err != nil {
		return u, err
	}
	defer p.Close()
	feed.Gauge().Begin("restoring "+last.Manifest.Database, 0, last.Manifest.Payload.Tar.Bytes)
	for i, d := range list {
		err = payload.Whole(ctx, d, d.Manifest.Payload.Tar.File, func(r io.Reader) error {
			return p.Tar(ctx, &told{r, feed.Gauge()}, func(name string) bool { return past.Holds(i, name) })
		})
		if err != nil {
			return u, err
		}
	}
	if u, err = p.Finish(); err != nil {
		return u, err
	}
	if want := last.Manifest.Payload.Tar.Entries; len(only) == 0 && u.Entries != want {
		return u, payload.Damage(last, fmt.Sprintf("its chain gives %d entries, and the folder had %d", u.Entries, want))
	}
	return u, nil
}

// told is a reader whose bytes are told.
type told struct {
	r     io.Reader
	meter *event.Meter
}

// Read implements io.Reader.
func (t *told) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.meter.Bytes.Add(int64(n))
	return n, err
}

// Stream gives the dump of a command to its source's command that restores. The facts say into what.
func Stream(ctx context.Context, d *keep.Dump, s *stream.Source, facts step.Facts, feed *event.Feed) (time.Duration,
	error) {
	began := time.Now()
	if s == nil {
		return 0, fault.Wrong("source-unknown",
			"the dump is of a command, and the configuration has no source %q with such", d.Manifest.Source.Name).
			Advise("add the source with its restore command, or restore by hand as the dump's README.txt says")
	}
	p := d.Manifest.Payload.Stream
	feed.Gauge().Begin("restoring "+d.Manifest.Database, 0, p.Bytes)
	err := payload.Whole(ctx, d, p.File, func(r io.Reader) error {
		return s.Read(ctx, &told{r, feed.Gauge()}, facts, feed)
	})
	return time.Since(began), err
}
