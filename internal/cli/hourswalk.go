package cli

import (
	"time"

	"grainkeep/internal/config"
	"grainkeep/internal/demo"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
)

// hours goes through an afternoon with increments, in which somebody makes a mistake.
func (w *walk) hours() {
	name := "nightly/" + w.stage.bookings
	w.say("── 8. Between two fulls, increments: what changed since the dump before, and little else, is written.")
	w.hour(2*time.Hour, "twelve bookings have come in", demo.Hour)
	w.run("03", "dump", name, "--kind", "incremental")
	if w.err != nil {
		return
	}
	var before string
	if before, w.err = w.lastMoment(); w.err != nil {
		return
	}
	w.hour(2*time.Hour+15*time.Minute, "somebody forgets a WHERE: UPDATE booking SET seats = 1", demo.Mistake)
	w.run("03", "dump", name, "--kind", "incremental")
	w.run("0", "show", name)
	if mistake := w.mistake(name); mistake != "" {
		w.say("   The server's log told it, so the very transaction can be found, without the server, and what was just " +
			"before it:")
		w.run("0", "find", name, "--table", "booking", "--since", "5 min")
		before = "before " + mistake
	}
	w.say("   The bookings as they were before the mistake, beside the live ones:")
	w.run("0", "restore", name, "--at", before, "--only", "booking", "--as", w.stage.before)
}

// mistake names the last transaction that the newest dump has from the server's log; empty: it has none.
func (w *walk) mistake(name string) (last string) {
	if w.err != nil {
		return ""
	}
	var f *config.File
	if f, w.err = w.a.config(); w.err != nil {
		return ""
	}
	var found []*keep.Dump
	if found, w.err = w.a.find(f, "", name, ""); w.err != nil || found[0].Whole(w.a.ctx) != nil ||
		found[0].Manifest.Payload.SQL.Log == nil {
		return ""
	}
	var r *payload.Reader
	if r, w.err = payload.NewReader(found[0]); w.err == nil {
		w.err = r.EachTransaction(w.a.ctx, func(t manifest.Transaction) error {
			if last = t.ID; last == "" {
				last = t.Position
			}
			return nil
		})
	}
	return last
}

// hour moves the clock, where it can be moved, and changes the bookings.
func (w *walk) hour(after time.Duration, what string, sql func(engine string) string) {
	if w.err != nil {
		return
	}
	if w.stage.night != "" {
		w.at(firstDay(w.zone).Add(after), what)
	} else {
		time.Sleep(time.Second) // moments are told to the second
		w.say("   %s", what)
	}
	if err := w.stage.change(w.a.ctx, sql); err != nil {
		w.err = fault.New("demo-failed", err, "the demo's data could not be changed")
	}
}
