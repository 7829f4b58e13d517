package cli

import (
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/chain"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/phrase"
)

// links are what a dump may build on, or what may build on it; none, where it is not in a keep.
func (a *app) links(d *keep.Dump) (chain.Links, error) {
	if d.Keep == nil || d.Err != nil {
		return nil, nil
	}
	all, err := d.Keep.Dumps(a.ctx)
	if err != nil {
		return nil, err
	}
	return chain.Link(all), nil
}

// sayWay says which dumps a restore or a drill goes through, if there is more than one.
func (a *app) sayWay(p *chain.Plan) {
	if len(p.Changes) == 0 {
		return
	}
	n := map[manifest.Kind]int64{}
	for _, d := range p.Changes {
		n[d.Manifest.Kind]++
	}
	way := []string{fmt.Sprintf("the full of %s (%s)", phrase.Local(p.Base.Manifest.Moment, chain.Zone(p.Base)),
		p.Base.Short())}
	for _, k := range []manifest.Kind{manifest.Differential, manifest.Incremental} {
		if n[k] > 0 {
			way = append(way, phrase.Plural(n[k], string(k)))
		}
	}
	a.say("  the way: %s", strings.Join(way, ", then "))
}

// sayStop says which moment a plan gives, where a log tells of what lies between two dumps.
func (a *app) sayStop(p *chain.Plan) {
	zone := chain.Zone(p.Base)
	switch {
	case p.Before != "":
		a.say("  as it was just before transaction %s", phrase.Clean(p.Before))
	case p.Stop != nil:
		name := p.Stop.After.ID
		if name == "" {
			name = p.Stop.After.Position
		}
		a.say("  up to transaction %s of %s, and no further", phrase.Clean(name), phrase.Both(p.Stop.After.Time, zone))
	case !p.Asked.IsZero():
		a.say("  as it was at %s too: the log tells of no change between them", phrase.Both(p.Asked, zone))
	}
}

// Of a long chain, so many dumps are shown at its beginning and at its end.
const (
	chainStart = 3
	chainEnd   = 12
)

// showChain draws what a dump builds on, from the full on, and what of its chain came after it.
func (a *app) showChain(d *keep.Dump, all bool) error {
	links, err := a.links(d)
	if err != nil {
		return err
	}
	list := links.Around(d)
	if len(list) < 2 {
		return nil
	}
	a.print("\nThe chain\n")
	t := a.newTable(nil, "#4")
	for i, x := range list {
		if left := len(list) - chainStart - chainEnd; !all && left > 1 && i >= chainStart && i < len(list)-chainEnd {
			if i == chainStart {
				t.row("  …", fmt.Sprintf("%s more; --all lists them", phrase.Count(int64(left))))
			}
			continue
		}
		m := x.Manifest
		mark := "  "
		if x.ID == d.ID {
			mark = "→ "
		}
		t.row(mark+string(m.Kind), instant{m.Moment, chain.Zone(x)}, x.Short(), phrase.Bytes(m.StoredBytes),
			paint(a.stdout, stateColour(string(x.State())), string(x.State())))
	}
	a.print("%s\n", t.render())
	if _, err := links.To(d); err != nil {
		a.warn("chain-broken", "%v", err)
	}
	return nil
}

// kindOf is the kind of a run's dumps as people are told, where not all are full.
func kindOf(kind manifest.Kind) string {
	if slices.Contains([]manifest.Kind{"", manifest.Full}, kind) {
		return ""
	}
	return string(kind) + ", "
}
