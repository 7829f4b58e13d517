-- Foreign servers. (format with %L makes NULL of a missing type, which is a text.)
SELECT
    s.oid,
    quote_ident(s.srvname) AS name,
    format('CREATE SERVER %I', s.srvname) || coalesce(' TYPE ' || quote_literal(s.srvtype), '')
        || coalesce(' VERSION ' || quote_literal(s.srvversion), '') || format(' FOREIGN DATA WRAPPER %I', w.fdwname)
        || {{options "s.srvoptions"}} AS sql
FROM pg_foreign_server s
    JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
WHERE {{own "pg_foreign_server" "s.oid"}}
