-- Rights on one kind of thing of the server; of gives name, owner and rights.
SELECT
    o.name AS t_name,
    o.owner::regrole::text AS t_owner,
    coalesce(x.privilege_type, '') AS g_what,
    coalesce(x.is_grantable, false) AS g_option,
    CASE x.grantee WHEN 0 THEN 'PUBLIC' ELSE x.grantee::regrole::text END AS grantee,
    x.grantor::regrole::text AS grantor
FROM ({{.of}}) o(name, owner, acl)
    LEFT JOIN LATERAL aclexplode(o.acl) x ON true
WHERE o.acl IS NOT NULL
ORDER BY 1, x.grantee, x.grantor, x.is_grantable, x.privilege_type
