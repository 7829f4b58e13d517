package dump

import (
	"context"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/keep"
)

// Survey is the look before the dump.
type Survey struct {
	Server engine.Server
	Skew   time.Duration // the server's clock less this machine's
	There  []engine.Database
	Plan   *Plan
	Unmet  error // an entry that matches nothing
	Open   bool  // the job means databases that it does not name
	Looked []Looked
	Held   []engine.Held // of the server's log, for this job
	Keep   *keep.Keep    // nil: no keep was named
	Room   keep.Room
	May    *keep.Abilities // in the keep's store; nil: it is a folder, whose rights the drive tells
	Need   int64           // estimate of what a run will take, in bytes
	Same   bool            // the keep is on the data's file system
	Told   bool            // whether Same is known
}

// Looked is what a database that the job takes was found to hold.
type Looked struct {
	Database string
	Tables   int
	Objects  int
	Warnings []string
	Whole    []string // tables that dumps by comparison write whole when they changed; only for a job that takes such
	NotInLog []string // tables of which the server's log does not tell, with the reasons; the same
	Err      error    // why it could not be dumped now
}

// Look surveys a job; one without a name or a keep, as far as it goes. It reads the
// catalogs in the same way as a dump, and no rows.
func Look(ctx context.Context, j *Job) (s *Survey, err error) {
	s = &Survey{Keep: j.Keep, Plan: &Plan{}}
	if j.hasDatabases() || j.Stream == nil && len(j.Folders) == 0 {
		if err := s.databases(ctx, j); err != nil {
			return nil, err
		}
	}
	s.besides(j)
	k := j.Keep
	if k == nil {
		return s, nil
	}
	if s.Room, err = k.Room(ctx); err != nil {
		return nil, err
	}
	if _, away := k.Medium(); away {
		may, err := k.Probe(ctx)
		if err != nil {
			return nil, err
		}
		s.May = &may
	}
	if s.Server.Folder != "" {
		s.Same, s.Told = k.SameDrive(s.Server.Folder)
	}
	s.Need, err = Estimate(ctx, k, j.Name, s.Plan.Databases)
	return s, err
}

// besides looks at what is dumped and is no database.
func (s *Survey) besides(j *Job) {
	r := &runner{Job: j, plan: s.Plan, beside: map[string]beside{}}
	n := len(s.Plan.Databases)
	err := r.besides()
	for _, d := range s.Plan.Databases[n:] {
		s.There = append(s.There, d)
		s.Looked = append(s.Looked, Looked{Database: d.Name})
	}
	if err != nil {
		s.Looked = append(s.Looked, Looked{Database: "a companion folder", Err: err})
	}
}

// databases looks at the source's.
func (s *Survey) databases(ctx context.Context, j *Job) error {
	j.Source.LogUnbounded = j.Source.LogUnbounded || j.Changes == FromLog
	src, err := engine.Open(ctx, j.Source)
	if err != nil {
		return err
	}
	defer src.Close()
	if s.Server, err = src.Describe(ctx); err != nil {
		return err
	}
	s.Skew = time.Until(s.Server.Clock)
	if s.There, err = src.Databases(ctx); err != nil {
		return err
	}
	s.Plan, s.Unmet = Choose(j.Choice, s.There)
	s.Open = j.Choice.open()
	if s.Server.Wide {
		wide := engine.Database{Name: engine.ServerWide}
		s.There = append(s.There, wide)
		if j.Server {
			s.Plan.Databases = append(s.Plan.Databases, wide)
		}
	}
	if err := s.held(ctx, j, src); err != nil {
		return err
	}
	for _, d := range s.Plan.Databases {
		s.Looked = append(s.Looked, look(ctx, src, d.Name, j.Chained))
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

// held looks what the server holds back for the job.
func (s *Survey) held(ctx context.Context, j *Job, src engine.Source) error {
	h, ok := src.(engine.Holder)
	if !ok || !j.Chained || j.Keep == nil {
		return nil
	}
	all, err := h.Held(ctx)
	for _, x := range all {
		if x.Reader == j.reader() {
			s.Held = append(s.Held, x)
		}
	}
	return err
}

func look(ctx context.Context, src engine.Source, database string, chained bool) Looked {
	l := Looked{Database: database}
	snap, err := src.Snapshot(ctx, database)
	if err != nil {
		l.Err = err
		return l
	}
	defer snap.Close()
	cat := snap.Catalog()
	l.Tables, l.Objects, l.Warnings = len(cat.Tables), len(cat.Objects), cat.Warnings
	for _, t := range cat.Tables {
		if chained && len(t.Key) == 0 {
			l.Whole = append(l.Whole, t.ID)
		}
		if chained && t.NotInLog != "" {
			l.NotInLog = append(l.NotInLog, t.ID+": "+t.NotInLog)
		}
	}
	return l
}
