package postgres

import (
	"context"
	"fmt"
	"strings"
	"time"

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
	for _, read := range []func(context.Context, bool) error{r.roles, r.memberships, r.tablespaces, r.templateRights,
		r.parameterRights} {
		if err == nil {
			err = read(ctx, s.at.Passwords)
		}
	}
	if err != nil {
		closeConn(c)
		return nil, err
	}
	p.moment = p.moment.In(time.UTC)
	p.cat = &engine.Catalog{Facts: map[string]string{}, Header: settings, Objects: r.placed(r.extra), Warnings: r.warns,
		Secrets: r.secrets}
	return p, nil
}

// rolesRow is a row of roles.sql.
type rolesRow struct {
	Name, Quoted, Options, Secret, Comment string
	Settings                               []string
	Login                                  bool // and not the user that the server was made with
}

// everybodySettingsRow is a row of everybody_settings.sql.
type everybodySettingsRow struct{ Setting string }

// roles are made only where they are missing, whole: one that is there keeps what
// it has.
func (r *catalogReader) roles(ctx context.Context, passwords bool) error {
	if passwords {
		var may bool
		if err := r.c.QueryRow(ctx, "SELECT has_table_privilege('pg_authid', 'SELECT')").Scan(&may); err != nil {
			return err
		}
		if !may {
			return fault.New("rights-missing", nil, "this user may not read the roles' password hashes").
				Advise("dump as an administrator, or leave passwords = true out of the job")
		}
	}
	if err := each(ctx, r, "everybody_settings", func(x *everybodySettingsRow) error {
		k, v, _ := strings.Cut(x.Setting, "=")
		r.also(rankType, engine.Object{Kind: "setting", Name: k + " of everybody", Section: engine.Schema, Rule: true,
			SQL: "ALTER ROLE ALL SET " + settingName(k) + " TO " + settingValue(k, v) + ";\n"})
		return nil
	}); err != nil {
		return err
	}
	return eachOf(ctx, r, "roles", map[string]string{"passwords": yes(passwords)}, func(x *rolesRow) error {
		body := "BEGIN IF NOT EXISTS (SELECT FROM pg_catalog.pg_roles WHERE rolname = " + quoteLiteral(x.Name) +
			") THEN CREATE ROLE " + x.Quoted + " WITH " + x.Options
		if x.Secret != "" {
			body += " PASSWORD " + quoteLiteral(x.Secret)
		}
		body += ";"
		for _, set := range x.Settings {
			k, v, _ := strings.Cut(set, "=")
			body += " ALTER ROLE " + x.Quoted + " SET " + settingName(k) + " TO " + settingValue(k, v) + ";"
		}
		if x.Login && !passwords {
			r.secrets = append(r.secrets, x.Name)
		}
		if x.Comment != "" {
			body += " COMMENT ON ROLE " + x.Quoted + " IS" + space(literal(x.Comment)) + ";"
		}
		r.also(rankSchema, engine.Object{Kind: "role", Name: x.Quoted, Section: engine.Schema, SQL: "DO " +
			quoteLiteral(body+" END IF; END") + ";\n"})
		return nil
	})
}

// membershipsRow is a row of memberships.sql.
type membershipsRow struct {
	Role, Member, With, Grantor string
	Admin                       bool
}

// memberships come in an order in which who granted one may grant it.
func (r *catalogReader) memberships(ctx context.Context, _ bool) error {
	var left []membershipsRow
	err := each(ctx, r, "memberships", func(x *membershipsRow) error {
		left = append(left, *x)
		return nil
	})
	able := map[[2]string]bool{} // role and who may grant it
	for len(left) > 0 {
		var later []membershipsRow
		for _, x := range left {
			if x.Grantor != "" && !able[[2]string{x.Role, x.Grantor}] {
				later = append(later, x)
				continue
			}
			r.membership(x)
			able[[2]string{x.Role, x.Member}] = able[[2]string{x.Role, x.Member}] || x.Admin
		}
		if len(later) == len(left) { // who granted it may not any more
			for _, x := range later {
				x.Grantor = ""
				r.membership(x)
			}
			return err
		}
		left = later
	}
	return err
}

func (r *catalogReader) membership(x membershipsRow) {
	o := engine.Object{Kind: "membership", Name: x.Member + " in " + x.Role, Section: engine.Schema,
		SQL: "GRANT " + x.Role + " TO " + x.Member + x.With}
	if x.Grantor != "" {
		o.Name += " by " + x.Grantor
		o.SQL += " GRANTED BY " + x.Grantor
	}
	o.SQL += ";\n"
	r.also(rankType, o)
}

// tablespacesRow is a row of tablespaces.sql.
type tablespacesRow struct {
	Name, Sql string
}

func (r *catalogReader) tablespaces(ctx context.Context, _ bool) error {
	err := each(ctx, r, "tablespaces", func(x *tablespacesRow) error {
		r.also(rankTable, engine.Object{Kind: "tablespace", Name: x.Name, Section: engine.Finish, Rule: true,
			SQL: x.Sql + ";\n"})
		return nil
	})
	if err != nil {
		return err
	}
	return r.rightsOf(ctx, "TABLESPACE", `SELECT quote_ident(spcname), spcowner, spcacl FROM pg_tablespace`,
		engine.Finish)
}

// templateRights are those on databases that a new server has too: of all others, rights are in
// their own dumps.
func (r *catalogReader) templateRights(ctx context.Context, _ bool) error {
	return r.rightsOf(ctx, "DATABASE", `SELECT quote_ident(datname), datdba, datacl FROM pg_database
		WHERE datname IN ('template1', 'postgres')`, engine.Finish)
}

func (r *catalogReader) parameterRights(ctx context.Context, _ bool) error {
	if r.version < 150000 {
		return nil
	}
	return r.rightsOf(ctx, "PARAMETER", `SELECT parname, 10::oid, paracl FROM pg_parameter_acl`, engine.Finish)
}

// serverRightsRow is a row of server_rights.sql.
type serverRightsRow struct {
	TName, TOwner, GWhat string
	GOption              bool
	Grantee, Grantor     *string
}

// rightsOf reads the rights on one kind of thing; a query gives name, owner, rights. A database
// without a name is this one.
func (r *catalogReader) rightsOf(ctx context.Context, word, query string, section engine.Section) error {
	type target struct{ name, owner string }
	found := holdings[target]{rights: map[target][]right{}}
	err := eachOf(ctx, r, "server_rights", map[string]string{"of": query}, func(x *serverRightsRow) error {
		var t target
		var g right
		t.name, t.owner, g.what, g.option = x.TName, x.TOwner, x.GWhat, x.GOption
		found.add(t, g, x.Grantee, x.Grantor)
		return nil
	})
	for _, t := range found.order {
		on, o := word+" "+t.name, engine.Object{Kind: "grants", Section: section, Rule: true}
		o.Name = strings.ToLower(on)
		if t.name == "" {
			on, o.Name, o.OfDatabase, o.Roles = word+" "+here, "on the database", true, named(t.owner, found.rights[t])
		}
		sql := grantSQL(on, "", t.owner, found.rights[t])
		if word != "PARAMETER" {
			sql = fmt.Sprintf("REVOKE ALL ON %s FROM PUBLIC;\nREVOKE ALL ON %s FROM %s;\n", on, on, t.owner) + sql
		}
		if o.SQL = sql; o.OfDatabase {
			o.SQL = aboutItself(sql)
		}
		r.also(rankGrant, o)
	}
	return err
}
