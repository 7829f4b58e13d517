package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"grainkeep/internal/testserver"
)

// benchAway measures copies against what copies with digests, or a plain client, moves; and what sealing costs.
func benchAway(program, dir string, rows int) error {
	os.Setenv("HOME", dir)
	os.Setenv("AWS_ACCESS_KEY_ID", testserver.S3User)
	os.Setenv("AWS_SECRET_ACCESS_KEY", testserver.S3Secret)
	from := filepath.Join(dir, "from")
	big := filepath.Join(dir, "big.db")
	if err := sqlite(big, fmt.Sprintf("CREATE TABLE t (id INTEGER PRIMARY KEY, v BLOB); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL "+
		"SELECT i + 1 FROM n WHERE i < %d) INSERT INTO t SELECT i, randomblob(900) FROM n", rows/5)); err != nil {
		return err
	}
	if _, _, err := measured(program, "dump", "--from", big, "--to", from, "--compression", "none", "--job", "away"); err != nil {
		return err
	}
	found, err := filepath.Glob(filepath.Join(from, "away/big.db/*"))
	if err != nil || len(found) != 1 {
		return fmt.Errorf("the dump is not there: %w", err)
	}
	for _, bench := range []func(program, dir, from, dump string) error{copyToFolder, copyBySFTP, copyToS3} {
		if err := bench(program, dir, from, found[0]); err != nil {
			return err
		}
	}
	return sealing(program, dir, rows)
}

func sqlite(path, script string) error { return shell("sqlite3 " + path + " \"" + script + "\"") }

func shell(script string) error {
	if out, err := exec.Command("sh", "-e", "-c", script).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %.2000s", err, out)
	}
	return nil
}

// copyTo copies the dump to a place that is made anew in each round.
func copyTo(what string, aim float64, program, from, to, path string, against func() error) error {
	return contest{what: "copy " + what, aim: aim, against: against,
		between: func() error {
			if err := shell("rm -rf " + path + "; sync"); err != nil {
				return err
			}
			_, _, err := measured(program, "keep", "create", to)
			return err
		},
		own: func(int) []string { return []string{"copy", "--all", "--from", from, "--to", to} },
	}.run(program)
}

func copyToFolder(program, dir, from, dump string) error {
	to, plain := filepath.Join(dir, "to"), filepath.Join(dir, "plain")
	return copyTo("to a folder", 1/0.9, program, from, to, to, func() error {
		return shell(fmt.Sprintf("rm -rf %[1]s; cp -r %[2]s %[1]s; cd %[1]s; sha256sum -c --quiet SHA256SUMS", plain, dump))
	})
}

func copyBySFTP(program, dir, from, dump string) error {
	s, err := testserver.StartSSH(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	path, plain := filepath.Join(dir, "by-sftp"), filepath.Join(dir, "plain")
	return copyTo("by SFTP, read back", 1/0.8, program, from, s.URL(path), path, func() error {
		return shell(fmt.Sprintf("rm -rf %[1]s %[1]s-back; mkdir %[1]s; printf 'put -r %[2]s %[1]s/dump\\nget -r %[1]s/dump %[1]s-back\\n' | sftp "+
			"-q -b - -i %[3]s -o UserKnownHostsFile=%[4]s -P %[5]d %[6]s@127.0.0.1; "+
			"cd %[1]s-back; sha256sum -c --quiet SHA256SUMS", plain, dump, s.Key, s.Known, s.Port, s.User))
	})
}

func copyToS3(program, dir, from, dump string) error {
	s, err := testserver.StartS3(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	to := s.URL("barn", "dumps")
	if _, _, err := measured(program, "keep", "create", to); err != nil {
		return err
	}
	return copyTo("to S3, with digests", 1/0.8, program, from, to, s.Path("barn", "dumps"), func() error {
		return shell(fmt.Sprintf(`cd %s; find . -type f | while read -r f; do
	sum=$(sha256sum "$f")
	curl -sf -H "x-amz-content-sha256: ${sum%%%% *}" --aws-sigv4 aws:amz:us-east-1:s3 --user %s:%s -T "$f" \
		"http://127.0.0.1:%d/barn/plain/$f"
done`, dump, testserver.S3User, testserver.S3Secret, s.Port))
	})
}

// sealing measures a sealed dump against the same one that is not: of rows that compress, and of such as do not.
func sealing(program, dir string, rows int) error {
	var seal []string
	for _, key := range []string{"office.key", "safe.key"} {
		out, err := exec.Command(program, "key", filepath.Join(dir, key)).Output()
		if err != nil {
			return err
		}
		seal = append(seal, "--seal", strings.TrimSpace(string(out)))
	}
	text := filepath.Join(dir, "text.db")
	if err := sqlite(text, fmt.Sprintf("CREATE TABLE booking (id INTEGER PRIMARY KEY, reference TEXT, passenger TEXT, price INTEGER, "+
		"note TEXT); WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO booking SELECT i, "+
		"printf('TS%%07X', i * 37), 'Passenger number ' || (i %% 60000), i * 7919 %% 90000, 'travels on deck ' || (i * 13 %% 500) "+
		"|| ' with a bicycle and a dog' FROM n", rows)); err != nil {
		return err
	}
	for what, path := range map[string]string{"text": text, "random bytes": filepath.Join(dir, "big.db")} {
		round := 0
		dump := func(to string) []string {
			return []string{"dump", "--from", path, "--to", filepath.Join(dir, to), "--job", fmt.Sprint("bench", round)}
		}
		if err := (contest{what: "sealed dump, " + what, aim: 1.15,
			prepare: func() error {
				round++
				return shell("rm -rf " + filepath.Join(dir, "open") + " " + filepath.Join(dir, "sealed"))
			},
			against: func() error { _, _, err := measured(program, dump("open")...); return err },
			own:     func(int) []string { return append(dump("sealed"), seal...) },
		}).run(program); err != nil {
			return err
		}
	}
	return nil
}
