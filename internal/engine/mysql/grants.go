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
	name := literal(user) + "@'localhost'"
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Run this as an administrator of the server, in its interactive client. Put the host that grainkeep")
	line("-- runs on in the place of localhost, and a password of your own in the place of the dots.")
	line("")
	line("CREATE USER %s IDENTIFIED BY '…';", name)
	switch purpose {
	case engine.ForDump, engine.ForChanges:
		line("-- reads tables, views, triggers and events, and writes nothing")
		if len(databases) == 0 {
			line("GRANT SELECT, SHOW VIEW, TRIGGER, EVENT ON *.* TO %s;", name)
		}
		for _, d := range databases {
			line("GRANT SELECT, SHOW VIEW, TRIGGER, EVENT ON %s`.* TO %s;", grantedOn(d), name)
		}
		line("-- reads the bodies of routines, and users and their rights (and the hashes of their passwords: leave it out where")
		line("-- there are no routines, and users need not be dumped)")
		line("GRANT SELECT ON mysql.* TO %s;", name)
		line("-- the short lock that gives several readers one moment; without it there is one reader")
		line("GRANT RELOAD ON *.* TO %s;", name)
		line("-- the position in the server's log; on MySQL and before MariaDB 10.5: REPLICATION CLIENT")
		line("GRANT BINLOG MONITOR ON *.* TO %s;", name)
		line("-- names who holds a lock that the dump waits for")
		line("GRANT PROCESS ON *.* TO %s;", name)
		if purpose == engine.ForChanges {
			line("-- reads changes from the server's log. The server must write it, with whole rows (then restart it):")
			line("--   log_bin = on, binlog_format = ROW, binlog_row_image = FULL")
			line("-- and must keep it for longer than the time between two dumps of changes: binlog_expire_logs_seconds.")
			line("GRANT REPLICATION SLAVE ON *.* TO %s;", name)
		}
	case engine.ForDrill:
		line("-- makes, fills and drops scratch databases, and touches nothing else")
		line("GRANT ALL ON `grainkeep\\_drill\\_%%`.* TO %s;", name)
		line("-- only where the server logs changes and there are functions or triggers:")
		line("--   SET GLOBAL log_bin_trust_function_creators = 1;")
	case engine.ForRestore:
		line("-- makes and fills databases under a working name, moves them into place, and an old one aside")
		places := []string{"*.*"}
		if len(databases) > 0 {
			places = []string{grantedOn("grainkeep_restore_") + "%`.*"}
		}
		for _, d := range databases {
			places = append(places, grantedOn(d)+"`.*", grantedOn(d+"_before_")+"%`.*")
		}
		for _, p := range places {
			line("GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, INDEX, REFERENCES, LOCK TABLES, CREATE VIEW, SHOW VIEW,")
			line("  TRIGGER, EVENT, CREATE ROUTINE, ALTER ROUTINE, EXECUTE ON %s TO %s;", p, name)
		}
		if len(databases) > 0 {
			line("-- reads the bodies of routines that are moved")
			line("GRANT SELECT ON mysql.* TO %s;", name)
		}
		line("-- gives objects back to those for whom they act (MySQL: SET_ANY_DEFINER); without it, restore with '--owners mine':")
		line("-- everything then acts for this user")
		line("GRANT SET USER ON *.* TO %s;", name)
		line("-- sees who uses a database before it is moved aside")
		line("GRANT PROCESS ON *.* TO %s;", name)
		line("-- only where the server logs changes and there are functions or triggers:")
		line("--   SET GLOBAL log_bin_trust_function_creators = 1;")
		line("-- Users and their rights (JOB/+server) can be restored only by an administrator.")
	default:
		return "", fault.Wrong("purpose-unknown", "there is no purpose %q", purpose).Advise("use dump, changes, drill or restore")
	}
	return b.String(), nil
}

// grantedOn begins the name of a database in a grant, where some signs stand for others.
func grantedOn(database string) string {
	return strings.TrimSuffix(quote(strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(database)), "`")
}

// ByHand gives the shell lines that restore a dump with the server's client.
func (drv) ByHand(d engine.HandDump) []string {
	client := "mariadb --default-character-set=binary --binary-mode --max-allowed-packet=1G"
	load := fmt.Sprintf("(for f in $(find . -path './[0-9][0-9]-*.sql*' | LC_ALL=C sort); do %s \"$f\" | $client \"$new\" || exit 1; done)", d.Unpack)
	lines := []string{"# the client, with what it needs to reach the server as an administrator (--host, --user, --password, …); for MySQL, say mysql;",
		"# a row that is larger than the server's own max_allowed_packet stops it: raise that first",
		"client='" + client + "'"}
	if d.Database == engine.ServerWide {
		return append(lines, "# users and roles that are there already are left as they are; --force goes on where a right cannot be given",
			fmt.Sprintf("(for f in $(find . -path './[0-9][0-9]-*.sql*' | LC_ALL=C sort); do %s \"$f\" | $client --force mysql || exit 1; done)", d.Unpack))
	}
	return append(lines,
		"# the name of the new database; it must not exist yet",
		"new="+engine.ShellQuote(engine.OnOneLine(d.Database)+"_restored"),
		"echo 'CREATE DATABASE `'\"$new\"'` CHARACTER SET "+d.Facts["charset"]+" COLLATE "+d.Facts["collation"]+"' | $client",
		load,
		"$client -N --raw \"$new\" < row-counts.sql | diff - row-counts.txt && echo 'every row is there'")
}
