package postgres

import "context"

// textSearch reads parsers, templates, dictionaries and configurations.
func (r *catalogReader) textSearch(ctx context.Context) error {
	list := []simple{
		{class: "pg_ts_parser", kind: "text search parser", rank: rankOperator, query: `SELECT p.oid, format('%I.%I', n.nspname, p.prsname), format('CREATE TEXT SEARCH PARSER %I.%I (START = %s, GETTOKEN = %s, END = %s, LEXTYPES = %s', n.nspname, p.prsname, p.prsstart, p.prstoken, p.prsend, p.prslextype)
			|| CASE WHEN p.prsheadline::oid <> 0 THEN ', HEADLINE = ' || p.prsheadline::text ELSE '' END || ')'
			FROM pg_ts_parser p JOIN pg_namespace n ON n.oid = p.prsnamespace WHERE ` + ours + ` AND ` + notMember("pg_ts_parser", "p.oid")},
		{class: "pg_ts_template", kind: "text search template", rank: rankOperator, query: `SELECT t.oid, format('%I.%I', n.nspname, t.tmplname), format('CREATE TEXT SEARCH TEMPLATE %I.%I (', n.nspname, t.tmplname)
			|| CASE WHEN t.tmplinit::oid <> 0 THEN 'INIT = ' || t.tmplinit::text || ', ' ELSE '' END || 'LEXIZE = ' || t.tmpllexize::text || ')'
			FROM pg_ts_template t JOIN pg_namespace n ON n.oid = t.tmplnamespace WHERE ` + ours + ` AND ` + notMember("pg_ts_template", "t.oid")},
		{class: "pg_ts_dict", kind: "text search dictionary", rank: rankFamily, query: `SELECT d.oid, format('%I.%I', n.nspname, d.dictname), format('CREATE TEXT SEARCH DICTIONARY %I.%I (TEMPLATE = %I.%I', n.nspname, d.dictname, tn.nspname, t.tmplname)
			|| CASE WHEN d.dictinitoption <> '' THEN ', ' || d.dictinitoption ELSE '' END || ')'
			FROM pg_ts_dict d JOIN pg_namespace n ON n.oid = d.dictnamespace JOIN pg_ts_template t ON t.oid = d.dicttemplate JOIN pg_namespace tn ON tn.oid = t.tmplnamespace
			WHERE ` + ours + ` AND ` + notMember("pg_ts_dict", "d.oid")},
		{class: "pg_ts_config", kind: "text search configuration", rank: rankClass, query: `SELECT c.oid, format('%I.%I', n.nspname, c.cfgname), format('CREATE TEXT SEARCH CONFIGURATION %I.%I (PARSER = %I.%I)', n.nspname, c.cfgname, pn.nspname, p.prsname)
			|| coalesce((SELECT string_agg(format(E';\nALTER TEXT SEARCH CONFIGURATION %I.%I ADD MAPPING FOR %I WITH %s', n.nspname, c.cfgname, m.alias, m.dicts), '' ORDER BY m.maptokentype)
				FROM (SELECT m.maptokentype, (SELECT k.alias FROM ts_token_type(c.cfgparser) k WHERE k.tokid = m.maptokentype), string_agg(format('%I.%I', dn.nspname, d.dictname), ', ' ORDER BY m.mapseqno) dicts
					FROM pg_ts_config_map m JOIN pg_ts_dict d ON d.oid = m.mapdict JOIN pg_namespace dn ON dn.oid = d.dictnamespace WHERE m.mapcfg = c.oid GROUP BY m.maptokentype) m), '')
			FROM pg_ts_config c JOIN pg_namespace n ON n.oid = c.cfgnamespace JOIN pg_ts_parser p ON p.oid = c.cfgparser JOIN pg_namespace pn ON pn.oid = p.prsnamespace
			WHERE ` + ours + ` AND ` + notMember("pg_ts_config", "c.oid")},
	}
	for _, s := range list {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	return nil
}
