package dump

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/blob"
	"grainkeep/internal/clock"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// Folder is a companion folder that is dumped beside the databases.
type Folder struct {
	Name   string
	Path   string
	In     string // a folder in that: just this one; empty: all of it
	Choice files.Choice
	Split  bool // each folder in it is a dump of its own

	ByContent bool // files are read to know whether they changed
}

// beside is what is dumped and is no database.
type beside struct {
	folder *Folder
	flat   bool // of the folder only what lies right in it: the folders in it are dumps of their own
	stream *stream.Source
}

// besides finds what is dumped beside the databases, by the names of the dumps.
func (r *runner) besides() error {
	add := func(name string, b beside) {
		r.beside[name] = b
		r.plan.Databases = append(r.plan.Databases, engine.Database{Name: name})
	}
	for i := range r.Folders {
		f := &r.Folders[i]
		tree, err := files.Open(f.Path, f.Choice)
		if err != nil {
			return err
		}
		parts, err := tree.Folders()
		if e := tree.Close(); err == nil {
			err = e
		}
		if err != nil {
			return fault.New("folder-unreadable", err, "the folder %s cannot be read", f.Path)
		}
		add(manifest.FilesStart+f.Name, beside{folder: f, flat: f.Split})
		for _, p := range parts {
			if f.Split {
				one := &Folder{Name: f.Name + "/" + p, Path: f.Path, In: p, Choice: f.Choice}
				add(manifest.FilesStart+one.Name, beside{folder: one})
			}
		}
	}
	if r.Stream != nil {
		add(manifest.StreamStart+r.Stream.Name, beside{stream: r.Stream})
	}
	return nil
}

// dumpBeside dumps what is no database.
func (r *runner) dumpBeside(ctx context.Context, session *keep.Session, name string, b beside) (*keep.Dump, error) {
	started := clock.Now().UTC()
	guard := r.Keep.Guard(ctx)
	if err := guard(1 << 30); err != nil {
		return nil, err
	}
	o := &databaseDump{runner: r, m: r.envelope(name, started, nil, started)}
	draft, err := session.Draft(ctx, o.m, r.Folder)
	if err != nil {
		return nil, err
	}
	o.files = blob.NewSet(draft, r.paced(ctx, guard))
	r.feed.Gauge().Begin("dumping "+name, 0, 0)
	if b.stream != nil {
		err = o.stream(ctx, b.stream)
	} else {
		err = o.folder(ctx, b)
	}
	if err != nil {
		return nil, err
	}
	if err := o.compare(ctx); err != nil {
		return nil, err
	}
	o.count()
	if err := o.loadOrder(ctx); err != nil {
		return nil, err
	}
	if err := o.files.Write(ctx, manifest.Readme, blob.None, o.readmeBeside()); err != nil {
		return nil, err
	}
	o.count()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	draft.On(o.chain)
	return draft.Place(ctx)
}

// FilesChanged is the code of the warning about files that changed while they were read.
const FilesChanged = "files-changed"

func (o *databaseDump) folder(ctx context.Context, b beside) (err error) {
	f := b.folder
	choice := f.Choice
	choice.Flat = b.flat
	tree, err := files.OpenIn(f.Path, f.In, choice)
	if err != nil {
		return err
	}
	defer tree.Close()
	tree.Avoid(o.Keep.Where())
	where := strings.TrimSuffix(f.Path+"/"+f.In, "/")
	o.m.Source = manifest.Source{Engine: EngineFiles, Where: where, Product: "folder"}
	base, err := o.base(ctx, o.m.Database, o.m.Moment)
	if err != nil {
		return err
	}
	o.stand(sameFolder(base, where, f.Choice))
	tar := &payload.Tar{Tree: tree, Folder: where, Choice: f.Choice, Compression: o.Compression, Base: o.chain,
		ByContent: f.ByContent}
	if o.m.Payload, err = tar.Capture(ctx, o.files, o.feed); err != nil {
		return err
	}
	rem := tree.Remarks
	for _, x := range []struct {
		names []string
		what  string
	}{{rem.Changed, "changed while it was read, so its content is of no one moment"}, {rem.Vanished,
		"vanished while the folder was read"}} {
		var list []string
		for i, n := range x.names {
			if i == shownChanged {
				list = append(list, fmt.Sprintf("%s more %s", phrase.Plural(int64(len(x.names)-i), "file"),
					strings.Replace(x.what, "it was", "they were", 1)))
				break
			}
			list = append(list, n+" "+x.what)
		}
		o.warn(FilesChanged, o.m.Database, list)
	}
	if len(rem.Skipped) > 0 {
		o.feed.Note(o.m.Database, "left out, sockets, devices and the keep itself: %s", list(rem.Skipped, shownChanged))
	}
	return nil
}

