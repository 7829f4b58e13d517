package dump

import (
	"context"
	"fmt"

	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// Shrunk is the code of warnings about a dump that lost much since the last one.
const Shrunk = "shrunk"

// A table shrank where it lost more than half of its rows, and not only a few.
const (
	shrankTo    = 0.5
	fewestLost  = 100     // rows, or entries of a folder
	fewestBytes = 4 << 10 // of a stream
)

// smaller tells of a count that shrank.
func smaller(what, of string, was, is, fewest int64) []string {
	if float64(is) >= float64(was)*shrankTo || was-is < fewest {
		return nil
	}
	return []string{fmt.Sprintf("%s has %s %s, and had %s in the last dump", what, phrase.Count(is), of,
		phrase.Count(was))}
}

// shrunk tells what of the last dump is missing from this one: a table, or most of its rows.
// What the job leaves out now, or left out then, does not count.
func shrunk(last, now *manifest.Manifest) (list []string) {
	switch {
	case last == nil:
		return nil
	case last.Payload.Tar != nil && now.Payload.Tar != nil:
		return smaller("the folder", "entries", last.Payload.Tar.Entries, now.Payload.Tar.Entries, fewestLost)
	case last.Payload.Stream != nil && now.Payload.Stream != nil:
		return smaller("the stream", "bytes", last.Payload.Stream.Bytes, now.Payload.Stream.Bytes, fewestBytes)
	case last.Payload.SQL == nil || now.Payload.SQL == nil:
		return nil
	}
	has := map[string]manifest.Table{}
	for _, t := range now.Tables() {
		has[t.ID] = t
	}
	left := map[string]bool{}
	for _, id := range now.Payload.SQL.LeftOut {
		left[id] = true
	}
	for _, was := range last.Tables() {
		is, there := has[was.ID]
		switch {
		case !there && left["table "+was.ID]:
		case !there:
			list = append(list, fmt.Sprintf("the table %s, which had %s in the last dump, is gone", was.ID,
				phrase.Plural(was.Rows, "row")))
		case is.Condition != was.Condition:
		case float64(is.Rows) < float64(was.Rows)*shrankTo && was.Rows-is.Rows >= fewestLost:
			list = append(list, fmt.Sprintf("the table %s has %s, and had %s in the last dump", is.ID,
				phrase.Plural(is.Rows, "row"), phrase.Count(was.Rows)))
		}
	}
	if n := len(list) - shownShrunk; n > 0 {
		list = append(list[:shownShrunk], fmt.Sprintf("%s more are gone or have lost most of their rows",
			phrase.Plural(int64(n), "table")))
	}
	return list
}

const shownShrunk = 5 // tables that are named

// compare warns of what is missing that the last dump had.
func (o *databaseDump) compare(ctx context.Context) error {
	last := o.last[o.m.Database]
	if last == nil {
		return nil
	}
	if err := last.Whole(ctx); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		o.feed.Warn("dump-unreadable", o.m.Database, "what it lost since the last dump is not known: %v", err)
		return nil
	}
	o.warn(Shrunk, o.m.Database, shrunk(last.Manifest, o.m))
	return nil
}
