package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"grainkeep/internal/demo"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
)

// stage is where the demo plays: on files, or on a server.
type stage struct {
	where     string // as a phrase
	config    string
	bookings  string // the name of that database
	yesterday string // of its copy
	fresh     string // where it is restored to after the machine was lost
	found     string // of what is restored there
	left      string // what is left of the databases, in lines
	load      func(context.Context) error
	before    string // of that of a table as it was before the mistake
	change    func(ctx context.Context, sql func(engine string) string) error
	remove    func(context.Context)
	next      func(moment string) string // more to try
	night     string                     // the configuration of the nights; empty: there are none
}

func filesStage(folder string) stage {
	data := filepath.Join(folder, "data")
	day := fmt.Sprintf(demoConfig, "files", "engine = \"sqlite\"\npath   = \"data\"\n", "files", "bookings.db", "c*",
		"ros*", "", "bookings.db", "")
	const last = "keep      = \"barn\"\n" // of the job's keys
	return stage{
		night: strings.Replace(day, last, last+nightKeys, 1) + nightSections,
		where: "in " + folder, bookings: "bookings.db", yesterday: "bookings_yesterday.db",
		before: "bookings_before.db", fresh: "fresh", found: "bookings_found.db",
		config: day,
		left: "   data/            the live databases, and what was restored beside them\n" +
			"   fresh/           what came back on the fresh machine\n",
		load: func(ctx context.Context) error { return demo.LoadSQLite(ctx, data, 1) },
		change: func(ctx context.Context, sql func(string) string) error {
			db, err := demo.OpenSQLite(filepath.Join(data, "bookings.db"))
			if err != nil {
				return err
			}
			defer db.Close()
			_, err = db.ExecContext(ctx, sql("sqlite"))
			return err
		},
		remove: func(context.Context) {},
		next: func(moment string) string {
			return "     grainkeep restore nightly/bookings.db --at " + moment + " --as before.db --only booking\n"
		},
	}
}

// demoPrefix begins the names of the demo's databases on a server.
const demoPrefix = "ternskerry_"

func (a *app) serverStage(on string) (stage, error) {
	f, err := a.config()
	if err != nil {
		return stage{}, err
	}
	at, err := job.Of(f).Address(on)
	if err != nil {
		return stage{}, err
	}
	if at.Secret != nil {
		return stage{}, fault.Wrong("demo-secret", "the demo writes a configuration of its own, without secrets").
			Advise("give --on a URL; the password comes from the clients' usual password file")
	}
	src, err := engine.Open(a.ctx, at)
	if err != nil {
		return stage{}, err
	}
	defer src.Close()
	if _, ok := src.(engine.Scripter); !ok {
		return stage{}, fault.Wrong("demo-on-files", "%s is no server",
			on).Advise("leave --on out: the demo then makes SQLite files")
	}
	there, err := src.Databases(a.ctx)
	if err != nil {
		return stage{}, err
	}
	var names []string
	for _, d := range demo.Databases(1) {
		names = append(names, demoPrefix+d.Name)
	}
	bookings := names[0]
	names = append(names, bookings+"_yesterday", bookings+"_before", bookings+"_found")
	for _, d := range there {
		for _, n := range names {
			if d.Name == n {
				return stage{}, fault.New("demo-in-the-way", nil, "the server has a database %s already",
					n).Advise("it may be an earlier demo's; look, and drop it")
			}
		}
	}
	script := func(ctx context.Context, database, sql string) error {
		src, err := engine.Open(ctx, at)
		if err != nil {
			return err
		}
		defer src.Close()
		return src.(engine.Scripter).Script(ctx, database, sql)
	}
	s := stage{
		where: "on " + at.Server, bookings: bookings, yesterday: bookings + "_yesterday",
		before: bookings + "_before", fresh: on, found: bookings + "_found",
		load: func(ctx context.Context) error { return demo.LoadServer(ctx, script, at.Engine, demoPrefix, 1) },
		change: func(ctx context.Context, sql func(string) string) error {
			return script(ctx, bookings, sql(at.Engine))
		},
		remove: func(ctx context.Context) {
			for _, n := range names {
				if err := script(ctx, "", "DROP DATABASE IF EXISTS "+n); err != nil {
					a.mention(errors.Join(fmt.Errorf("the database %s could not be removed", n), err))
				}
			}
		},
		next: func(string) string { return "" },
	}
	s.config = serverConfig(at, names)
	return s, nil
}

// serverConfig is the demo's configuration on a server. The drill is beside the source:
// that is a choice, which the demo makes.
func serverConfig(at engine.Location, names []string) string {
	lines, schema := fmt.Sprintf("engine = %q\nserver = %q\nuser   = %q\n", at.Engine, at.Server, at.User), ""
	if at.TLS != "" {
		lines += fmt.Sprintf("tls    = %q\n", at.TLS)
	}
	if at.CA != "" {
		lines += fmt.Sprintf("ca     = %q\n", at.CA)
	}
	if at.Engine == "postgres" {
		schema = "public."
	}
	return fmt.Sprintf(demoConfig, "server", lines, "server", names[0], demoPrefix+"c*", demoPrefix+"ros*",
		"drill_on  = \"server\"\nserver    = false\nfull      = \"02:30\"\nincremental = \"each 15 min\"\n"+
			"log_limit = \"1 GiB\"\n", names[0], schema)
}