const shownChanged = 8 // names

// Engines of what is no database.
const (
	EngineFiles   = "files"
	EngineCommand = "command"
)

func (o *databaseDump) stream(ctx context.Context, s *stream.Source) (err error) {
	o.m.Source = manifest.Source{Name: s.Name, Engine: EngineCommand, Where: s.Name, Product: "command"}
	facts := step.Facts{Job: o.Name, Run: o.res.Run, Kind: string(o.kind()), Keep: o.Keep.Where()}
	p := &payload.Stream{Source: *s, Facts: facts, Compression: o.Compression}
	o.m.Payload, err = p.Capture(ctx, o.files, o.feed)
	return err
}

// readmeBeside says how to restore a folder or a stream by hand.
func (o *databaseDump) readmeBeside() string {
	m := o.m
	var b strings.Builder
	head := func(what, kind string) {
		fmt.Fprintf(&b, "%s %s dump of %s\n\n  job      %s\n  moment   %s\n  size     %s, %s unpacked\n  holds    %s\n",
			article(m.Kind), m.Kind, what, m.Job,
			phrase.Both(m.Moment, o.Zone), phrase.Bytes(m.StoredBytes), phrase.Bytes(m.RawBytes), kind)
	}
	unpack := o.Compression.Unpack()
	if unpack == "" {
		unpack = "cat"
	}
	if t := m.Payload.Tar; t != nil {
		head("the folder "+phrase.Clean(t.Folder), fmt.Sprintf("%s, %s of content", counted(t.Kinds),
			phrase.Bytes(t.Bytes)))
		if len(o.chain) > 0 {
			fmt.Fprintf(&b, "  changed  %s in it; the others are in the dumps that it builds on\n",
				phrase.Plural(t.Written, "entry"))
		}
		fmt.Fprintf(&b, besideByHand, "it is one standard tar (PAX)")
		b.WriteString("    mkdir ../restored\n")
		for _, d := range o.chain {
			folder := folderOf(d)
			fmt.Fprintf(&b, "    (cd %s && sha256sum -c --quiet SHA256SUMS)\n", folder)
			tarLines(&b, folder, d.Manifest.Payload.Tar, blob.Compression(d.Manifest.Compression))
		}
		tarLines(&b, "", t, o.Compression)
		fmt.Fprintf(&b, "    find ../restored | wc -l    # %d, unless a name has a line feed in it\n", t.Entries)
	} else {
		s := m.Payload.Stream
		head("what a command of "+phrase.Clean(m.Source.Name)+" wrote", phrase.Bytes(s.Bytes))
		fmt.Fprintf(&b, besideByHand, "it is what the command wrote, byte for byte")
		fmt.Fprintf(&b, "    %s %s | sha256sum    # %s\n    %s %s | YOUR-RESTORE-COMMAND\n", unpack, s.File, s.SHA256,
			unpack, s.File)
	}
	if len(m.Warnings) > 0 {
		b.WriteString("\nWorth knowing:\n")
		for _, w := range m.Warnings {
			b.WriteString("  - " + phrase.Clean(w.Text) + "\n")
		}
	}
	return b.String()
}

// tarLines are the lines that put one dump of a chain into the restored folder.
func tarLines(b *strings.Builder, folder string, t *manifest.Tar, c blob.Compression) {
	unpack := c.Unpack()
	if unpack == "" {
		unpack = "cat"
	}
	if t.Gone != "" {
		fmt.Fprintf(b, "    %s %s%s | (cd ../restored && xargs -0r rm -rf --)\n", unpack, folder, t.Gone)
	}
	fmt.Fprintf(b, "    %s %s%s | tar -xpf - -C ../restored --xattrs --xattrs-include='*'\n", unpack, folder, t.File)
}

const besideByHand = `
To restore it with Grain Keep, give it this folder:

    grainkeep restore ./ --to FOLDER

To restore it by hand, run these lines one after the other in this folder; %s.

    sha256sum -c --quiet SHA256SUMS
`

// counted writes counts of kinds.
func counted(kinds map[string]int) string {
	var parts []string
	for _, k := range []files.Kind{files.File, files.Folder, files.Link, files.HardLink, files.Pipe} {
		if n := kinds[string(k)]; n > 0 {
			parts = append(parts, phrase.Plural(int64(n), string(k)))
		}
	}
	return strings.Join(parts, ", ")
}
