-- Rights that objects made later will have.
SELECT
    d.defaclobjtype::text AS t_kind,
    coalesce(quote_ident(n.nspname), '') AS t_schema,
    d.defaclrole::regrole::text AS t_owner,
    coalesce(x.privilege_type, '') AS g_what,
    coalesce(x.is_grantable, false) AS g_option,
    CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END AS grantee
FROM pg_default_acl d
    LEFT JOIN pg_namespace n ON n.oid = d.defaclnamespace
    LEFT JOIN LATERAL aclexplode(d.defaclacl) x ON true
ORDER BY 1, 2, 3, x.grantee, x.is_grantable, x.privilege_type
