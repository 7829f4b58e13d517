-- Memberships in roles.
{{define "with"}}{{if since 16 -}}
format(' WITH ADMIN %s, INHERIT %s, SET %s', m.admin_option::text, m.inherit_option::text, m.set_option::text)
{{- else}}CASE WHEN m.admin_option THEN ' WITH ADMIN OPTION' ELSE '' END{{end}}{{end}}
{{define "grantor"}}{{if since 16}}CASE WHEN (SELECT rolsuper FROM pg_roles g WHERE g.oid = m.grantor) THEN ''
    ELSE m.grantor::regrole::text END{{else}}''{{end}}{{end}}
SELECT DISTINCT
    m.roleid::regrole::text AS role,
    m.member::regrole::text AS member,
    {{template "with"}} AS with,
    {{template "grantor"}} AS grantor,
    m.admin_option AS admin
FROM pg_auth_members m
WHERE m.member >= 16384 OR m.member = 10
ORDER BY 1, 2, 3
