package config

import (
	"fmt"
	"strings"

	"grainkeep/internal/pattern"
)

// Answers are what a guided start has learned.
type Answers struct {
	Engine, Server, User, Secret, TLS string
	Path                              string   // of SQLite files
	Databases                         []string // none: all
	Folder, Floor                     string   // of the keep
	Rhythm                            int      // its number among Rhythms, from 1 on
	Drill                             bool     // restore tests run beside the live databases
	Accept                            []string // codes of warnings that were shown and judged
}

// SourceName is the name of the source in the configuration that is written.
func (a Answers) SourceName() string {
	if a.Engine == "sqlite" {
		return "files"
	}
	return "quay"
}

// The names of the keep and the job in it.
const (
	GuidedKeep = "barn"
	GuidedJob  = "nightly"
)

// Rhythm is when dumps are taken and which are kept, as the starter offers it.
type Rhythm struct {
	Title string
	Keys  [][2]string // with values as the configuration writes them
}

var (
	rhythmLine = pattern.Of(`^#([1-9]) (\w+) *= (.+)$`)
	exampleKey = pattern.Of(`^# (\w+)( *)= (\[.*?\]|"[^"]*"|[^ #]+)(.*)$`)
	header     = pattern.Of(`^# (\[.*\])$`)
)

// Rhythms are those that the starter offers.
func Rhythms() (list []Rhythm) {
	title := ""
	for line := range strings.SplitSeq(string(Starter), "\n") {
		m := rhythmLine().FindStringSubmatch(line)
		if m == nil {
			title = strings.TrimSuffix(strings.TrimPrefix(line, "# "), ":")
			continue
		}
		if n := int(m[1][0] - '0'); n > len(list) {
			list = append(list, Rhythm{Title: title})
		}
		last := &list[len(list)-1]
		last.Keys = append(last.Keys, [2]string{m[2], m[3]})
	}
	return list
}

// Guided is the starter with the answers in it: what was chosen counts, and everything else stays as examples.
func Guided(a Answers) []byte {
	quoted := func(list []string) string {
		q := make([]string, len(list))
		for i, s := range list {
			q[i] = written(s)
		}
		return "[" + strings.Join(q, ", ") + "]"
	}
	sections := map[string]map[string]string{
		"[keep.barn]":   {"folder": written(a.Folder), "floor": written(a.Floor)},
		"[job.nightly]": {"source": written(a.SourceName()), "keep": written(GuidedKeep)},
	}
	job := sections["[job.nightly]"]
	if a.Rhythm > 0 { // which says what is retained
		job["thin"] = written(AfterGoodDump)
	}
	if len(a.Databases) > 0 {
		job["databases"] = quoted(a.Databases)
	}
	if a.Drill {
		job["drill_on"] = written(a.SourceName())
	}
	if len(a.Accept) > 0 {
		job["accept"] = quoted(a.Accept)
	}
	if a.Engine == "sqlite" {
		sections["[source.files]"] = map[string]string{"engine": written("sqlite"), "path": written(a.Path)}
	} else {
		of := map[string]string{"engine": written(a.Engine), "server": written(a.Server)}
		for key, value := range map[string]string{"user": a.User, "secret": a.Secret, "tls": a.TLS} {
			if value != "" {
				of[key] = written(value)
			}
		}
		sections["[source.quay]"] = of
	}
	var b strings.Builder
	var in map[string]string
	for line := range strings.SplitSeq(strings.TrimSuffix(string(Starter), "\n"), "\n") {
		b.WriteString(a.line(line, &in, sections) + "\n")
	}
	return []byte(b.String())
}

// commentColumn is where comments begin behind keys, in characters.
const commentColumn = 45

// line is a line of the starter with the answers.
func (a Answers) line(line string, in *map[string]string, sections map[string]map[string]string) string {
	if line == "" {
		*in = nil
		return line
	}
	if m := header().FindStringSubmatch(line); m != nil {
		if *in = sections[m[1]]; *in != nil {
			return m[1]
		}
		return line
	}
	if m := rhythmLine().FindStringSubmatch(line); m != nil {
		if *in == nil || int(m[1][0]-'0') != a.Rhythm || m[2] == "drill" && !a.Drill && a.Engine != "sqlite" {
			return line
		}
		return fmt.Sprintf("%-9s = %s", m[2], m[3])
	}
	m := exampleKey().FindStringSubmatch(line)
	if m == nil || *in == nil {
		return line
	}
	value, chosen := (*in)[m[1]]
	if !chosen {
		return line
	}
	delete(*in, m[1])
	line = m[1] + m[2] + "= " + value
	if comment := strings.TrimSpace(m[4]); comment != "" { // where it stands in the starter, if there is room
		line = fmt.Sprintf("%-*s %s", commentColumn, line, comment)
	}
	return line
}

// written is a text as a value of the configuration.
func written(s string) string { return fmt.Sprintf("%q", s) }
