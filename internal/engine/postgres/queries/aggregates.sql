-- Aggregates.
SELECT
    p.oid,
    (pg_identify_object('pg_proc'::regclass, p.oid, 0)).identity AS identity,
    format('%I.%I', n.nspname, p.proname) AS name,
    pg_get_function_arguments(p.oid) AS args,
    a.aggkind::text AS kind,
    p.proparallel::text AS parallel,
    {{function "a.aggtransfn"}} AS trans,
    format_type(a.aggtranstype, NULL) AS trans_type,
    a.aggtransspace AS space,
    {{function "a.aggfinalfn"}} AS final,
    a.aggfinalextra AS extra,
    {{mode "a.aggfinalmodify"}} AS final_mode,
    {{function "a.aggcombinefn"}} AS combine,
    {{function "a.aggserialfn"}} AS serial,
    {{function "a.aggdeserialfn"}} AS deserial,
    coalesce(quote_literal(a.agginitval), '') AS start,
    {{function "a.aggmtransfn"}} AS mtrans,
    {{function "a.aggminvtransfn"}} AS minv,
    CASE WHEN a.aggmtranstype <> 0 THEN format_type(a.aggmtranstype, NULL) ELSE '' END AS mtype,
    a.aggmtransspace AS mspace,
    {{function "a.aggmfinalfn"}} AS mfinal,
    a.aggmfinalextra AS mextra,
    {{mode "a.aggmfinalmodify"}} AS mfinal_mode,
    coalesce(quote_literal(a.aggminitval), '') AS mstart,
    coalesce((SELECT format('OPERATOR(%I.%s)', sn.nspname, so.oprname) FROM pg_operator so
        JOIN pg_namespace sn ON sn.oid = so.oprnamespace WHERE so.oid = a.aggsortop), '') AS sort
FROM pg_aggregate a
    JOIN pg_proc p ON p.oid = a.aggfnoid
    JOIN pg_namespace n ON n.oid = p.pronamespace
WHERE {{ours}}
    AND {{own "pg_proc" "p.oid"}}
