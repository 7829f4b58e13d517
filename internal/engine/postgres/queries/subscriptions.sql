-- Subscriptions of the database.
{{define "more options"}}''
{{- if since 14}} || CASE WHEN s.subbinary THEN ', binary = true' ELSE '' END{{end}}
{{- if since 16}} || CASE s.substream WHEN 't' THEN ', streaming = on'
            WHEN 'p' THEN ', streaming = parallel' ELSE '' END
        || CASE WHEN s.suborigin = 'none' THEN ', origin = none' ELSE '' END
        || CASE WHEN NOT s.subpasswordrequired THEN ', password_required = false' ELSE '' END
        || CASE WHEN s.subrunasowner THEN ', run_as_owner = true' ELSE '' END
{{- else if since 14}} || CASE WHEN s.substream THEN ', streaming = on' ELSE '' END{{end}}
{{- if since 15}} || CASE WHEN s.subdisableonerr THEN ', disable_on_error = true' ELSE '' END
        || CASE WHEN s.subtwophasestate <> 'd' THEN ', two_phase = true' ELSE '' END{{end}}
{{- if since 17}} || CASE WHEN s.subfailover THEN ', failover = true' ELSE '' END{{end}}{{end}}
SELECT
    s.oid,
    quote_ident(s.subname) AS name,
    {{.connection}} AS conn,
    (SELECT string_agg(quote_ident(p), ', ') FROM unnest(s.subpublications) p) AS publications,
    coalesce(quote_literal(s.subslotname), 'NONE') AS slot,
    coalesce(s.subsynccommit, 'off') AS commit,
    {{template "more options"}} AS more,
    s.subenabled AS enabled
FROM pg_subscription s
WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())
