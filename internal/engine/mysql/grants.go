package mysql

import (
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Grants gives the SQL for a user with just the rights that a purpose needs.
func (drv) Grants(at engine.Location, purpose engine.Purpose, databases []string) (string, error) {
	user := at.User
	if user == "" {
		user = "grainkeep"
	}
	g := &grants{user: literal(user) + "@'localhost'", databases: databases}
	g.line("-- Run this as an administrator of the server, in its interactive client. Put the host that grainkeep")
	g.line("-- runs on in the place of localhost, and a password of your own in the place of the dots.")
	g.line("")
	g.line("CREATE USER %s IDENTIFIED BY '…';", g.user)
	switch purpose {
	case engine.ForDump:
		g.dump()
	case engine.ForChanges:
		g.dump()
		g.changes()
	case engine.ForDrill:
		g.line("-- makes, fills and drops scratch databases, and touches nothing else")
		g.give("ALL", grantedOn(engine.DrillPrefix)+"%`.*")
		g.trusting()
	case engine.ForRestore:
		g.restore()
	default:
		return "", fault.Wrong("purpose-unknown", "there is no purpose %q",
			purpose).Advise("use dump, changes, drill or restore")
	}
	return g.String(), nil
}

// grants is the text for one user.
type grants struct {
	strings.Builder
	user      string
	databases []string // empty: all
}

func (g *grants) line(format string, args ...any) { fmt.Fprintf(g, format+"\n", args...) }

func (g *grants) give(rights, place string) { g.line("GRANT %s ON %s TO %s;", rights, place, g.user) }

// grantedOn begins the name of a database in a grant, where some signs stand for others. A pattern
// of a job becomes one of the server's.
func grantedOn(database string) string {
	return strings.TrimSuffix(quote(strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`, "*", "%", "?", "_").Replace(database)),
		"`")
}

func (g *grants) dump() {
	const read = "SELECT, SHOW VIEW, TRIGGER, EVENT, LOCK TABLES"
	g.line("-- reads tables, views, triggers and events, and writes nothing; the lock keeps writers out of the dumped")
	g.line("-- tables for the instant in which several readers begin at one moment")
	if len(g.databases) == 0 {
		g.give(read, "*.*")
	}
	for _, d := range g.databases {
		g.give(read, grantedOn(d)+"`.*")
	}
	g.line("-- reads the bodies of routines, and users and their rights (and the hashes of their passwords: leave " +
		"it out where")
	g.line("-- there are no routines, and users need not be dumped)")
	g.give("SELECT", "mysql.*")
	g.line("-- names who holds a lock that the dump waits for; the position in the server's log; on MySQL, the bodies of")
	g.line("-- routines, and a lock that writers wait for where they never cease. Each server reads what is written for it")
	g.line("-- (before MariaDB 10.5: REPLICATION CLIENT)")
	g.give("PROCESS /*M!100502 , BINLOG MONITOR */ /*!80020 , REPLICATION CLIENT, SHOW_ROUTINE */ /*!80023 , FLUSH_TABLES "+
		"*/", "*.*")
}

func (g *grants) changes() {
	g.line("-- reads changes from the server's log. The server must write it, as rows (then restart it); with whole rows")
	g.line("-- each dump knows the very fingerprints of what changed:")
	g.line("--   log_bin = on, binlog_format = ROW, binlog_row_image = FULL")
	g.line("-- and must keep it for longer than the time between two dumps of changes: binlog_expire_logs_seconds.")
	g.give("REPLICATION SLAVE", "*.*")
}

func (g *grants) restore() {
	g.line("-- makes and fills databases under a working name, moves them into place, and an old one aside")
	places := []string{"*.*"}
	if len(g.databases) > 0 {
		places = []string{grantedOn(engine.RestorePrefix) + "%`.*"}
	}
	for _, d := range g.databases {
		places = append(places, grantedOn(d)+"`.*", grantedOn(d+"_before_")+"%`.*")
	}
	for _, p := range places {
		g.give("SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, REFERENCES, LOCK TABLES, CREATE VIEW, "+
			"SHOW VIEW,\n  TRIGGER, EVENT, CREATE ROUTINE, ALTER ROUTINE, EXECUTE", p)
	}
	if len(g.databases) > 0 {
		g.line("-- reads the bodies of routines that are moved")
		g.give("SELECT", "mysql.*")
	}
	g.line("-- sees who uses a database before it is moved aside; gives objects back to those for whom they act, also " +
		"to")
	g.line("-- administrators of MySQL (without it, restore with '--owners mine': everything then acts for this user)")
	g.give("PROCESS /*M!100502 , SET USER */ /*!80200 , SET_ANY_DEFINER, ALLOW_NONEXISTENT_DEFINER, SYSTEM_USER */",
		"*.*")
	g.trusting()
	g.line("-- Users and their rights (JOB/+server) can be restored only by an administrator.")
}

func (g *grants) trusting() {
	g.line("-- only where the server logs changes and there are functions or triggers:")
	g.line("--   SET GLOBAL log_bin_trust_function_creators = 1;")
}
