// Command grainkeep dumps application databases and proves that the dumps restore.
package main

import (
	"os"
	_ "time/tzdata" // zones are known on every machine

	"grainkeep/internal/cli"
	_ "grainkeep/internal/engine/mysql"
	_ "grainkeep/internal/engine/postgres"
	_ "grainkeep/internal/engine/sqlite"
	_ "grainkeep/internal/store/folder"
	_ "grainkeep/internal/store/s3"
	_ "grainkeep/internal/store/sftp"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
