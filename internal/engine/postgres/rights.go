package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// owners reads who owns what. Sequences that belong to a column follow its table.
func (r *catalogReader) owners(ctx context.Context) error {
	return r.rows(ctx, `
		SELECT 'pg_namespace', n.oid, 'SCHEMA', quote_ident(n.nspname), n.nspowner::regrole::text FROM pg_namespace n
			WHERE `+ours+` AND NOT (n.nspname = 'public' AND (n.nspowner = 10 OR n.nspowner::regrole::text = 'pg_database_owner'))
		UNION ALL SELECT 'pg_type', t.oid, CASE t.typtype WHEN 'd' THEN 'DOMAIN' ELSE 'TYPE' END, format('%I.%I', n.nspname, t.typname), t.typowner::regrole::text
			FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typtype IN ('e', 'd') AND `+ours+`
		UNION ALL SELECT 'pg_proc', p.oid, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END,
			(pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, p.proowner::regrole::text
			FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE `+ours+`
		UNION ALL SELECT 'pg_class', c.oid, CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END,
			format('%I.%I', n.nspname, c.relname), c.relowner::regrole::text
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'v', 'S') AND c.relpersistence <> 't' AND `+ours+`
			AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND c.relkind = 'S'
				AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i'))`,
		func(rows pgx.Rows) error {
			var class, word, name, owner string
			var oid uint32
			if err := rows.Scan(&class, &oid, &word, &name, &owner); err != nil {
				return err
			}
			if n := r.nodes[key{class, oid}]; n != nil {
				r.also(rankOwner, engine.Object{Kind: "owner", Name: strings.ToLower(word) + " " + name, Table: n.obj.Table, Section: engine.Owners,
					SQL: "ALTER " + word + " " + name + " OWNER TO " + owner + ";\n"}, n.key)
			}
			return nil
		})
}

// grants reads the rights on everything, down to columns. Rights that an object
// has by itself are not written.
func (r *catalogReader) grants(ctx context.Context) error {
	acls := []string{
		// class, oid, word, name, column, acl, owner
		`SELECT 'pg_namespace', n.oid, 'SCHEMA', quote_ident(n.nspname), '', n.nspacl, n.nspowner FROM pg_namespace n
			LEFT JOIN pg_init_privs i ON i.classoid = 'pg_namespace'::regclass AND i.objoid = n.oid
			WHERE n.nspacl IS NOT NULL AND n.nspacl IS DISTINCT FROM i.initprivs AND ` + ours,
		`SELECT 'pg_type', t.oid, 'TYPE', format('%I.%I', n.nspname, t.typname), '', t.typacl, t.typowner
			FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE t.typacl IS NOT NULL AND ` + ours,
		`SELECT 'pg_proc', p.oid, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END,
			(pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity, '', p.proacl, p.proowner
			FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.proacl IS NOT NULL AND ` + ours,
		`SELECT 'pg_class', c.oid, CASE c.relkind WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, format('%I.%I', n.nspname, c.relname), '', c.relacl, c.relowner
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relacl IS NOT NULL AND ` + ours,
		`SELECT 'pg_class', c.oid, 'TABLE', format('%I.%I', n.nspname, c.relname), quote_ident(a.attname), a.attacl, c.relowner
			FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE a.attacl IS NOT NULL AND NOT a.attisdropped AND ` + ours,
	}
	type target struct {
		class, word, name, column, owner string
		oid                              uint32
	}
	var order []target
	rights := map[target][]right{}
	err := r.rows(ctx, `SELECT o.*, o.owner::regrole::text, coalesce(x.privilege_type, ''), coalesce(x.is_grantable, false),
			CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END, x.grantor::regrole::text FROM (`+
		strings.Join(acls, " UNION ALL ")+`) o(class, oid, word, name, col, acl, owner) LEFT JOIN LATERAL aclexplode(o.acl) x ON true
		ORDER BY 1, 2, 5, x.grantee, x.grantor, x.is_grantable, x.privilege_type`, func(rows pgx.Rows) error {
		var t target
		var g right
		var grantee, grantor *string
		if err := rows.Scan(&t.class, &t.oid, &t.word, &t.name, &t.column, nil, nil, &t.owner, &g.what, &g.option, &grantee, &grantor); err != nil {
			return err
		}
		if _, seen := rights[t]; !seen {
			order = append(order, t)
			rights[t] = nil
		}
		if grantee != nil {
			g.grantee, g.grantor = *grantee, *grantor
			rights[t] = append(rights[t], g)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, t := range order {
		n := r.resolve(key{t.class, t.oid})
		if n == nil {
			continue
		}
		on, columns := t.word+" "+t.name, ""
		sql := ""
		if t.column == "" {
			sql = fmt.Sprintf("REVOKE ALL ON %s FROM PUBLIC;\nREVOKE ALL ON %s FROM %s;\n", on, on, t.owner)
		} else {
			columns = " (" + t.column + ")"
		}
		sql += grantSQL(on, columns, t.owner, rights[t])
		name := strings.ToLower(t.word) + " " + t.name
		if t.column != "" {
			name += "." + t.column
		}
		r.also(rankGrant, engine.Object{Kind: "grants", Name: name, Table: n.obj.Table, Section: engine.Owners, SQL: sql}, n.key)
	}
	return nil
}

// right is one entry of an access list.
type right struct {
	grantee, what, grantor string
	option                 bool
}

// grantSQL writes the rights on an object. Who grants by a grant option must have
// got it before.
func grantSQL(on, columns, owner string, rights []right) string {
	var b strings.Builder
	able := map[string]bool{owner: true}
	for len(rights) > 0 {
		var later []right
		next := map[string]bool{}
		for i := 0; i < len(rights); {
			g, n := rights[i], 1
			what := g.what + columns
			for i+n < len(rights) && sameBut(rights[i+n], g) {
				what += ", " + rights[i+n].what + columns
				n++
			}
			if !able[g.grantor] && len(later)+n < len(rights) {
				later = append(later, rights[i:i+n]...)
				i += n
				continue
			}
			sql := "GRANT " + what + " ON " + on + " TO " + g.grantee
			if g.option {
				sql += " WITH GRANT OPTION"
				next[g.grantee] = true
			}
			if g.grantor != owner {
				sql = "SET SESSION AUTHORIZATION " + g.grantor + ";\n" + sql + ";\nRESET SESSION AUTHORIZATION"
			}
			b.WriteString(sql + ";\n")
			i += n
		}
		for r := range next {
			able[r] = true
		}
		rights = later
	}
	return b.String()
}

func sameBut(a, b right) bool {
	return a.grantee == b.grantee && a.grantor == b.grantor && a.option == b.option
}
