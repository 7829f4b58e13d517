-- Text search configurations, with their mappings.
SELECT
    c.oid,
    format('%I.%I', n.nspname, c.cfgname) AS name,
    format('CREATE TEXT SEARCH CONFIGURATION %I.%I (PARSER = %I.%I)', n.nspname, c.cfgname, pn.nspname, p.prsname)
        || coalesce((SELECT string_agg(format(E';\nALTER TEXT SEARCH CONFIGURATION %I.%I ADD MAPPING FOR %I WITH %s',
        n.nspname, c.cfgname, m.alias, m.dicts), '' ORDER BY m.maptokentype)
        FROM (SELECT m.maptokentype, (SELECT k.alias FROM ts_token_type(c.cfgparser) k
        WHERE k.tokid = m.maptokentype), string_agg(format('%I.%I', dn.nspname, d.dictname), ', '
        ORDER BY m.mapseqno) dicts FROM pg_ts_config_map m JOIN pg_ts_dict d ON d.oid = m.mapdict
        JOIN pg_namespace dn ON dn.oid = d.dictnamespace WHERE m.mapcfg = c.oid GROUP BY m.maptokentype) m), '') AS sql
FROM pg_ts_config c
    JOIN pg_namespace n ON n.oid = c.cfgnamespace
    JOIN pg_ts_parser p ON p.oid = c.cfgparser
    JOIN pg_namespace pn ON pn.oid = p.prsnamespace
WHERE {{ours}}
    AND {{own "pg_ts_config" "c.oid"}}
