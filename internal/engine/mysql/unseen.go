package mysql

import (
	"context"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// mine is a condition on rights: whoever may read the server's users is shown the rights of all.
const mine = "grantee = concat('\\'', regexp_replace(current_user(), '@[^@]*$', ''), '\\'@\\'', " +
	"substring_index(current_user(), '@', -1), '\\'')"

// seen fails where a user may not see all that a database holds. The server shows such a user
// what there is of it as if there were nothing: no error, no trigger, no routine.
func (r *catalogReader) seen(ctx context.Context) error {
	role, err := r.c.value(ctx, "SELECT current_role()")
	if err == nil && role != "" && !strings.EqualFold(role, "NONE") {
		return nil // what a role may do is not told in the same tables
	}
	rows, err := r.c.rows(ctx, "SELECT privilege_type FROM information_schema.user_privileges WHERE "+mine+
		" UNION SELECT privilege_type FROM information_schema.schema_privileges WHERE "+mine+" AND "+
		literal(r.database)+" LIKE table_schema")
	if err != nil {
		return err
	}
	may := func(rights ...string) bool {
		return slices.ContainsFunc(rows, func(row []string) bool {
			return slices.Contains(rights, strings.ToUpper(row[0]))
		})
	}
	var hidden []string
	if !may("TRIGGER") {
		hidden = append(hidden, "triggers")
	}
	if !may("EVENT") {
		hidden = append(hidden, "events")
	}
	if routines, err := r.seesRoutines(ctx, may); err != nil {
		return err
	} else if !routines {
		hidden = append(hidden, "functions and procedures")
	}
	if len(hidden) == 0 {
		return nil
	}
	return fault.New(engine.RightsMissing, nil,
		"this user may not see the %s of %s: if there are any, they would be missing", strings.Join(hidden, ", "),
		r.database).Advise("'grainkeep grants' prints what is needed")
}

// seesRoutines says whether a user sees the bodies of all routines.
func (r *catalogReader) seesRoutines(ctx context.Context, may func(...string) bool) (bool, error) {
	if may("SHOW_ROUTINE", "SHOW CREATE ROUTINE", "ALTER ROUTINE", "CREATE ROUTINE") {
		return true, nil
	}
	from := "mysql.proc"
	if !r.s.maria { // whoever may read everything sees them
		from = "mysql.user"
	}
	_, err := r.c.rows(ctx, "SELECT 1 FROM "+from+" LIMIT 0")
	if err != nil && ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	return err == nil, nil
}
