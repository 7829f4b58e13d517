package postgres

import (
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Grants gives the SQL for a user with the least rights for a purpose. The
// password is set by the administrator, so that it is in no file and no log.
func (driver) Grants(at engine.Location, purpose engine.Purpose, databases []string) (string, error) {
	user := at.User
	if user == "" {
		user = "grainkeep"
	}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("-- Run this as an administrator of the server, for example in its interactive client.")
	line("-- Then set the password there, where nothing logs it:  \\password %s", user)
	switch purpose {
	case engine.ForDump, engine.ForChanges:
		line("")
		if purpose == engine.ForChanges {
			line("-- reads the server's change log, too. The server must write it in full (then restart it):  " +
				"wal_level = logical")
			line("-- A reader that stays away keeps the log from being removed; bound it:  max_slot_wal_keep_size " +
				"= '10GB'")
			line("CREATE ROLE %s LOGIN REPLICATION;", quote(user))
			line("-- A publication says which tables are read; only who owns them may put them there. In each database, as " +
				"often as")
			line("-- there are owners of tables:")
			line("--   GRANT CREATE ON DATABASE … TO %s;  GRANT the_owner TO %s;", quote(user), quote(user))
			line("-- Without that, or without these settings, what changed is found by comparison.")
		} else {
			line("CREATE ROLE %s LOGIN;", quote(user))
		}
		line("-- may read every table, view and sequence, and may write nothing (server version 14 and later)")
		line("GRANT pg_read_all_data TO %s;", quote(user))
		line("ALTER ROLE %s SET default_transaction_read_only = on;", quote(user))
		for _, d := range databases {
			if strings.ContainsAny(d, "*?") {
				line("-- %s: for each database that this means, where PUBLIC may not connect:", engine.OnOneLine(d))
				line("--   GRANT CONNECT ON DATABASE … TO %s;", quote(user))
				continue
			}
			line("GRANT CONNECT ON DATABASE %s TO %s;", quote(d), quote(user))
		}
		line("")
		line("-- Only where tables have row security, or the dump would lack the rows that it hides:")
		line("--   ALTER ROLE %s BYPASSRLS;", quote(user))
		line("-- Only where there are large objects, for each of them:")
		line("--   GRANT SELECT ON LARGE OBJECT 4711 TO %s;", quote(user))
		line("-- On versions 12 and 13 only an administrator may read where subscriptions connect to, and the " +
			"options of")
		line("-- user mappings; a dump by this user says which it lacks.")
		line("")
		line("-- On versions 12 and 13 there is no pg_read_all_data. There, in each database and for each of its " +
			"schemas:")
		line("--   GRANT USAGE ON SCHEMA public TO %s;", quote(user))
		line("--   GRANT SELECT ON ALL TABLES IN SCHEMA public TO %s;", quote(user))
		line("--   GRANT SELECT ON ALL SEQUENCES IN SCHEMA public TO %s;", quote(user))
	case engine.ForDrill:
		line("")
		line("-- may make databases and drop its own, and touches nothing else")
		line("CREATE ROLE %s LOGIN CREATEDB;", quote(user))
	case engine.ForRestore:
		line("")
		line("-- Owners and grants can be given back only by an administrator. This user restores with")
		line("-- '--owners mine': everything then belongs to it.")
		line("CREATE ROLE %s LOGIN CREATEDB;", quote(user))
	default:
		return "", fault.Wrong("purpose-unknown", "there is no purpose %q",
			purpose).Advise("use dump, changes, drill or restore")
	}
	return b.String(), nil
}

// ByHand gives the shell lines that restore a dump with the server's client.
func (driver) ByHand(d engine.HandDump) []string {
	client := "psql -X -q -v ON_ERROR_STOP=1"
	guard := []string{
		"# a psql of 2025 or later runs none of its own commands that may stand in a file, when it is told so",
		`k=; case "$(psql --help=commands)" in *'\restrict'*) k=$(od -An -N16 -tx1 /dev/urandom | tr -d ' \n') ;; esac`,
		`guarded() { [ -z "$k" ] || printf '%s %s\n' '\restrict' "$k"; "$@"; }`,
	}
	if d.Database == engine.ServerWide {
		return append([]string{
			"# say where: set PGHOST, PGPORT and PGUSER to an administrator's; a role that is there already is " +
				"left as it is",
			"export PGDATABASE=postgres"}, append(guard,
			fmt.Sprintf("for f in 10-schema.sql*; do guarded %s \"$f\" | %s -o /dev/null; done", d.Unpack, client),
			"# where there is a 50-finish: make the folders of tablespaces that it names, owned by the server's user, and",
			"# run it in the same way, without -v ON_ERROR_STOP=1 where some of it is there already")...)
	}
	lines := []string{
		"# say where: set PGHOST, PGPORT and PGUSER as your server needs; then the new database's name",
		"new=" + engine.ShellQuote(engine.OnOneLine(d.Database+"_restored")),
		"printf '%s' " + engine.ShellQuote(`CREATE DATABASE :"new"`+CreateOptions(d.Facts)+";") +
			" | PGDATABASE=postgres " + client + " -v new=\"$new\"",
		"export PGDATABASE=\"$new\" PGCLIENTENCODING=UTF8",
	}
	lines = append(lines, guard...)
	if d.Owners {
		lines = append(lines, "# leave 60-owners out where the roles do not exist")
	}
	return append(lines,
		fmt.Sprintf("(for f in $(%s); do guarded %s \"$f\" | %s "+
			"-o /dev/null || exit 1; done)", d.Files, d.Unpack, client),
		"guarded cat row-counts.sql | psql -X -A -t | diff - row-counts.txt && echo 'every row is there'",
	)
}
