package mysql

import (
	"fmt"

	"grainkeep/internal/engine"
)

// client is the interactive client of a product, told to run none of its own commands that
// may stand in a dump, and to change no byte.
func client(product string) (command, about string) {
	const same = " --default-character-set=binary --binary-mode --max-allowed-packet=1G"
	if product == "MySQL" {
		return "mysql" + same, "# --binary-mode keeps it from running commands that may stand in a file, but for " +
			"'delimiter'"
	}
	return "mariadb --sandbox" + same, "# --sandbox keeps it from running commands that may stand in a file; clients " +
		"before mid-2024 have no such switch"
}

// ByHand gives the shell lines that restore a dump with the server's client.
func (drv) ByHand(d engine.HandDump) []string {
	command, about := client(d.Product)
	lines := []string{"# the client, with what it needs to reach the server as an administrator (--host, --user, " +
		"--password, …)",
		about,
		"# a row that is larger than the server's own max_allowed_packet stops it: raise that first",
		"client='" + command + "'"}
	if d.Database == engine.ServerWide {
		return append(lines,
			"# users and roles that are there already are left as they are; --force goes on where a right cannot "+
				"be given",
			fmt.Sprintf("(for f in $(%s); do %s \"$f\" | $client "+
				"--force mysql || exit 1; done)", d.Files, d.Unpack))
	}
	if d.Owners {
		lines = append(lines,
			"# 60-owners gives rights to users that must be there (JOB/+server makes them); where they are "+
				"not, leave it out")
	}
	return append(lines,
		"# the name of the new database; it must not exist yet",
		"new="+engine.ShellQuote(engine.OnOneLine(d.Database)+"_restored"),
		"quoted=$(printf '%s' \"$new\" | sed 's/`/``/g')",
		"printf 'CREATE DATABASE `%s` CHARACTER SET "+d.Facts["charset"]+" COLLATE "+d.Facts["collation"]+
			"' \"$quoted\" | $client",
		fmt.Sprintf("(for f in $(%s); do %s \"$f\" | $client "+
			"--database=\"$new\" || exit 1; done)", d.Files, d.Unpack),
		"$client -N --raw --database=\"$new\" < row-counts.sql | diff - row-counts.txt && echo 'every row is there'")
}
