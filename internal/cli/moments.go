package cli

import (
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/chain"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// jsonMoment is a moment that can be restored.
type jsonMoment struct {
	Moment string `json:"moment"`
	ID     string `json:"id"`
	Kind   string `json:"kind"`
	Proof  string `json:"proof"`
}

// mostSpans is how many spans of a day are listed.
const mostSpans = 3

// spans lists those of a day any moment of which can be restored.
func spans(day chain.Day, zone *time.Location) string {
	if len(day.Spans) == 0 {
		return "–"
	}
	var list []string
	for i, s := range day.Spans {
		if i == mostSpans && len(day.Spans) > mostSpans+1 {
			list = append(list, fmt.Sprintf("%d more", len(day.Spans)-i))
			break
		}
		list = append(list, s.From.In(zone).Format("15:04:05")+" to "+s.To.In(zone).Format("15:04:05"))
	}
	return strings.Join(list, ", ")
}

// showMoments lists the moments of a dump's database that can be restored, a line a day, and says whether there are
// spans any moment of which can be.
func (a *app) showMoments(d *keep.Dump) (list []jsonMoment, spanned bool, err error) {
	if d.Keep == nil {
		return nil, false, nil
	}
	all, err := d.Keep.Dumps(a.ctx)
	if err != nil {
		return nil, false, err
	}
	good, lost := chain.Moments(all, d.Manifest.Job, d.Manifest.Database)
	zone := chain.Zone(d)
	a.print("%s can be restored to %s (times of %s)\n", d.Name(), phrase.Plural(int64(len(good)), "moment"), zone)
	t := a.newTable([]string{"Day", "First", "Last", "Moments", "Of them", "Longest gap", "Any moment of", "Proven"},
		"Moments", "Proven").without("Longest gap").words("Of them", "Any moment of")
	for _, day := range chain.Days(good, zone) {
		n, proven := map[manifest.Kind]int{}, 0
		for _, x := range day.Dumps {
			n[x.Manifest.Kind]++
			if x.State() == keep.Proven {
				proven++
			}
		}
		var kinds []string
		for _, k := range []manifest.Kind{manifest.Full, manifest.Differential, manifest.Incremental} {
			if n[k] > 0 {
				kinds = append(kinds, fmt.Sprintf("%d %s", n[k], k))
			}
		}
		clockOf := func(x *keep.Dump) string { return x.Manifest.Moment.In(zone).Format("15:04:05") }
		gap := "–"
		if day.Gap > 0 {
			from := day.From.In(zone)
			gap = fmt.Sprintf("%s from %s", phrase.Duration(day.Gap), from.Format("15:04"))
			if from.Before(day.Day) {
				gap += from.Format(" of 2006-01-02")
			}
		}
		t.row(day.Day.Format("2006-01-02 Mon"), clockOf(day.Dumps[0]), clockOf(day.Dumps[len(day.Dumps)-1]),
			phrase.Count(int64(len(day.Dumps))), strings.Join(kinds, ", "), gap, spans(day, zone), phrase.Count(int64(proven)))
		spanned = spanned || len(day.Spans) > 0
	}
	a.print("%s\n", t.render())
	if len(lost) > 0 {
		a.warn("chain-broken", "%s of %s %s no more: what it builds on is missing or cannot be read ('grainkeep list' tells)",
			phrase.Plural(int64(len(lost)), "dump"), d.Name(),
			map[bool]string{true: "restores", false: "restore"}[len(lost) == 1])
	}
	for _, x := range good {
		list = append(list, jsonMoment{x.Manifest.Moment.UTC().Format("2006-01-02T15:04:05.000000Z"), x.ID,
			string(x.Manifest.Kind), string(x.State())})
	}
	return list, spanned, nil
}
