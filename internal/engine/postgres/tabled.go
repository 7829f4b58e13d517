package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// tabled reads what hangs on tables and views: rules, policies, statistics.
func (r *catalogReader) tabled(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.rules, r.policies, r.statistics, r.triggers,
		r.internalTriggers} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// states are what a trigger or rule can be told, by the catalogs' letter.
var states = map[string]string{"D": "DISABLE", "R": "ENABLE REPLICA", "A": "ENABLE ALWAYS"}

// rulesRow is a row of rules.sql.
type rulesRow struct {
	OID, Table        uint32
	Enabled, Name, On string
	Def               *string
}

func (r *catalogReader) rules(ctx context.Context) error {
	return each(ctx, r, "rules", func(x *rulesRow) error {
		sql, err := define("rule", x.Name+" on "+x.On, x.Def)
		if err != nil {
			return err
		}
		sql = strings.TrimSuffix(sql, ";") + ";\n"
		if word := states[x.Enabled]; word != "" {
			sql += "ALTER TABLE " + x.On + " " + word + " RULE " + x.Name + ";\n"
		}
		r.add("pg_rewrite", x.OID, rankTrigger, engine.Object{Kind: "rule", Name: x.Name + " on " + x.On,
			Table:   r.tableID[x.Table],
			Section: engine.Finish, SQL: sql}, key{"pg_class", x.Table}).late = true
		return nil
	})
}

// policiesRow is a row of policies.sql.
type policiesRow struct {
	OID, Table         uint32
	Name, On, Command  string
	Permissive, Public bool
	Roles              []string
	Using, Check       *string
}

// rowSecurityRow is a row of row_security.sql.
type rowSecurityRow struct {
	Table           uint32
	Name            string
	Enabled, Forced bool
}

func (r *catalogReader) policies(ctx context.Context) error {
	err := each(ctx, r, "policies", func(x *policiesRow) error {
		sql := "CREATE POLICY " + x.Name + " ON " + x.On
		if !x.Permissive {
			sql += " AS RESTRICTIVE"
		}
		sql += map[string]string{"r": " FOR SELECT", "a": " FOR INSERT", "w": " FOR UPDATE",
			"d": " FOR DELETE"}[x.Command]
		if !x.Public {
			sql += " TO " + strings.Join(x.Roles, ", ")
		} else {
			x.Roles = nil
		}
		if x.Using != nil {
			sql += " USING (" + *x.Using + ")"
		}
		if x.Check != nil {
			sql += " WITH CHECK (" + *x.Check + ")"
		}
		r.add("pg_policy", x.OID, rankTrigger, engine.Object{Kind: "row security policy", Name: x.Name + " on " +
			x.On, Table: r.tableID[x.Table], Roles: x.Roles,
			Section: engine.Finish, SQL: sql + ";\n"}, key{"pg_class", x.Table}).late = true
		return nil
	})
	if err != nil {
		return err
	}
	return each(ctx, r, "row_security", func(x *rowSecurityRow) error {
		var sql string
		if x.Enabled {
			sql = "ALTER TABLE " + x.Name + " ENABLE ROW LEVEL SECURITY;\n"
		}
		if x.Forced {
			sql += "ALTER TABLE " + x.Name + " FORCE ROW LEVEL SECURITY;\n"
		}
		r.also(rankIdentity, engine.Object{Kind: "row security", Name: x.Name, Table: x.Name, Section: engine.Finish,
			SQL: sql}, key{"pg_class", x.Table}).late = true
		return nil
	})
}

// statisticsRow is a row of statistics.sql.
type statisticsRow struct {
	OID, Table uint32
	Name       string
	Def        *string
	Target     int
}

func (r *catalogReader) statistics(ctx context.Context) error {
	return each(ctx, r, "statistics", func(x *statisticsRow) error {
		sql, err := define("statistics", x.Name, x.Def)
		if err != nil {
			return err
		}
		sql += ";\n"
		if x.Target >= 0 {
			sql += fmt.Sprintf("ALTER STATISTICS %s SET STATISTICS %d;\n", x.Name, x.Target)
		}
		r.add("pg_statistic_ext", x.OID, rankIndex, engine.Object{Kind: "extended statistics", Name: x.Name,
			Table: r.tableID[x.Table], Section: engine.Finish, SQL: sql},
			key{"pg_class", x.Table}).late = true
		return nil
	})
}

// triggersRow is a row of triggers.sql.
type triggersRow struct {
	OID, Table, Parent uint32
	Enabled, Name, On  string
	Def                *string
}

// triggers reads them where people made them: their copies on partitions follow,
// except in whether they are enabled.
func (r *catalogReader) triggers(ctx context.Context) error {
	return each(ctx, r, "triggers", func(x *triggersRow) error {
		sql, err := define("trigger", x.Name, x.Def)
		if err != nil {
			return err
		}
		o := engine.Object{Kind: "trigger", Name: x.Name + " on " + x.On, Table: r.tableID[x.Table],
			Section: engine.Finish}
		needs := []key{{"pg_class", x.Table}}
		if x.Parent == 0 {
			o.SQL = sql + ";\n"
		} else {
			if x.Enabled == "O" { // as the copy is made, whatever the parent is told
				return nil
			}
			o.Kind = "trigger state"
			needs = append(needs, key{"pg_trigger", x.Parent})
		}
		if word := states[x.Enabled]; word != "" {
			o.SQL += "ALTER TABLE " + r.only(x.Table) + x.On + " " + word + " TRIGGER " + x.Name + ";\n"
		}
		r.add("pg_trigger", x.OID, rankTrigger, o, needs...).late = true
		return nil
	})
}

// internalTriggersRow is a row of internal_triggers.sql.
type internalTriggersRow struct {
	Table, Constraint               uint32
	On, Of, Name, Function, Enabled string
}

// internalTriggers are those behind foreign keys, whose names hold numbers that are others
// in a new database. Only an administrator may change them.
func (r *catalogReader) internalTriggers(ctx context.Context) error {
	return each(ctx, r, "internal_triggers", func(x *internalTriggersRow) error {
		find := fmt.Sprintf("SELECT t.tgname FROM pg_catalog.pg_trigger t JOIN pg_catalog.pg_constraint k ON k.oid = "+
			"t.tgconstraint JOIN pg_catalog.pg_proc p ON p.oid = t.tgfoid WHERE t.tgrelid = %s::regclass AND k.conrelid = "+
			"%s::regclass AND pg_catalog.quote_ident(k.conname) = %s AND p.proname = %s", quoteLiteral(x.On),
			quoteLiteral(x.Of),
			quoteLiteral(x.Name), quoteLiteral(x.Function))
		body := fmt.Sprintf("DECLARE n name; BEGIN FOR n IN %s LOOP EXECUTE pg_catalog.format(%s, n); END LOOP; END",
			find,
			quoteLiteral("ALTER TABLE "+r.only(x.Table)+strings.ReplaceAll(x.On, "%",
				"%%")+" "+states[x.Enabled]+" TRIGGER %I"))
		r.also(rankIdentity, engine.Object{Kind: "foreign key state", Name: fmt.Sprintf("%s on %s, %s on %s", x.Name,
			x.Of,
			x.Function, x.On), Table: r.tableID[x.Table], Section: engine.Finish, Rule: true,
			SQL: "DO " + quoteLiteral(body) + ";\n"}, key{"pg_class", x.Table}, key{"pg_constraint",
			x.Constraint}).late = true
		return nil
	})
}
