package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"grainkeep/internal/chain"
	"grainkeep/internal/clock"
	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/journal"
	"grainkeep/internal/keep"
	"grainkeep/internal/phrase"
	"grainkeep/internal/restore"
	"grainkeep/internal/standby"
)

func (a *app) standbyCommand() *cobra.Command {
	cmd := explain(&cobra.Command{
		Use: "standby", Short: "Keep a second database up from the dumps, ready to take over",
		Args: args(0, 0, ""), RunE: func(*cobra.Command, []string) error { return a.standbys() },
	}, usage{`Shows how far each standby of the configuration ([standby.NAME]) is behind. 'follow' restores
it first, and then puts each new increment upon the one before; it can be read meanwhile. With
'when', 'schedule serve' does it. It is made anew by itself where it cannot go on.`, [2]string{
		"grainkeep standby", "grainkeep standby follow harbour"}})
	for _, c := range []struct {
		use, short string
		run        func(*config.File, string, config.Standby) error
	}{
		{"follow", "Bring a standby to the newest dump, now", a.bringOnward},
		{"pause", "Let a standby stay as it is, for a while", a.pausing(true)}, {"resume", "Let a paused standby follow again", a.pausing(false)},
		{"release", "Let a standby be written: it stops following for good", a.release},
	} {
		cmd.AddCommand(&cobra.Command{Use: c.use + " NAME", Short: c.short, Args: args(1, 1, "the name of a standby"),
			RunE: func(_ *cobra.Command, names []string) error {
				f, err := a.needConfig()
				if err != nil {
					return err
				}
				s, ok := f.Standby[names[0]]
				if !ok {
					return fault.Wrong("standby-unknown", "there is no standby %q", names[0]).Advise("there are: %s", strings.Join(f.Standbys(), ", "))
				}
				return c.run(f, names[0], s)
			}})
	}
	return cmd
}

// standbyOf puts a standby together.
func (a *app) standbyOf(f *config.File, name string, c config.Standby) (*standby.Standby, standby.Notes, error) {
	at, err := job.Of(f).Address(c.To)
	if err != nil {
		return nil, standby.Notes{}, err
	}
	s := &standby.Standby{Name: name, To: at, As: c.As}
	s.Options.Owners = restore.Owners(c.Owners)
	if c.Owners == "" {
		s.Options.Owners = restore.Kept
	}
	if s.Options.Map, err = rolesOf(c.Owner); err != nil {
		return nil, standby.Notes{}, err
	}
	if c.Behind != "" {
		if s.Behind, err = phrase.ParseAge(c.Behind); err != nil {
			return nil, standby.Notes{}, err
		}
	}
	folder := job.Of(f).State()
	if folder == "" {
		return nil, standby.Notes{}, fault.Wrong("state-unplaced", "a standby needs a folder for what is noted of it").
			Advise("name one: [journal] folder = \"/var/lib/grainkeep\"")
	}
	return s, standby.NotesIn(folder, name), nil
}

// toFollow is what a standby is to be brought to, and the dumps that there are.
func (a *app) toFollow(f *config.File, c config.Standby) (all []*keep.Dump, to *chain.Plan, err error) {
	of, database, _ := strings.Cut(c.Dump, "/")
	from := c.From
	if from == "" {
		from = f.Job[of].Keep
	}
	found, err := a.dumps(f, from)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range found {
		if d.MayBeOf(of, database) {
			all = append(all, d)
		}
	}
	inChains := slices.DeleteFunc(slices.Clone(all), func(d *keep.Dump) bool { return d.Manifest != nil && d.Manifest.Alone })
	newest, err := chain.Find(inChains, c.Dump, "", clock.Now())
	if err != nil {
		return nil, nil, err
	}
	to, err = chain.Link(all).To(newest[0])
	return all, to, err
}

// bringOnward brings a standby to the newest dump.
func (a *app) bringOnward(f *config.File, name string, c config.Standby) error {
	s, notes, err := a.standbyOf(f, name, c)
	if err != nil {
		return err
	}
	ends, err := f.Ends(c)
	if err != nil {
		return err
	}
	if !ends.IsZero() && clock.Now().After(ends) {
		a.warn("standby-ended", "the standby %s was to be kept up until %s, and is as it was then: release it, or take it out", name, c.Until)
		return nil
	}
	all, to, err := a.toFollow(f, c)
	if err != nil {
		return err
	}
	if c.Roles {
		if s.Options.Server, err = a.serverOf(to.Last()); err != nil {
			return err
		}
	}
	a.makeGood(f, false)
	return a.noted(f, "standby", name, to.Last().Keep, func(string) error { return a.followNow(s, notes, c, all, to) })
}

