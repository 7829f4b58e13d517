package schedule

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
	"grainkeep/internal/phrase"
)

// Machine is where the system's own scheduler is to start jobs.
type Machine struct {
	Program string   // path
	Config  string   // path
	User    string   // that the jobs run as
	Zone    string   // of the phrases
	Local   string   // of the machine; empty: not known
	Reads   []string // secrets and files that the user must be able to read
	Writes  []string // keeps, and folders of SQLite files
}

// words is the command line that does what is due.
func (m Machine) words(p Plan) []string {
	return append([]string{m.Program, "--config", m.Config}, p.Words()...)
}

// Words are the command and its arguments that do what is due.
func (p Plan) Words() []string {
	if p.What == Verify {
		return []string{"verify", p.Job, "--due"}
	}
	if p.What == Differential || p.What == Incremental {
		return []string{"dump", p.Job, "--kind", p.What.Kind()}
	}
	if p.What == Standby {
		return []string{"standby", "follow", p.Job}
	}
	return []string{p.What.Command(), p.Job} // of a full, the run itself sees that it is due
}

// needs says in comments what the user must be able to do, and the line that tests it.
func (m Machine) needs(plans []Plan) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# The jobs run as the user %s, who must be able to read\n", m.User)
	for _, r := range append([]string{m.Config}, m.Reads...) {
		fmt.Fprintf(&b, "#   %s\n", engine.OnOneLine(r))
	}
	b.WriteString("# and to write to\n")
	for _, w := range m.Writes {
		fmt.Fprintf(&b, "#   %s\n", engine.OnOneLine(w))
	}
	tested := map[string]bool{}
	for _, p := range plans {
		if !tested[p.Job] && !p.What.Beside() {
			tested[p.Job] = true
			fmt.Fprintf(&b, "# This tests it:  sudo -u %s %s --config %s survey %s\n", m.User, shellWord(m.Program),
				shellWord(m.Config), p.Job)
		}
	}
	return b.String()
}

// Crontab writes the lines of a crontab. What cron cannot express is in the list of sentences.
func Crontab(plans []Plan, m Machine) (text string, cannot []string) {
	b := strings.Builder{}
	b.WriteString("# Grain Keep, for crontab -e of the user who runs the jobs.\n" + m.needs(plans))
	if !sameZone(m.Local, m.Zone) {
		cannot = append(cannot,
			fmt.Sprintf("cron goes by the machine's zone (%s), and the phrases by %s: the hours are those of the "+
				"machine", orUnknown(m.Local), m.Zone))
	}
	spread := map[string]bool{}
	for _, p := range plans {
		if p.Spread > 0 && !spread[p.Job] {
			spread[p.Job] = true
			cannot = append(cannot, fmt.Sprintf("the starts of %s are to be spread over %s, and cron starts all at once",
				p.Job, phrase.About(p.Spread)))
		}
		for _, s := range p.When {
			lines, err := s.Crontab()
			if err != nil {
				cannot = append(cannot, fmt.Sprintf("the %s of %s (%s): %v", p.What, p.Job, s.Text, err))
				continue
			}
			var words []string
			for _, w := range m.words(p) {
				words = append(words, cronWord(w))
			}
			fmt.Fprintf(&b, "\n# %s of %s: %s\n", p.What, p.Job, engine.OnOneLine(s.String()))
			for _, l := range lines {
				b.WriteString(l + "  " + strings.Join(words, " ") + " --quiet\n")
			}
		}
	}
	return b.String(), cannot
}

var plainWord = pattern.Of(`^[A-Za-z0-9_./:=@-]+$`)

// cronWord writes a word for the shell that cron starts; a % would be a line feed to cron, and what
// is on more than one line cannot be in a crontab.
func cronWord(w string) string {
	return strings.ReplaceAll(shellWord(w), "%", `\%`)
}

// shellWord writes a word for a shell, on one line.
func shellWord(w string) string {
	if plainWord().MatchString(w) {
		return w
	}
	return engine.ShellQuote(engine.OnOneLine(w))
}

// sameZone says whether two zones go alike, as far as the next changes of their clocks tell.
func sameZone(a, b string) bool {
	x, err := time.LoadLocation(a)
	if err != nil || a == "" {
		return false
	}
	y, err := time.LoadLocation(b)
	if err != nil {
		return false
	}
	for week := range 104 { // two years
		at := time.Now().AddDate(0, 0, 7*week)
		_, p := at.In(x).Zone()
		_, q := at.In(y).Zone()
		if p != q {
			return false
		}
	}
	return true
}

func orUnknown(zone string) string {
	if zone == "" {
		return "not known"
	}
	return zone
}

// Unit is a file for systemd.
type Unit struct {
	Name string
	Text string
}

