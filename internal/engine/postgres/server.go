package postgres

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// serverSnapshot reads what belongs to the server and to no database: roles with
// their memberships and settings, tablespaces, rights on databases and parameters.
func (s *source) serverSnapshot(ctx context.Context) (*snapshot, error) {
	c, err := s.connect(ctx, s.home.Config().Database)
	if err != nil {
		return nil, err
	}
	p := &snapshot{s: s, database: engine.ServerWide, c: c}
	r := &catalogReader{c: c, version: s.version, nodes: map[key]*node{}, alias: map[key]key{}, member: map[key]key{}}
	_, err = c.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
	if err == nil {
		err = c.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&p.moment)
	}
	for _, read := range []func(context.Context, bool) error{r.roles, r.memberships, r.tablespaces, r.databaseRights, r.parameterRights} {
		if err == nil {
			err = read(ctx, s.at.Passwords)
		}
	}
	if err != nil {
		closeConn(c)
		return nil, err
	}
	p.moment = p.moment.In(time.UTC)
	p.cat = &engine.Catalog{Facts: map[string]string{}, Header: settings, Objects: r.placed(r.extra), Warnings: r.warns}
	return p, nil
}

// roles are made only where they are missing, whole: one that is there keeps what
// it has.
func (r *catalogReader) roles(ctx context.Context, passwords bool) error {
	secret, from := "''", "pg_roles"
	if passwords {
		var may bool
		if err := r.c.QueryRow(ctx, "SELECT has_table_privilege('pg_authid', 'SELECT')").Scan(&may); err != nil {
			return err
		}
		if !may {
			return fault.New("rights-missing", nil, "this user may not read the roles' password hashes").
				Advise("dump as an administrator, or leave passwords = true out of the job")
		}
		secret, from = "coalesce(rolpassword, '')", "pg_authid"
	}
	return r.rows(ctx, `SELECT rolname::text, quote_ident(rolname), concat_ws(' ', CASE WHEN rolsuper THEN 'SUPERUSER' ELSE 'NOSUPERUSER' END, CASE WHEN rolinherit THEN 'INHERIT' ELSE 'NOINHERIT' END,
			CASE WHEN rolcreaterole THEN 'CREATEROLE' ELSE 'NOCREATEROLE' END, CASE WHEN rolcreatedb THEN 'CREATEDB' ELSE 'NOCREATEDB' END, CASE WHEN rolcanlogin THEN 'LOGIN' ELSE 'NOLOGIN' END,
			CASE WHEN rolreplication THEN 'REPLICATION' ELSE 'NOREPLICATION' END, CASE WHEN rolbypassrls THEN 'BYPASSRLS' ELSE 'NOBYPASSRLS' END,
			CASE WHEN rolconnlimit <> -1 THEN 'CONNECTION LIMIT ' || rolconnlimit END, CASE WHEN rolvaliduntil IS NOT NULL THEN 'VALID UNTIL ' || quote_literal(rolvaliduntil) END),
		`+secret+`, coalesce(shobj_description(a.oid, 'pg_authid'), ''), coalesce((SELECT setconfig FROM pg_db_role_setting WHERE setrole = a.oid AND setdatabase = 0), '{}')
		FROM `+from+` a WHERE rolname !~ '^pg_' ORDER BY 1`, func(rows pgx.Rows) error {
		var name, quoted, options, secret, comment string
		var settings []string
		if err := rows.Scan(&name, &quoted, &options, &secret, &comment, &settings); err != nil {
			return err
		}
		body := "BEGIN IF NOT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = " + quoteLiteral(name) + ") THEN CREATE ROLE " + quoted + " WITH " + options
		if secret != "" {
			body += " PASSWORD " + quoteLiteral(secret)
		}
		body += ";"
		for _, set := range settings {
			k, v, _ := strings.Cut(set, "=")
			body += " ALTER ROLE " + quoted + " SET " + settingName(k) + " TO " + settingValue(k, v) + ";"
		}
		if comment != "" {
			body += " COMMENT ON ROLE " + quoted + " IS" + space(literal(comment)) + ";"
		}
		r.also(rankSchema, engine.Object{Kind: "role", Name: quoted, Section: engine.Schema, SQL: "DO " + quoteLiteral(body+" END IF; END") + ";\n"})
		return nil
	})
}

