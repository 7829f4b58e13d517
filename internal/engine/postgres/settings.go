package postgres

import (
	"fmt"
	"strconv"
	"strings"
)

// settings are the session settings that dump, restore and read-back rely on.
// They stand at the head of every file of a dump too, so each is known to every
// version from 12 on.
const settings = `SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SET escape_string_warning = off;
SET search_path = '';
SET datestyle = 'ISO, YMD';
SET intervalstyle = 'postgres';
SET timezone = 'UTC';
SET extra_float_digits = 1;
SET bytea_output = 'hex';
SET lc_monetary = 'C';
SET lc_numeric = 'C';
SET xmlbinary = 'base64';
SET xmloption = 'content';
SET array_nulls = on;
SET transform_null_equals = off;
SET quote_all_identifiers = off;
SET check_function_bodies = off;
SET row_security = off;
SET default_tablespace = '';
SET default_transaction_read_only = off;
SET default_transaction_isolation = 'read committed';
SET default_transaction_deferrable = off;
SET synchronize_seqscans = off;
SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_min_messages = 'warning';
`

// lockTimeout bounds, within a transaction, the wait for locks of others.
func (s *source) lockTimeout() string {
	return fmt.Sprintf("SET LOCAL lock_timeout = %d; ", max(1, s.at.LockWait.Milliseconds()))
}

// rowsIn is the encoding that rows are written in, where it is not UTF8: the
// database's own, since some of its characters may not be in UTF8, and not all come
// back the same. Names in another encoding than their file's would be wrong.
func rowsIn(encoding, names string) string {
	if encoding == "UTF8" || strings.ContainsFunc(names, func(c rune) bool { return c >= 0x80 }) {
		return ""
	}
	return encoding
}

// noTimeouts are settings of later versions.
func noTimeouts(serverVersion string) string {
	major, _ := strconv.Atoi(strings.FieldsFunc(serverVersion, func(r rune) bool { return r < '0' || r > '9' })[0])
	sql := ""
	if major >= 14 {
		sql += "SET idle_session_timeout = 0;\n"
	}
	if major >= 17 {
		sql += "SET transaction_timeout = 0;\n"
	}
	return sql
}

// fast are settings for loading rows into a database that nobody uses yet.
const fast = `SET synchronous_commit = off;
SET maintenance_work_mem = '256MB';
SET max_parallel_maintenance_workers = 1;
`

// quote writes a name as SQL, always in quotes.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// literal writes a text as SQL.
func literal(s string) string {
	q := "'" + strings.ReplaceAll(s, "'", "''") + "'"
	if strings.Contains(s, `\`) {
		return " E" + strings.ReplaceAll(q, `\`, `\\`)
	}
	return q
}
