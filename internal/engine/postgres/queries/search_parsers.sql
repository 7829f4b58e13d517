-- Text search parsers.
SELECT
    p.oid,
    format('%I.%I', n.nspname, p.prsname) AS name,
    format('CREATE TEXT SEARCH PARSER %I.%I (START = %s, GETTOKEN = %s, END = %s, LEXTYPES = %s', n.nspname,
        p.prsname, p.prsstart, p.prstoken, p.prsend, p.prslextype)
        || CASE WHEN p.prsheadline::oid <> 0 THEN ', HEADLINE = ' || p.prsheadline::text ELSE '' END || ')' AS sql
FROM pg_ts_parser p
    JOIN pg_namespace n ON n.oid = p.prsnamespace
WHERE {{ours}}
    AND {{own "pg_ts_parser" "p.oid"}}
