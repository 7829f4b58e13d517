package postgres

import (
	"context"
	"strings"
)

// A restore into a database that is there already can neither work under another
// name nor drop it. So the database, or the tables that are filled, must be empty
// before, and are emptied again when it fails.

// enter checks an existing database before anything is loaded into it.
func (t *target) enter(ctx context.Context) error {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return err
	}
	defer closeConn(c)
	r := &catalogReader{c: c, version: t.s.version}
	facts, err := r.facts(ctx)
	if err != nil {
		return err
	}
	t.spec.Compare(facts)
	if len(t.spec.Fill) > 0 {
		return t.fillable(ctx)
	}
	var there string
	err = c.QueryRow(ctx, `SELECT coalesce((SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN
		pg_namespace n ON n.oid = c.relnamespace WHERE `+ours+` LIMIT 1),
		(SELECT 'the function ' || p.oid::regprocedure FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
			WHERE `+ours+` LIMIT 1),
		(SELECT 'the type ' || t.oid::regtype FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE
			`+ours+` LIMIT 1),
		(SELECT 'the schema ' || quote_ident(n.nspname) FROM pg_namespace n WHERE `+ours+` AND n.nspname <> 'public'
			LIMIT 1),
		(SELECT 'the large object ' || oid FROM pg_largeobject_metadata LIMIT 1), '')`).Scan(&there)
	if err == nil && there != "" {
		err = t.spec.NotEmpty(there)
	}
	return err
}

// fillable checks that the tables are there and have no rows.
func (t *target) fillable(ctx context.Context) error {
	c, err := t.s.connect(ctx, t.work)
	if err != nil {
		return err
	}
	defer closeConn(c)
	if _, err := c.Exec(ctx, passive); err != nil {
		t.spec.Warn("this user may not keep triggers and foreign keys of the target from acting while rows are loaded")
	}
	return t.spec.Fillable(t.tablesToFill(), func(id string) (rows bool, err error) {
		err = c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM ONLY "+id+")").Scan(&rows)
		return rows, plain(ctx, c, err)
	})
}

// passive keeps triggers and foreign keys from acting; it takes an administrator.
const passive = "SET session_replication_role = replica"

// tablesToFill leaves out what is not a table: the contents of large objects.
func (t *target) tablesToFill() (list []string) {
	for _, id := range t.spec.Fill {
		if id != blobTable {
			list = append(list, id)
		}
	}
	return list
}

// leave empties what was empty before.
func (t *target) leave(ctx context.Context) error {
	if tables := t.tablesToFill(); len(tables) > 0 {
		return t.inside(ctx, "TRUNCATE ONLY "+strings.Join(tables, ", ONLY "))
	}
	return t.inside(ctx, `DO $do$DECLARE n text; owner text; rights aclitem[]; remark text; x record; BEGIN
		SELECT nspowner::regrole, nspacl, obj_description(oid, 'pg_namespace') INTO owner, rights, remark FROM
			pg_namespace WHERE nspname = 'public';
		FOR n IN SELECT evtname FROM pg_event_trigger LOOP EXECUTE format('DROP EVENT TRIGGER %I', n); END LOOP;
		FOR n IN SELECT pubname FROM pg_publication LOOP EXECUTE format('DROP PUBLICATION %I', n); END LOOP;
		FOR n IN SELECT oid FROM pg_largeobject_metadata LOOP PERFORM lo_unlink(n::oid); END LOOP;
		FOR n IN SELECT extname FROM pg_extension WHERE extname <> 'plpgsql' LOOP EXECUTE
			format('DROP EXTENSION IF EXISTS %I CASCADE', n); END LOOP;
		FOR n IN SELECT nspname FROM pg_namespace n WHERE `+ours+` LOOP EXECUTE
			format('DROP SCHEMA IF EXISTS %I CASCADE', n); END LOOP;
		IF owner IS NOT NULL THEN
			EXECUTE format('CREATE SCHEMA public AUTHORIZATION %s', owner);
			FOR x IN SELECT privilege_type, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE grantee::regrole::text END AS
				grantee FROM aclexplode(rights)
				LOOP EXECUTE format('GRANT %s ON SCHEMA public TO %s', x.privilege_type, x.grantee); END LOOP;
			EXECUTE format('COMMENT ON SCHEMA public IS %L', remark);
		END IF; END$do$`)
}