func (a *app) followNow(s *standby.Standby, notes standby.Notes, c config.Standby, all []*keep.Dump, to *chain.Plan) error {
	unpin, err := a.pin(to.Last())
	if err != nil {
		return err
	}
	defer unpin()
	ctx, cancel, err := limited(a.ctx, "standby", c.Limit)
	if err != nil {
		return err
	}
	defer cancel()
	var out *standby.Outcome
	err = notes.Do(func(n *standby.Note) error {
		if n.Paused {
			return fault.Wrong("standby-paused", "the standby %s is paused since %s", s.Name, n.Since.Local().Format("2006-01-02 15:04")).
				Advise("'grainkeep standby resume %s'", s.Name)
		}
		feed, end := a.feed()
		var err error
		out, err = s.Follow(ctx, all, to, feed)
		end()
		n.Looked = clock.Now()
		if err != nil {
			n.Trouble = fault.Of(err).Error()
			return err
		}
		n.Trouble, n.Dump, n.Moment = "", out.Dump.ID, out.Dump.Manifest.Moment
		if out.First || out.Made != "" {
			n.Made++
		}
		return nil
	})
	if err != nil {
		return diskFull(err)
	}
	a.followed(s, out)
	p := dumpPart(out.Dump)
	p.Result, p.Rows, p.Path = journal.Good, out.Rows, s.As
	a.part(p)
	age := clock.Since(out.Dump.Manifest.Moment)
	if s.Behind > 0 && age > s.Behind {
		return fault.New("standby-behind", nil, "the standby %s is at the newest dump, and that is %s old: %s are allowed", s.Name,
			phrase.Duration(age), phrase.Duration(s.Behind)).Exit(fault.Stale).Advise("look why no newer dump came: 'grainkeep status'")
	}
	return nil
}

type jsonFollowed struct {
	Standby      string `json:"standby"`
	Database     string `json:"database"`
	At           string `json:"at"`
	Dump         string `json:"dump"`
	Applied      int    `json:"applied"`
	Transactions int64  `json:"transactions"`
	Rows         int64  `json:"rows"`
	Anew         string `json:"anew,omitempty"`
}

// followed tells what came of following.
func (a *app) followed(s *standby.Standby, out *standby.Outcome) {
	at := phrase.Both(out.Dump.Manifest.Moment, chain.Zone(out.Dump))
	switch {
	case out.Restored != nil:
		a.say("  restored as %s, %s in %s; what acts on rows is held back until it is released", s.As, phrase.Plural(out.Restored.Rows, "row"),
			phrase.Plural(int64(out.Restored.Tables), "table"))
		for _, w := range out.Restored.Warnings() {
			a.warn("not-as-it-was", "%s", w)
		}
	case out.Applied == 0:
		a.say("  nothing is newer than what it is at")
	default:
		a.say("  %s put upon it: %s, %s changed", phrase.Plural(int64(out.Applied), "dump"), phrase.Plural(out.Transactions, "transaction"),
			phrase.Plural(out.Rows, "row"))
	}
	a.print("%s is at %s, id %s\n", s.Name, at, out.Dump.Short())
	if out.Writable != "" && (out.First || out.Made != "") {
		a.say("note: %s", out.Writable)
	}
	a.result = jsonFollowed{s.Name, s.As, out.Dump.Manifest.Moment.UTC().Format(time.RFC3339), out.Dump.ID, out.Applied, out.Transactions,
		out.Rows, out.Made}
}

// pausing lets a standby stay as it is, or follow again.
func (a *app) pausing(on bool) func(*config.File, string, config.Standby) error {
	return func(f *config.File, name string, c config.Standby) error {
		_, notes, err := a.standbyOf(f, name, c)
		if err != nil {
			return err
		}
		return notes.Do(func(n *standby.Note) error {
			if n.Paused == on {
				a.say("%s is %s already", name, map[bool]string{true: "paused", false: "following"}[on])
				return nil
			}
			n.Paused, n.Since = on, clock.Now()
			a.say("%s %s", name, map[bool]string{true: "stays as it is until 'grainkeep standby resume " + name + "'", false: "follows again"}[on])
			return nil
		})
	}
}

