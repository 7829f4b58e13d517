package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/coreos/go-systemd/v22/daemon"

	"grainkeep/internal/config"
	"grainkeep/internal/schedule"
)

// reload reads the configuration again, and says what changed or why it did not.
func (n *night) reload() {
	n.notify(daemon.SdNotifyReloading)
	defer n.notify(daemon.SdNotifyReady)
	f, err := config.Find(n.path)
	var plans []schedule.Plan
	if err == nil {
		plans, err = plansOf(f, nil)
	}
	if err != nil {
		n.a.mention(fmt.Errorf("the configuration was not taken over, and the one before stays: %w", err))
		return
	}
	before, err := plansOf(n.config(), nil)
	if err != nil {
		before = nil
	}
	n.mu.Lock()
	old := n.f
	n.f = f
	n.mu.Unlock()
	n.server.Change(plans, f.Zone())
	changes := changed(before, plans)
	if old.Zone().String() != f.Zone().String() {
		changes = append(changes, "the zone is "+f.Zone().String())
	}
	if old.Schedule != f.Schedule && (old.Schedule.Listen != f.Schedule.Listen ||
		old.Schedule.AtOnce != f.Schedule.AtOnce) {
		changes = append(changes, "listen and at_once count from the next start")
	}
	if len(changes) == 0 {
		changes = []string{"no phrase changed"}
	}
	n.a.say("read the configuration again: %s; next: %s", strings.Join(changes, "; "), n.next())
}

// changed says what is due otherwise than before.
func changed(before, after []schedule.Plan) (list []string) {
	words := func(p schedule.Plan) string {
		var texts []string
		for _, w := range p.When {
			texts = append(texts, w.String())
		}
		return strings.Join(texts, ", ")
	}
	same := func(p schedule.Plan) func(schedule.Plan) bool {
		return func(o schedule.Plan) bool { return o.Job == p.Job && o.What == p.What }
	}
	for _, p := range after {
		at := slices.IndexFunc(before, same(p))
		if at < 0 || words(before[at]) != words(p) {
			list = append(list, fmt.Sprintf("the %s of %s is now due %s", p.What, p.Job, words(p)))
		}
	}
	for _, p := range before {
		if !slices.ContainsFunc(after, same(p)) {
			list = append(list, fmt.Sprintf("the %s of %s is due no more", p.What, p.Job))
		}
	}
	return list
}
