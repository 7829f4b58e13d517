-- Event triggers, with whether they are enabled.
SELECT
    e.oid,
    quote_ident(e.evtname) AS name,
    format('CREATE EVENT TRIGGER %I ON %I', e.evtname, e.evtevent)
        || CASE WHEN e.evttags IS NULL THEN '' ELSE ' WHEN TAG IN ('
        || (SELECT string_agg(quote_literal(t), ', ') FROM unnest(e.evttags) t) || ')' END || ' EXECUTE FUNCTION '
        || e.evtfoid::regproc::text || '()' || CASE e.evtenabled
        WHEN 'D' THEN format(E';\nALTER EVENT TRIGGER %I DISABLE', e.evtname)
        WHEN 'R' THEN format(E';\nALTER EVENT TRIGGER %I ENABLE REPLICA', e.evtname)
        WHEN 'A' THEN format(E';\nALTER EVENT TRIGGER %I ENABLE ALWAYS', e.evtname) ELSE '' END AS sql
FROM pg_event_trigger e
WHERE {{own "pg_event_trigger" "e.oid"}}
