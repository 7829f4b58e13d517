package drill

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/files"
	"grainkeep/internal/keep"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/scratch"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// beside drills what is no database, in a scratch folder.
func (d Drill) beside(ctx context.Context, of *keep.Dump, feed *event.Feed) (proof *keep.Proof, err error) {
	folder, err := scratch.New()
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if t := of.Manifest.Payload.Tar; t != nil {
		if free, err := folder.Room(); err == nil && free < t.Bytes {
			return nil, fault.New("no-room", nil, "the scratch folder %s has no room for %s", scratch.Base(),
				phrase.Bytes(t.Bytes)).
				Advise("set TMPDIR to a folder with more room")
		}
	}
	proof = &keep.Proof{Format: 1, Dump: of.ID, At: clock.Now().UTC(), On: "a scratch folder",
		Product: of.Manifest.Source.Product, Tool: d.Tool}
	if of.Manifest.Payload.Tar != nil {
		var to string
		if to, err = folder.Sub("unpacked"); err == nil {
			err = folderDrill(ctx, d.Plan, to, proof, feed)
		}
	} else {
		err = streamDrill(ctx, of, d.Stream, folder.Path, proof, feed)
	}
	if bad, yes := verdict(err); yes {
		proof.Differences = append(proof.Differences, bad)
		err = nil
	}
	for _, x := range proof.Differences {
		proof.Details = append(proof.Details, keep.Detail{Concern: keep.OfRows, Of: of.Manifest.Database, Text: x})
	}
	proof.Proven = len(proof.Differences) == 0
	return proof, err
}

// shownDifferences bounds those of a folder that are named.
const shownDifferences = 20

// folderDrill unpacks a folder, reads it back as a dump would, and compares.
func folderDrill(ctx context.Context, plan *chain.Plan, to string, proof *keep.Proof, feed *event.Feed) error {
	began, of := clock.Now(), plan.Last()
	u, err := restore.Unpack(ctx, plan, to, nil, feed)
	if err != nil {
		return err
	}
	proof.Seconds = clock.Since(began).Seconds()
	tree, err := files.Open(to, files.Choice{})
	if err != nil {
		return err
	}
	defer tree.Close()
	feed.Gauge().Begin("reading back "+of.Manifest.Database, 0, u.Bytes)
	got, err := tree.Read(ctx, func(e files.Entry) { feed.Gauge().Bytes.Add(e.Size) })
	if err != nil {
		return err
	}
	t := of.Manifest.Payload.Tar
	proof.Rows, proof.Objects = got.Entries, len(got.Kinds)
	switch {
	case got.Entries != t.Entries || got.Bytes != t.Bytes:
		proof.Differences = append(proof.Differences, fmt.Sprintf("%s with %s came back, and %d with %s were dumped",
			phrase.Plural(got.Entries, "entry"), phrase.Bytes(got.Bytes), t.Entries, phrase.Bytes(t.Bytes)))
	case got.Sum.String() == t.Sum:
		return nil
	case got.Bare.String() == t.Bare && u.Owners+u.Lost+u.Mapped > 0:
		proof.NotTested = append(proof.NotTested,
			"owners and extended attributes, which this user or this machine cannot set as they were")
		return nil
	case got.Bare.String() == t.Bare:
		proof.Differences = append(proof.Differences, "owners or extended attributes are not as they were dumped")
		return nil
	}
	found, err := differ(ctx, plan, to)
	proof.Differences = append(proof.Differences, found...)
	if len(proof.Differences) == 0 {
		proof.Differences = []string{"the folder's fingerprint is " + got.Sum.String() + " and was " + t.Sum}
	}
	return err
}

// differ names what a folder that a chain was unpacked into has otherwise.
func differ(ctx context.Context, plan *chain.Plan, to string) ([]string, error) {
	past, err := payload.Past(ctx, plan.Dumps())
	if err != nil {
		return nil, err
	}
	c, err := files.NewComparison(ctx, to)
	if err != nil {
		return nil, err
	}
	for i, d := range plan.Dumps() {
		err := payload.Whole(ctx, d, d.Manifest.Payload.Tar.File, func(r io.Reader) error {
			return c.Tar(r, func(name string) bool { return past.Holds(i, name) })
		})
		if err != nil {
			return nil, err
		}
	}
	return c.Differences(shownDifferences), nil
}

// streamDrill restores what a command wrote into a scratch instance, and compares the facts about it.
func streamDrill(ctx context.Context, of *keep.Dump, s *stream.Source, folder string, proof *keep.Proof,
	feed *event.Feed) error {
	facts := step.Facts{Job: of.Manifest.Job, Run: keep.NewRun(), Scratch: folder}
	facts.Target = "grainkeep_drill_" + facts.Run
	took, err := restore.Stream(ctx, of, s, facts, feed)
	proof.Seconds = took.Seconds()
	if fault.HasCode(err, "step-failed") {
		proof.Differences = append(proof.Differences, "the restore command failed: "+err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	want := of.Manifest.Payload.Stream.Facts
	if len(want) == 0 || s.Check == nil {
		proof.NotTested = append(proof.NotTested,
			"what the restored instance holds: the source has no check that tells of it")
		return nil
	}
	got, err := s.Facts(ctx, facts, feed)
	if fault.HasCode(err, "step-failed") {
		proof.Differences = append(proof.Differences, "the check of the restored instance failed: "+err.Error())
		return nil
	}
	if err != nil {
		return err
	}
	proof.Objects = len(want)
	proof.Differences = append(proof.Differences, stream.Differences(want, got, slices.Sorted(maps.Keys(want)))...)
	return nil
}