// release lets a standby be written.
func (a *app) release(f *config.File, name string, c config.Standby) error {
	s, notes, err := a.standbyOf(f, name, c)
	if err != nil {
		return err
	}
	all, to, err := a.toFollow(f, c)
	if err != nil {
		return err
	}
	return a.noted(f, "standby", name, to.Last().Keep, func(string) error {
		return notes.Do(func(n *standby.Note) error {
			feed, end := a.feed()
			left, err := s.Release(a.ctx, chain.Link(all), feed)
			end()
			if err != nil {
				return err
			}
			n.Released, n.Paused = true, false
			for _, l := range left {
				a.warn("not-as-it-was", "%s", l)
			}
			a.print("%s can be written: what was held back is there, and it follows no more\n", s.As)
			a.say("take [standby.%s] out of the configuration; the database that it followed is as it was", name)
			return nil
		})
	})
}

type jsonStandby struct {
	Name         string `json:"name"`
	Database     string `json:"database"`
	State        string `json:"state"` // following, paused, behind, ended, released, absent, unreachable
	At           string `json:"at,omitempty"`
	Dump         string `json:"dump,omitempty"`
	Seconds      int64  `json:"behind_seconds"`
	Dumps        int    `json:"behind_dumps"`
	Transactions int64  `json:"behind_transactions"`
	Anew         string `json:"anew,omitempty"`
	Trouble      string `json:"trouble,omitempty"`
}

// standbys shows how far each is behind.
func (a *app) standbys() error {
	f, err := a.needConfig()
	if err != nil {
		return err
	}
	if len(f.Standby) == 0 {
		return fault.Wrong("standby-absent", "the configuration has no standby").
			Advise("name one: [standby.harbour], with dump = \"JOB/DATABASE\", to = SOURCE and as = NAME")
	}
	list := []jsonStandby{}
	t := a.newTable([]string{"Standby", "Database", "Is at", "Behind", "To come", "State"}, "Behind").words("State", "To come")
	stale := 0
	for _, name := range f.Standbys() {
		x := a.standing(f, name, f.Standby[name])
		list = append(list, x)
		if x.State != "following" && x.State != "released" && x.State != "paused" {
			stale++
		}
		at, behind, come := "–", "", ""
		if x.At != "" {
			when, err := time.Parse(time.RFC3339, x.At)
			if err == nil {
				at = phrase.Local(when, f.Zone())
			}
			behind = phrase.Duration(time.Duration(x.Seconds) * time.Second)
			come = "nothing"
			if x.Dumps > 0 {
				come = fmt.Sprintf("%s, %s", phrase.Plural(int64(x.Dumps), "dump"), phrase.Plural(x.Transactions, "transaction"))
			}
			if x.Anew != "" {
				come = "it will be made anew: " + x.Anew
			}
		}
		state := x.State
		if x.Trouble != "" {
			state += ": " + x.Trouble
		}
		t.row(name, f.Standby[name].To+"/"+x.Database, at, behind, come, state)
	}
	a.result = list
	a.print("%s\n", t.render())
	if stale > 0 {
		return fault.New("standby-behind", nil, "%d of %s not kept up", stale, phrase.Plural(int64(len(list)), "standby")).Exit(fault.Stale).
			Advise("'grainkeep standby follow NAME' brings one to the newest dump, and says what hinders it")
	}
	return nil
}

// standing looks at one standby.
func (a *app) standing(f *config.File, name string, c config.Standby) jsonStandby {
	x := jsonStandby{Name: name, Database: c.As, State: "unreachable"}
	s, notes, err := a.standbyOf(f, name, c)
	var n standby.Note
	if err == nil {
		n, err = notes.Read()
	}
	x.Trouble = n.Trouble
	if err == nil && n.Released {
		x.State = "released"
		return x
	}
	at := ""
	if err == nil {
		at, err = s.At(a.ctx)
	}
	if err == nil && at == "" {
		x.State = "absent"
		return x
	}
	var all []*keep.Dump
	var to *chain.Plan
	if err == nil {
		all, to, err = a.toFollow(f, c)
	}
	var lag standby.Lag
	if err == nil {
		lag, err = standby.Behind(a.ctx, all, at, to)
	}
	if err != nil {
		x.Trouble = fault.Of(err).Error()
		return x
	}
	x.Dump, x.Dumps, x.Transactions, x.Anew, x.State = at, lag.Dumps, lag.Transactions, lag.Anew, "following"
	moment := n.Moment
	if d := chain.Link(all)[at]; d != nil {
		moment = d.Manifest.Moment
	}
	x.At, x.Seconds = moment.UTC().Format(time.RFC3339), int64(clock.Since(moment).Seconds())
	ends, _ := f.Ends(c) // checked when it was read
	switch {
	case n.Paused:
		x.State = "paused"
	case !ends.IsZero() && clock.Now().After(ends):
		x.State = "ended"
	case s.Behind > 0 && clock.Since(moment) > s.Behind:
		x.State = "behind"
	}
	return x
}