// Units writes service and timer units. What systemd cannot express is in the list of sentences.
func Units(plans []Plan, m Machine) (units []Unit, cannot []string) {
	for _, p := range plans {
		name := "grainkeep-" + p.Job + "-" + strings.Fields(string(p.What))[0]
		var events []string
		var says []string
		for _, s := range p.When {
			list, err := s.Calendar(m.Zone)
			if err != nil {
				cannot = append(cannot, fmt.Sprintf("the %s of %s (%s): %v", p.What, p.Job, s.Text, err))
				continue
			}
			events, says = append(events, list...), append(says, s.String())
		}
		if len(events) == 0 {
			continue
		}
		units = append(units, Unit{name + ".service", m.service(p)}, Unit{name + ".timer", timer(p, events, says)})
	}
	return units, cannot
}

// ServiceUnit is that of 'schedule serve', which runs all jobs itself.
func ServiceUnit(plans []Plan, m Machine) Unit {
	var b strings.Builder
	fmt.Fprintf(&b, "%s[Unit]\nDescription=Grain Keep: the schedule of %s\n", m.needs(plans),
		strings.ReplaceAll(engine.OnOneLine(m.Config), "%", "%%"))
	b.WriteString("After=network-online.target\nWants=network-online.target\n")
	for _, w := range m.Writes {
		b.WriteString("RequiresMountsFor=" + unitQuote(w) + "\n")
	}
	b.WriteString("\n[Service]\nType=notify\nNotifyAccess=main\nWatchdogSec=300\nRestart=on-failure\nUser=" + m.User +
		"\nExecStart=")
	var words []string
	for _, w := range []string{m.Program, "--config", m.Config, "schedule", "serve"} {
		words = append(words, unitQuote(w))
	}
	b.WriteString(strings.Join(words, " ") +
		"\nExecReload=/bin/kill -HUP $MAINPID\n# a dump that is under way ends cleanly\n" +
		"TimeoutStopSec=10min\nKillMode=mixed\n" + m.hardened() + "\n[Install]\nWantedBy=multi-user.target\n")
	return Unit{"grainkeep.service", b.String()}
}

// hardened are the settings of a unit that sees the system read-only.
func (m Machine) hardened() string {
	var b strings.Builder
	b.WriteString("NoNewPrivileges=yes\nProtectSystem=strict\nProtectHome=read-only\nPrivateTmp=yes\nPrivateDevices=yes\n" +
		"ProtectKernelTunables=yes\nProtectControlGroups=yes\nRestrictSUIDSGID=yes\n")
	for _, w := range m.Writes {
		b.WriteString("ReadWritePaths=" + unitQuote(w) + "\n")
	}
	return b.String()
}

// service is hardened: it sees the system read-only, and can write to the keep alone.
func (m Machine) service(p Plan) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s[Unit]\nDescription=Grain Keep: %s of %s\n", m.needs([]Plan{p}), p.What, p.Job)
	b.WriteString("After=network-online.target\nWants=network-online.target\n")
	for _, w := range m.Writes {
		b.WriteString("RequiresMountsFor=" + unitQuote(w) + "\n")
	}
	b.WriteString("\n[Service]\nType=oneshot\nUser=" + m.User + "\nExecStart=")
	var words []string
	for _, w := range m.words(p) {
		words = append(words, unitQuote(w))
	}
	b.WriteString(strings.Join(words, " ") +
		"\n# 3: done, with warnings\nSuccessExitStatus=3\nNice=10\nIOSchedulingClass=idle\n" +
		m.hardened())
	return b.String()
}

func timer(p Plan, events, says []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "[Unit]\nDescription=Grain Keep: %s of %s, %s\n\n[Timer]\n", p.What, p.Job, strings.Join(says,
		"; "))
	for _, e := range events {
		b.WriteString("OnCalendar=" + e + "\n")
	}
	if p.Spread > 0 {
		fmt.Fprintf(&b, "RandomizedDelaySec=%d\n", int(p.Spread.Seconds()))
	}
	b.WriteString("# a run that was missed while the machine was off is made up for\nPersistent=true\n" +
		"\n[Install]\nWantedBy=timers.target\n")
	return b.String()
}

// unitQuote writes a word of a unit file: in quotes, with what systemd would replace doubled.
func unitQuote(s string) string {
	s = strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`).Replace(filepath.Clean(engine.OnOneLine(s)))
	if strings.ContainsAny(s, " '\"\\;#") {
		return `"` + s + `"`
	}
	return s
}

// Schedules reads the phrases of a key: one, or a list.
func Schedules(texts []string) (list []*phrase.Schedule, err error) {
	for _, t := range texts {
		s, err := phrase.ParseSchedule(t)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, nil
}
