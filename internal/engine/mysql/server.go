package mysql

import (
	"context"
	"fmt"
	"strings"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// serverSnapshot reads users, roles and their rights.
func (s *source) serverSnapshot(ctx context.Context) (engine.Snapshot, error) {
	r := &catalogReader{s: s, c: s.home}
	moment, err := now(ctx, s.home)
	if err != nil {
		return nil, err
	}
	if err := r.users(ctx, s.at.Passwords); err != nil {
		return nil, err
	}
	return &serverWide{moment, &engine.Catalog{Facts: map[string]string{}, Header: settings, Objects: r.objects,
		Warnings: r.warns, Secrets: r.secrets}}, nil
}

type serverWide struct {
	moment time.Time
	cat    *engine.Catalog
}

func (w *serverWide) Moment() time.Time                             { return w.moment }
func (w *serverWide) Catalog() *engine.Catalog                      { return w.cat }
func (w *serverWide) Width() int                                    { return 1 }
func (w *serverWide) Reader(context.Context) (engine.Reader, error) { return nil, nil }
func (w *serverWide) Confirm(context.Context) ([]string, error)     { return nil, nil }
func (w *serverWide) Ask(context.Context, string) (string, error)   { return "", nil }
func (w *serverWide) Close() error                                  { return nil }

var (
	secret = pattern.Of(` IDENTIFIED (?:BY|VIA|WITH)\b.*?(?: REQUIRE| WITH (?:GRANT|MAX)| PASSWORD EXPIRE|
		ACCOUNT|$)`)
	password = pattern.Of(` IDENTIFIED BY PASSWORD '[^']*'`)
)

// users makes those that are missing, and gives everybody the rights they had. Without
// passwords a user who has one is made locked, lest anybody could log in.
func (r *catalogReader) users(ctx context.Context, passwords bool) error {
	isRole := "'N'"
	if r.s.maria {
		isRole = "is_role"
	}
	rows, err := r.c.rows(ctx,
		"SELECT user, host, "+isRole+" FROM mysql.user WHERE user NOT IN ('mariadb.sys', 'mysql.sys', "+
			"'mysql.session', 'mysql.infoschema', 'PUBLIC') ORDER BY 3 DESC, 1, 2")
	if err != nil {
		r.warns = append(r.warns,
			"this user may not read the server's users and rights: they are not part of the dump; 'grainkeep "+
				"grants' prints what is needed")
		return nil //nolint:nilerr // what it may read is a dump too
	}
	if r.s.maria && r.s.version >= 101100 {
		if err := r.everybody(ctx); err != nil {
			return err
		}
	}
	for _, row := range rows {
		name, roles := quote(row[0]), ""
		o := engine.Object{Kind: "role", Name: name, Section: engine.Schema, SQL: "CREATE ROLE IF NOT EXISTS " +
			name + ";\n"}
		if row[2] != "Y" {
			name += "@" + quote(row[1])
			if o, roles, err = r.user(ctx, name, passwords); err != nil {
				return err
			}
		}
		r.add(o)
		grants, err := r.c.rows(ctx, "SHOW GRANTS FOR "+name)
		if err != nil {
			return err
		}
		var sql strings.Builder
		for _, g := range grants {
			if !onOne().MatchString(g[0]) { // those are in the dump of their database
				sql.WriteString(password().ReplaceAllString(g[0], "") + ";\n")
			}
		}
		if roles != "" {
			sql.WriteString("SET DEFAULT ROLE " + roles + " TO " + name + ";\n")
		}
		r.add(engine.Object{Kind: "grants", Name: name, Section: engine.Finish, Rule: true, Needs: []string{o.ID()},
			SQL: sql.String()})
	}
	return nil
}

// everybody reads what was granted to PUBLIC.
func (r *catalogReader) everybody(ctx context.Context) error {
	grants, err := r.c.rows(ctx, "SHOW GRANTS FOR PUBLIC")
	if err != nil {
		return err
	}
	var sql strings.Builder
	for _, g := range grants {
		if !strings.HasPrefix(g[0], "GRANT USAGE ") {
			sql.WriteString(g[0] + ";\n")
		}
	}
	if sql.Len() > 0 {
		r.add(engine.Object{Kind: "grants", Name: "PUBLIC", Section: engine.Finish, Rule: true, SQL: sql.String()})
	}
	return nil
}

// roleOf finds the default roles in what MySQL says of a user; they can be set only when they
// are granted.
var roleOf = pattern.Of(" DEFAULT ROLE ((?:`(?:[^`]|``)*`@`(?:[^`]|``)*`,?)+)")

// user makes a user; the default roles are for later.
func (r *catalogReader) user(ctx context.Context, name string, passwords bool) (o engine.Object, roles string,
	err error) {
	o = engine.Object{Kind: "user", Name: name, Section: engine.Schema}
	sql, err := r.c.value(ctx, "SHOW CREATE USER "+name)
	if err != nil {
		return o, "", err
	}
	if m := roleOf().FindStringSubmatch(sql); m != nil {
		sql, roles = strings.Replace(sql, m[0], "", 1), m[1]
	}
	locked := strings.Contains(sql, " ACCOUNT LOCK") // as MySQL's roles are
	sql = strings.Replace(sql, "CREATE USER ", "CREATE USER IF NOT EXISTS ", 1)
	socket := strings.Contains(sql, "IDENTIFIED VIA unix_socket") && !strings.Contains(sql, "USING")
	if m := secret().FindString(sql); m != "" && !passwords && !socket {
		end := ""
		for _, w := range []string{" REQUIRE", " WITH GRANT", " WITH MAX", " PASSWORD EXPIRE", " ACCOUNT"} {
			if strings.HasSuffix(m, w) {
				end = w
			}
		}
		sql = strings.Replace(sql, m, end, 1)
		switch {
		case strings.Contains(sql, " ACCOUNT UNLOCK"): // what follows it must come after the lock too
			sql = strings.Replace(sql, " ACCOUNT UNLOCK", " ACCOUNT LOCK", 1)
		case !strings.Contains(sql, " ACCOUNT LOCK"):
			sql += " ACCOUNT LOCK"
		}
		o.Note = fmt.Sprintf("was made locked, if it was missing, since passwords are not part of the dump: ALTER "+
			"USER %s IDENTIFIED BY '…' ACCOUNT UNLOCK", name)
	}
	if locked {
		o.Note = ""
	}
	if o.Note != "" {
		r.secrets = append(r.secrets, name)
	}
	o.SQL = sql + ";\n"
	return o, roles, nil
}