func (r *catalogReader) memberships(ctx context.Context, _ bool) error {
	options := "CASE WHEN m.admin_option THEN ' WITH ADMIN OPTION' ELSE '' END"
	if r.version >= 160000 {
		options = "format(' WITH ADMIN %s, INHERIT %s, SET %s', m.admin_option::text, m.inherit_option::text, m.set_option::text)"
	}
	return r.rows(ctx, `SELECT DISTINCT m.roleid::regrole::text, m.member::regrole::text, `+options+` FROM pg_auth_members m WHERE m.member >= 16384 OR m.member = 10 ORDER BY 1, 2, 3`, func(rows pgx.Rows) error {
		var role, member, with string
		if err := rows.Scan(&role, &member, &with); err != nil {
			return err
		}
		r.also(rankType, engine.Object{Kind: "membership", Name: member + " in " + role, Section: engine.Schema, SQL: "GRANT " + role + " TO " + member + with + ";\n"})
		return nil
	})
}

func (r *catalogReader) tablespaces(ctx context.Context, _ bool) error {
	err := r.rows(ctx, `SELECT quote_ident(spcname), format('CREATE TABLESPACE %I OWNER %s LOCATION %L', spcname, spcowner::regrole, pg_tablespace_location(oid))
		|| coalesce(' WITH (' || array_to_string(spcoptions, ', ') || ')', '') FROM pg_tablespace WHERE spcname !~ '^pg_' ORDER BY 1`, func(rows pgx.Rows) error {
		var name, sql string
		if err := rows.Scan(&name, &sql); err != nil {
			return err
		}
		r.also(rankTable, engine.Object{Kind: "tablespace", Name: name, Section: engine.Finish, Rule: true, SQL: sql + ";\n"})
		return nil
	})
	if err != nil {
		return err
	}
	return r.rightsOf(ctx, "TABLESPACE", `SELECT quote_ident(spcname), spcowner, spcacl FROM pg_tablespace`, engine.Finish)
}

// databaseRights come when the databases are back: 70-active.
func (r *catalogReader) databaseRights(ctx context.Context, _ bool) error {
	err := r.rows(ctx, `SELECT quote_ident(datname), datdba::regrole::text, datconnlimit FROM pg_database WHERE datname NOT IN ('template0', 'template1', 'postgres') ORDER BY 1`, func(rows pgx.Rows) error {
		var name, owner string
		var limit int
		if err := rows.Scan(&name, &owner, &limit); err != nil {
			return err
		}
		sql := "ALTER DATABASE " + name + " OWNER TO " + owner + ";\n"
		if limit != -1 {
			sql += fmt.Sprintf("ALTER DATABASE %s CONNECTION LIMIT %d;\n", name, limit)
		}
		r.also(rankOwner, engine.Object{Kind: "database owner", Name: name, Section: engine.Active, Rule: true, SQL: sql})
		return nil
	})
	if err != nil {
		return err
	}
	return r.rightsOf(ctx, "DATABASE", `SELECT quote_ident(datname), datdba, datacl FROM pg_database WHERE datname <> 'template0'`, engine.Active)
}

func (r *catalogReader) parameterRights(ctx context.Context, _ bool) error {
	if r.version < 150000 {
		return nil
	}
	return r.rightsOf(ctx, "PARAMETER", `SELECT parname, 10::oid, paracl FROM pg_parameter_acl`, engine.Finish)
}

// rightsOf reads the rights on one kind of thing; a query gives name, owner, rights.
func (r *catalogReader) rightsOf(ctx context.Context, word, query string, section engine.Section) error {
	type target struct{ name, owner string }
	found := holdings[target]{rights: map[target][]right{}}
	err := r.rows(ctx, `SELECT o.name, o.owner::regrole::text, coalesce(x.privilege_type, ''), coalesce(x.is_grantable, false), CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END, x.grantor::regrole::text
		FROM (`+query+`) o(name, owner, acl) LEFT JOIN LATERAL aclexplode(o.acl) x ON true WHERE o.acl IS NOT NULL ORDER BY 1, x.grantee, x.grantor, x.is_grantable, x.privilege_type`, func(rows pgx.Rows) error {
		var t target
		var g right
		var grantee, grantor *string
		if err := rows.Scan(&t.name, &t.owner, &g.what, &g.option, &grantee, &grantor); err != nil {
			return err
		}
		found.add(t, g, grantee, grantor)
		return nil
	})
	for _, t := range found.order {
		on := word + " " + t.name
		sql := grantSQL(on, "", t.owner, found.rights[t])
		if word != "PARAMETER" {
			sql = fmt.Sprintf("REVOKE ALL ON %s FROM PUBLIC;\nREVOKE ALL ON %s FROM %s;\n", on, on, t.owner) + sql
		}
		r.also(rankGrant, engine.Object{Kind: "grants", Name: strings.ToLower(on), Section: section, Rule: true, SQL: sql})
	}
	return err
}
