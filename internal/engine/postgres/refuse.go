package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/fault"
)

// uncarried finds every object that this version cannot dump, by kind and name.
const uncarried = `
SELECT kind, name FROM (
	SELECT CASE c.relkind WHEN 'p' THEN 'partitioned table' WHEN 'f' THEN 'foreign table' WHEN 'm' THEN 'materialised view'
			WHEN 'c' THEN 'composite type' ELSE CASE
				WHEN c.relispartition THEN 'partition' WHEN c.reloftype <> 0 THEN 'typed table'
				WHEN c.relrowsecurity OR c.relforcerowsecurity THEN 'table with row security'
				WHEN c.reltablespace <> 0 THEN 'table in a tablespace'
				WHEN EXISTS (SELECT FROM pg_inherits i WHERE i.inhrelid = c.oid) THEN 'inheriting table'
				WHEN c.relkind = 'r' AND c.relam <> 2 THEN 'table with an access method of its own' END END,
		format('%I.%I', n.nspname, c.relname), 'pg_class'::regclass::oid, c.oid
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'f', 'm', 'c') AND c.relpersistence <> 't' AND OURS
	UNION ALL SELECT 'index in a tablespace', format('%I.%I', n.nspname, c.relname), 'pg_class'::regclass, c.oid
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('i', 'I') AND c.reltablespace <> 0 AND OURS
	UNION ALL SELECT CASE t.typtype WHEN 'r' THEN 'range type' WHEN 'p' THEN 'shell type' ELSE 'base type' END,
		format('%I.%I', n.nspname, t.typname), 'pg_type'::regclass, t.oid
	FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
	WHERE (t.typtype IN ('r', 'p') OR t.typtype = 'b' AND t.typelem = 0) AND OURS
	UNION ALL SELECT 'aggregate', p.oid::regprocedure::text, 'pg_proc'::regclass, p.oid
	FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE p.prokind = 'a' AND OURS
	UNION ALL SELECT 'operator', o.oid::regoperator::text, 'pg_operator'::regclass, o.oid
	FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace WHERE OURS
	UNION ALL SELECT 'operator class', format('%I.%I', n.nspname, o.opcname), 'pg_opclass'::regclass, o.oid
	FROM pg_opclass o JOIN pg_namespace n ON n.oid = o.opcnamespace WHERE OURS
	UNION ALL SELECT 'operator family', format('%I.%I', n.nspname, o.opfname), 'pg_opfamily'::regclass, o.oid
	FROM pg_opfamily o JOIN pg_namespace n ON n.oid = o.opfnamespace WHERE OURS
	UNION ALL SELECT 'collation', format('%I.%I', n.nspname, o.collname), 'pg_collation'::regclass, o.oid
	FROM pg_collation o JOIN pg_namespace n ON n.oid = o.collnamespace WHERE OURS
	UNION ALL SELECT 'conversion', format('%I.%I', n.nspname, o.conname), 'pg_conversion'::regclass, o.oid
	FROM pg_conversion o JOIN pg_namespace n ON n.oid = o.connamespace WHERE OURS
	UNION ALL SELECT 'extended statistics', format('%I.%I', n.nspname, o.stxname), 'pg_statistic_ext'::regclass, o.oid
	FROM pg_statistic_ext o JOIN pg_namespace n ON n.oid = o.stxnamespace WHERE OURS
	UNION ALL SELECT 'text search parser', format('%I.%I', n.nspname, o.prsname), 'pg_ts_parser'::regclass, o.oid
	FROM pg_ts_parser o JOIN pg_namespace n ON n.oid = o.prsnamespace WHERE OURS
	UNION ALL SELECT 'text search dictionary', format('%I.%I', n.nspname, o.dictname), 'pg_ts_dict'::regclass, o.oid
	FROM pg_ts_dict o JOIN pg_namespace n ON n.oid = o.dictnamespace WHERE OURS
	UNION ALL SELECT 'text search template', format('%I.%I', n.nspname, o.tmplname), 'pg_ts_template'::regclass, o.oid
	FROM pg_ts_template o JOIN pg_namespace n ON n.oid = o.tmplnamespace WHERE OURS
	UNION ALL SELECT 'text search configuration', format('%I.%I', n.nspname, o.cfgname), 'pg_ts_config'::regclass, o.oid
	FROM pg_ts_config o JOIN pg_namespace n ON n.oid = o.cfgnamespace WHERE OURS
	UNION ALL SELECT 'rule', format('%I on %s', w.rulename, w.ev_class::regclass), 'pg_rewrite'::regclass, w.oid
	FROM pg_rewrite w JOIN pg_class c ON c.oid = w.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
	WHERE NOT (w.rulename = '_RETURN' AND c.relkind IN ('v', 'm')) AND OURS
	UNION ALL SELECT 'row security policy', format('%I on %s', polname, polrelid::regclass), 'pg_policy'::regclass, oid FROM pg_policy
	UNION ALL SELECT 'cast', format('%s as %s', castsource::regtype, casttarget::regtype), 'pg_cast'::regclass, oid FROM pg_cast WHERE oid >= 16384
	UNION ALL SELECT 'language', quote_ident(lanname), 'pg_language'::regclass, oid FROM pg_language WHERE oid >= 16384
	UNION ALL SELECT 'transform', trftype::regtype::text, 'pg_transform'::regclass, oid FROM pg_transform WHERE oid >= 16384
	UNION ALL SELECT 'access method', quote_ident(amname), 'pg_am'::regclass, oid FROM pg_am WHERE oid >= 16384
	UNION ALL SELECT 'extension', quote_ident(extname), 'pg_extension'::regclass, oid FROM pg_extension WHERE extname <> 'plpgsql'
	UNION ALL SELECT 'event trigger', quote_ident(evtname), 'pg_event_trigger'::regclass, oid FROM pg_event_trigger
	UNION ALL SELECT 'foreign data wrapper', quote_ident(fdwname), 'pg_foreign_data_wrapper'::regclass, oid FROM pg_foreign_data_wrapper
	UNION ALL SELECT 'foreign server', quote_ident(srvname), 'pg_foreign_server'::regclass, oid FROM pg_foreign_server
	UNION ALL SELECT 'publication', quote_ident(pubname), 'pg_publication'::regclass, oid FROM pg_publication
	UNION ALL SELECT 'subscription', quote_ident(subname), 'pg_subscription'::regclass, oid FROM pg_subscription
		WHERE subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())
	UNION ALL SELECT 'default privileges', coalesce(n.nspname::text, 'all schemas'), 'pg_default_acl'::regclass, d.oid
	FROM pg_default_acl d LEFT JOIN pg_namespace n ON n.oid = d.defaclnamespace
	UNION ALL SELECT 'security label', provider, classoid, objoid FROM pg_seclabel
	UNION ALL SELECT 'setting of the database', unnest(setconfig), 0, 0 FROM pg_db_role_setting
		WHERE setdatabase = (SELECT oid FROM pg_database WHERE datname = current_database())
	UNION ALL SELECT 'large object', oid::text, 'pg_largeobject'::regclass, oid FROM (SELECT oid FROM pg_largeobject_metadata LIMIT 1) l
) o(kind, name, class, oid)
WHERE kind IS NOT NULL AND NOT EXISTS (SELECT FROM pg_depend x WHERE x.classid = o.class AND x.objid = o.oid AND x.deptype = 'e')
ORDER BY 1, 2`

// refuse fails with the name of every object that cannot be carried: a dump that
// leaves something out silently is not one.
func (r *catalogReader) refuse(ctx context.Context, database string) error {
	var found []string
	err := r.rows(ctx, strings.ReplaceAll(uncarried, "OURS", ours), func(rows pgx.Rows) error {
		var kind, name string
		if err := rows.Scan(&kind, &name); err != nil {
			return err
		}
		found = append(found, kind+" "+name)
		return nil
	})
	if err != nil || len(found) == 0 {
		return err
	}
	const shown = 12
	text := strings.Join(found, ", ")
	if len(found) > shown {
		text = fmt.Sprintf("%s and %d more", strings.Join(found[:shown], ", "), len(found)-shown)
	}
	return fault.New("cannot-carry", nil, "%s holds what this version cannot dump: %s", database, text).
		Advise("nothing was dumped; a dump without them would not be the database")
}
