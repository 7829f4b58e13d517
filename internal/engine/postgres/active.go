package postgres

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
)

// active reads what acts by itself once it is there: event triggers, publications,
// subscriptions, settings of the database. It comes last, and not in a drill.
func (r *catalogReader) active(ctx context.Context) error {
	err := r.simple(ctx, simple{class: "pg_event_trigger", kind: "event trigger", rank: rankWatching, section: engine.Active, rule: true,
		query: `SELECT e.oid, quote_ident(e.evtname), format('CREATE EVENT TRIGGER %I ON %I', e.evtname, e.evtevent)
			|| CASE WHEN e.evttags IS NULL THEN '' ELSE ' WHEN TAG IN (' || (SELECT string_agg(quote_literal(t), ', ') FROM unnest(e.evttags) t) || ')' END
			|| ' EXECUTE FUNCTION ' || e.evtfoid::regproc::text || '()'
			|| CASE e.evtenabled WHEN 'D' THEN format(E';\nALTER EVENT TRIGGER %I DISABLE', e.evtname) WHEN 'R' THEN format(E';\nALTER EVENT TRIGGER %I ENABLE REPLICA', e.evtname)
				WHEN 'A' THEN format(E';\nALTER EVENT TRIGGER %I ENABLE ALWAYS', e.evtname) ELSE '' END
			FROM pg_event_trigger e WHERE ` + notMember("pg_event_trigger", "e.oid")})
	if err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{r.publications, r.subscriptions, r.databaseSettings} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (r *catalogReader) publications(ctx context.Context) error {
	viaRoot, extra, schemas := "false", "''", "NULL::text"
	if r.version >= 130000 {
		viaRoot = "p.pubviaroot"
	}
	if r.version >= 150000 {
		extra = `coalesce((SELECT ' (' || string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) || ')' FROM pg_attribute a WHERE a.attrelid = x.prrelid AND a.attnum = ANY (x.prattrs::int2[])), '')
			|| coalesce(' WHERE (' || pg_get_expr(x.prqual, x.prrelid) || ')', '')`
		schemas = `(SELECT string_agg(quote_ident(n.nspname), ', ' ORDER BY n.nspname) FROM pg_publication_namespace s JOIN pg_namespace n ON n.oid = s.pnnspid WHERE s.pnpubid = p.oid)`
	}
	generated := "''"
	if r.version >= 180000 {
		generated = "CASE p.pubgencols WHEN 's' THEN ', publish_generated_columns = stored' ELSE '' END"
	}
	return r.simple(ctx, simple{class: "pg_publication", kind: "publication", rank: rankActive, section: engine.Active, rule: true,
		query: `SELECT p.oid, quote_ident(p.pubname), format('CREATE PUBLICATION %I', p.pubname)
			|| CASE WHEN p.puballtables THEN ' FOR ALL TABLES' ELSE coalesce(' FOR ' || nullif(concat_ws(', ', 'TABLE ' || (SELECT string_agg(format('ONLY %I.%I', n.nspname, c.relname) || ` + extra + `, ', ' ORDER BY n.nspname, c.relname)
				FROM pg_publication_rel x JOIN pg_class c ON c.oid = x.prrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE x.prpubid = p.oid), 'TABLES IN SCHEMA ' || ` + schemas + `), ''), '') END
			|| ' WITH (publish = ' || quote_literal(concat_ws(', ', CASE WHEN p.pubinsert THEN 'insert' END, CASE WHEN p.pubupdate THEN 'update' END, CASE WHEN p.pubdelete THEN 'delete' END, CASE WHEN p.pubtruncate THEN 'truncate' END))
			|| CASE WHEN ` + viaRoot + ` THEN ', publish_via_partition_root = true' ELSE '' END || ` + generated + ` || ')'
			FROM pg_publication p WHERE ` + notMember("pg_publication", "p.oid")})
}

var inConninfo = regexp.MustCompile(`(?i)\s*\b(password|passfile|sslpassword)\s*=\s*('(?:[^'\\]|\\.)*'|\S+)`)

// subscriptions come back disabled and without a slot of their own at the other
// server. Only an administrator may read where they connect to.
func (r *catalogReader) subscriptions(ctx context.Context) error {
	var connection string
	err := r.c.QueryRow(ctx, "SELECT CASE WHEN has_column_privilege('pg_subscription', 'subconninfo', 'SELECT') THEN 's.subconninfo' ELSE '''''' END").Scan(&connection)
	if err != nil {
		return err
	}
	more := "''"
	if r.version >= 140000 {
		more += " || CASE WHEN s.subbinary THEN ', binary = true' ELSE '' END"
		if r.version >= 160000 {
			more += " || CASE s.substream WHEN 't' THEN ', streaming = on' WHEN 'p' THEN ', streaming = parallel' ELSE '' END || CASE WHEN s.suborigin = 'none' THEN ', origin = none' ELSE '' END || CASE WHEN NOT s.subpasswordrequired THEN ', password_required = false' ELSE '' END || CASE WHEN s.subrunasowner THEN ', run_as_owner = true' ELSE '' END"
		} else {
			more += " || CASE WHEN s.substream THEN ', streaming = on' ELSE '' END"
		}
	}
	if r.version >= 150000 {
		more += " || CASE WHEN s.subdisableonerr THEN ', disable_on_error = true' ELSE '' END || CASE WHEN s.subtwophasestate <> 'd' THEN ', two_phase = true' ELSE '' END"
	}
	if r.version >= 170000 {
		more += " || CASE WHEN s.subfailover THEN ', failover = true' ELSE '' END"
	}
	return r.rows(ctx, `SELECT s.oid, quote_ident(s.subname), `+connection+`, (SELECT string_agg(quote_ident(p), ', ') FROM unnest(s.subpublications) p),
		coalesce(quote_literal(s.subslotname), 'NONE'), coalesce(s.subsynccommit, 'off'), `+more+`, s.subenabled
		FROM pg_subscription s WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())`, func(rows pgx.Rows) error {
		var oid uint32
		var name, conn, publications, slot, commit, more string
		var enabled bool
		if err := rows.Scan(&oid, &name, &conn, &publications, &slot, &commit, &more, &enabled); err != nil {
			return err
		}
		switch {
		case conn == "":
			r.warns = append(r.warns, "this user may not read where the subscription "+name+" connects to: set its connection after a restore")
		case inConninfo.MatchString(conn):
			r.warns = append(r.warns, "the password of the subscription "+name+" is a secret and is left out: set its connection after a restore")
			conn = strings.TrimSpace(inConninfo.ReplaceAllString(conn, ""))
		}
		r.add("pg_subscription", oid, rankActive, engine.Object{Kind: "subscription", Name: name, Section: engine.Active, Rule: true,
			Note: "comes back disabled", SQL: fmt.Sprintf("CREATE SUBSCRIPTION %s CONNECTION %s PUBLICATION %s WITH (connect = false, slot_name = %s, synchronous_commit = %s%s);\n",
				name, literal(conn), publications, slot, quoteLiteral(commit), more)})
		return nil
	})
}

func quoteLiteral(s string) string { return strings.TrimSpace(literal(s)) }

// databaseSettings are what ALTER DATABASE … SET said, and ALTER ROLE … IN
// DATABASE, whatever the restored database is called.
func (r *catalogReader) databaseSettings(ctx context.Context) error {
	return r.rows(ctx, `SELECT coalesce(quote_ident(a.rolname), ''), s.setting FROM pg_db_role_setting d
		LEFT JOIN pg_roles a ON a.oid = d.setrole, unnest(d.setconfig) s(setting)
		WHERE d.setdatabase = (SELECT oid FROM pg_database WHERE datname = current_database()) ORDER BY 1, 2`, func(rows pgx.Rows) error {
		var role, setting string
		if err := rows.Scan(&role, &setting); err != nil {
			return err
		}
		name, value, _ := strings.Cut(setting, "=")
		o := engine.Object{Kind: "setting", Name: name, Section: engine.Active, Rule: true}
		what := "ALTER DATABASE %I SET"
		if role != "" {
			o.Name, o.Roles = name+" of "+role, []string{role}
			what = "ALTER ROLE " + strings.ReplaceAll(role, "%", "%%") + " IN DATABASE %I SET"
		}
		o.SQL = "DO $do$BEGIN EXECUTE format(" + quoteLiteral(what+" "+strings.ReplaceAll(settingName(name)+" TO "+settingValue(name, value), "%", "%%")) + ", current_database()); END$do$;\n"
		r.also(rankActive, o)
		return nil
	})
}

func settingName(name string) string {
	parts := strings.Split(name, ".")
	for i, p := range parts {
		parts[i] = quote(p)
	}
	return strings.Join(parts, ".")
}

// listSettings hold lists of names, which are not written as one text.
var listSettings = map[string]bool{"datestyle": true, "local_preload_libraries": true, "search_path": true, "session_preload_libraries": true,
	"shared_preload_libraries": true, "temp_tablespaces": true, "unix_socket_directories": true, "createrole_self_grant": true}

func settingValue(name, value string) string {
	if !listSettings[strings.ToLower(name)] {
		return quoteLiteral(value)
	}
	if strings.TrimSpace(value) == "" {
		return "''"
	}
	// The stored text is a list of names, quoted where they need it: each is a text here.
	var items []string
	for _, m := range listItem.FindAllString(value, -1) {
		if strings.HasPrefix(m, `"`) {
			m = strings.ReplaceAll(m[1:len(m)-1], `""`, `"`)
		}
		items = append(items, quoteLiteral(strings.TrimSpace(m)))
	}
	return strings.Join(items, ", ")
}

var listItem = regexp.MustCompile(`"(?:[^"]|"")*"|[^",\s][^",]*`)
