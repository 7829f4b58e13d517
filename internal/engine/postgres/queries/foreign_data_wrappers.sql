-- Foreign data wrappers.
SELECT
    w.oid,
    quote_ident(w.fdwname) AS name,
    format('CREATE FOREIGN DATA WRAPPER %I', w.fdwname) || CASE WHEN w.fdwhandler <> 0 THEN ' HANDLER '
        || w.fdwhandler::regproc::text ELSE '' END || CASE WHEN w.fdwvalidator <> 0 THEN ' VALIDATOR '
        || w.fdwvalidator::regproc::text ELSE '' END || {{options "w.fdwoptions"}} AS sql
FROM pg_foreign_data_wrapper w
WHERE {{own "pg_foreign_data_wrapper" "w.oid"}}
