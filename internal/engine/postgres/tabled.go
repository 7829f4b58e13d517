package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// tabled reads what hangs on tables and views: rules, policies, statistics.
func (r *catalogReader) tabled(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.rules, r.policies, r.statistics, r.triggers} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// states are what a trigger or rule can be told, by the catalogs' letter.
var states = map[string]string{"D": "DISABLE", "R": "ENABLE REPLICA", "A": "ENABLE ALWAYS"}

func (r *catalogReader) rules(ctx context.Context) error {
	return r.rows(ctx, `SELECT w.oid, w.ev_class, w.ev_enabled::text, quote_ident(w.rulename), format('%I.%I', n.nspname, c.relname), pg_get_ruledef(w.oid)
		FROM pg_rewrite w JOIN pg_class c ON c.oid = w.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE w.rulename <> '_RETURN' AND `+ours+` AND `+notMember("pg_rewrite", "w.oid"), func(rows pgx.Rows) error {
		var oid, table uint32
		var enabled, name, on string
		var def *string
		if err := rows.Scan(&oid, &table, &enabled, &name, &on, &def); err != nil {
			return err
		}
		sql, err := define("rule", name+" on "+on, def)
		if err != nil {
			return err
		}
		sql = strings.TrimSuffix(sql, ";") + ";\n"
		if word := states[enabled]; word != "" {
			sql += "ALTER TABLE " + on + " " + word + " RULE " + name + ";\n"
		}
		r.add("pg_rewrite", oid, rankTrigger, engine.Object{Kind: "rule", Name: name + " on " + on, Table: r.tableID[table],
			Section: engine.Finish, SQL: sql}, key{"pg_class", table}).late = true
		return nil
	})
}

func (r *catalogReader) policies(ctx context.Context) error {
	err := r.rows(ctx, `SELECT p.oid, p.polrelid, quote_ident(p.polname), format('%I.%I', n.nspname, c.relname), p.polpermissive, p.polcmd::text,
		array(SELECT quote_ident(rolname) FROM pg_roles WHERE oid = ANY (p.polroles) ORDER BY 1), 0 = ANY (p.polroles),
		pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid)
		FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE `+ours+` AND `+notMember("pg_policy", "p.oid"), func(rows pgx.Rows) error {
		var oid, table uint32
		var name, on, command string
		var permissive, public bool
		var roles []string
		var using, check *string
		if err := rows.Scan(&oid, &table, &name, &on, &permissive, &command, &roles, &public, &using, &check); err != nil {
			return err
		}
		sql := "CREATE POLICY " + name + " ON " + on
		if !permissive {
			sql += " AS RESTRICTIVE"
		}
		sql += map[string]string{"r": " FOR SELECT", "a": " FOR INSERT", "w": " FOR UPDATE", "d": " FOR DELETE"}[command]
		if !public {
			sql += " TO " + strings.Join(roles, ", ")
		} else {
			roles = nil
		}
		if using != nil {
			sql += " USING (" + *using + ")"
		}
		if check != nil {
			sql += " WITH CHECK (" + *check + ")"
		}
		r.add("pg_policy", oid, rankTrigger, engine.Object{Kind: "row security policy", Name: name + " on " + on, Table: r.tableID[table], Roles: roles,
			Section: engine.Finish, SQL: sql + ";\n"}, key{"pg_class", table}).late = true
		return nil
	})
	if err != nil {
		return err
	}
	return r.rows(ctx, `SELECT c.oid, format('%I.%I', n.nspname, c.relname), c.relrowsecurity, c.relforcerowsecurity FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE (c.relrowsecurity OR c.relforcerowsecurity) AND `+ours+` AND `+notMember("pg_class", "c.oid"), func(rows pgx.Rows) error {
		var table uint32
		var name, sql string
		var enabled, forced bool
		if err := rows.Scan(&table, &name, &enabled, &forced); err != nil {
			return err
		}
		if enabled {
			sql = "ALTER TABLE " + name + " ENABLE ROW LEVEL SECURITY;\n"
		}
		if forced {
			sql += "ALTER TABLE " + name + " FORCE ROW LEVEL SECURITY;\n"
		}
		r.also(rankIdentity, engine.Object{Kind: "row security", Name: name, Table: name, Section: engine.Finish, SQL: sql}, key{"pg_class", table}).late = true
		return nil
	})
}

func (r *catalogReader) statistics(ctx context.Context) error {
	target := "-1"
	if r.version >= 130000 {
		target = "coalesce(s.stxstattarget, -1)"
	}
	return r.rows(ctx, `SELECT s.oid, s.stxrelid, format('%I.%I', n.nspname, s.stxname), pg_get_statisticsobjdef(s.oid), `+target+`::int
		FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE `+ours+` AND `+notMember("pg_statistic_ext", "s.oid"), func(rows pgx.Rows) error {
		var oid, table uint32
		var name string
		var def *string
		var target int
		if err := rows.Scan(&oid, &table, &name, &def, &target); err != nil {
			return err
		}
		sql, err := define("statistics", name, def)
		if err != nil {
			return err
		}
		sql += ";\n"
		if target >= 0 {
			sql += fmt.Sprintf("ALTER STATISTICS %s SET STATISTICS %d;\n", name, target)
		}
		r.add("pg_statistic_ext", oid, rankIndex, engine.Object{Kind: "extended statistics", Name: name, Table: r.tableID[table], Section: engine.Finish, SQL: sql},
			key{"pg_class", table}).late = true
		return nil
	})
}

// triggers reads them where people made them: their copies on partitions follow,
// except in whether they are enabled.
func (r *catalogReader) triggers(ctx context.Context) error {
	const parent = `(SELECT x.refobjid FROM pg_depend x WHERE x.classid = 'pg_trigger'::regclass AND x.objid = t.oid AND x.refclassid = 'pg_trigger'::regclass LIMIT 1)`
	return r.rows(ctx, `SELECT t.oid, t.tgrelid, t.tgenabled::text, quote_ident(t.tgname), format('%I.%I', n.nspname, c.relname), pg_get_triggerdef(t.oid),
		coalesce(`+parent+`, 0), coalesce((SELECT p.tgenabled::text FROM pg_trigger p WHERE p.oid = `+parent+`), '')
		FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE (NOT t.tgisinternal OR EXISTS (SELECT FROM pg_trigger p WHERE p.oid = `+parent+` AND NOT p.tgisinternal)) AND `+ours+` AND `+notMember("pg_trigger", "t.oid"), func(rows pgx.Rows) error {
		var oid, table, parent uint32
		var enabled, name, on, parentEnabled string
		var def *string
		if err := rows.Scan(&oid, &table, &enabled, &name, &on, &def, &parent, &parentEnabled); err != nil {
			return err
		}
		sql, err := define("trigger", name, def)
		if err != nil {
			return err
		}
		o := engine.Object{Kind: "trigger", Name: name + " on " + on, Table: r.tableID[table], Section: engine.Finish}
		needs := []key{{"pg_class", table}}
		if parent == 0 {
			o.SQL = sql + ";\n"
		} else {
			if enabled == parentEnabled {
				return nil
			}
			o.Kind = "trigger state"
			needs = append(needs, key{"pg_trigger", parent})
		}
		if word := states[enabled]; word != "" {
			o.SQL += "ALTER TABLE ONLY " + on + " " + word + " TRIGGER " + name + ";\n"
		} else if parent != 0 {
			o.SQL += "ALTER TABLE ONLY " + on + " ENABLE TRIGGER " + name + ";\n"
		}
		r.add("pg_trigger", oid, rankTrigger, o, needs...).late = true
		return nil
	})
}
