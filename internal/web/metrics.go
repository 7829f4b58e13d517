package web

import (
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Sample is what is measured of one database.
type Sample struct {
	Job, Database string
	State         string
	Moment        time.Time            // of its newest dump; zero: there is none
	Kinds         map[string]time.Time // the same, of each kind
	Took          time.Duration
	Bytes         int64
	Rows          int64
	Proven        time.Time // zero: never
	Next          time.Time // zero: nothing says
}

// Ended is how many runs ended in a way.
type Ended struct {
	Job, Command, Result string
	N                    int64
}

// Room is the free space of a keep.
type Room struct {
	Keep  string
	Free  int64
	Floor int64
}

// Slot is what a server holds back of its log.
type Slot struct {
	Source, Name, Job, Database string
	Bytes                       int64 // -1: not known
	Limit                       int64 // of the job's; 0: none
	Lost                        bool  // it cannot be read any more
}

// Reading is all that is measured.
type Reading struct {
	Databases []Sample
	Runs      []Ended
	Rooms     []Room
	Slots     []Slot
	UnderWay  int
	Unsent    int // messages
}

// Collector reads anew at each scrape.
type Collector struct {
	Read func() (Reading, error)
}

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("grainkeep_"+name, help, labels, nil)
}

var (
	of     = []string{"job", "database"}
	moment = desc("dump_moment_seconds", "The moment of the newest dump, in seconds since 1970.", of...)
	ofKind = desc("dump_kind_moment_seconds", "The moment of the newest dump of a kind, in seconds since 1970.",
		"job", "database", "kind")
	took     = desc("dump_duration_seconds", "How long the newest dump took.", of...)
	size     = desc("dump_size_bytes", "What the newest dump takes in its keep.", of...)
	rowCount = desc("dump_rows", "The rows of the newest dump.", of...)
	proven   = desc("proof_seconds", "When a dump was last proven to restore, in seconds since 1970.", of...)
	next     = desc("dump_next_seconds", "When the next dump is due, in seconds since 1970.", of...)
	state    = desc("database_state", "How a database stands: 1 for the state that it is in.", "job", "database",
		"state")
	runs     = desc("runs", "Runs in the journal, by how they ended.", "job", "command", "result")
	free     = desc("keep_free_bytes", "The free space of a keep.", "keep")
	floor    = desc("keep_floor_bytes", "The free space that must be left on a keep.", "keep")
	ofSlot   = []string{"source", "slot", "job", "database"}
	logHeld  = desc("log_held_bytes", "What a server holds back of its log for a job.", ofSlot...)
	logLimit = desc("log_limit_bytes", "What it may hold back at most, by the job.", ofSlot...)
	logLost  = desc("log_lost", "1 where a server gave up what it held back of its log.", ofSlot...)
	underWay = desc("runs_under_way", "Runs that go on or wait for their turn.")
	unsent   = desc("messages_unsent", "Messages that could not be sent yet.")
)

// Describe implements prometheus.Collector.
func (c Collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{moment, ofKind, took, size, rowCount, proven, next, state, runs, free, floor, logHeld,
		logLimit, logLost, underWay,
		unsent} {
		ch <- d
	}
}

// Collect implements prometheus.Collector.
func (c Collector) Collect(ch chan<- prometheus.Metric) {
	r, err := c.Read()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(state, err)
		return
	}
	put := func(d *prometheus.Desc, v float64, labels ...string) {
		for i, l := range labels {
			labels[i] = strings.ToValidUTF8(l, "\uFFFD")
		}
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	for _, s := range r.Databases {
		put(state, 1, s.Job, s.Database, s.State)
		if !s.Moment.IsZero() {
			put(moment, seconds(s.Moment), s.Job, s.Database)
			put(took, s.Took.Seconds(), s.Job, s.Database)
			put(size, float64(s.Bytes), s.Job, s.Database)
			put(rowCount, float64(s.Rows), s.Job, s.Database)
		}
		for kind, at := range s.Kinds {
			put(ofKind, seconds(at), s.Job, s.Database, kind)
		}
		if !s.Proven.IsZero() {
			put(proven, seconds(s.Proven), s.Job, s.Database)
		}
		if !s.Next.IsZero() {
			put(next, seconds(s.Next), s.Job, s.Database)
		}
	}
	for _, e := range r.Runs {
		put(runs, float64(e.N), e.Job, e.Command, e.Result)
	}
	for _, k := range r.Rooms {
		put(free, float64(k.Free), k.Keep)
		put(floor, float64(k.Floor), k.Keep)
	}
	for _, s := range r.Slots {
		labels := []string{s.Source, s.Name, s.Job, s.Database}
		lost := 0.0
		if s.Lost {
			lost = 1
		}
		put(logLost, lost, labels...)
		if s.Bytes >= 0 {
			put(logHeld, float64(s.Bytes), labels...)
		}
		if s.Limit > 0 {
			put(logLimit, float64(s.Limit), labels...)
		}
	}
	put(underWay, float64(r.UnderWay))
	put(unsent, float64(r.Unsent))
}

func seconds(t time.Time) float64 { return float64(t.UnixMicro()) / 1e6 }
