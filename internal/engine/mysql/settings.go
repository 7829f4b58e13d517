package mysql

import (
	"strings"
)

// settings are the session settings that dump, restore and read-back rely on. They
// stand at the head of every file of a dump too.
const settings = `SET NAMES utf8mb4;
SET sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0, unique_checks = 0;
SET sql_quote_show_create = 1, autocommit = 1;
SET group_concat_max_len = 1000000;
`

// patient are settings against limits that an administrator may have set for others: a
// limit on rows would leave some out without a word.
const patient = `SET sql_select_limit = 18446744073709551615, sql_big_selects = 1, sql_safe_updates = 0;
SET wait_timeout = 604800, net_read_timeout = 3600, net_write_timeout = 3600;
`

// lenient is the mode for tables with ENUM or SET columns: a value that is none of the
// members, which older applications left there, is an error in the strict one.
const lenient = "SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';\n"

// byteNames begins what stands before each group of rows: nothing is converted.
const byteNames = "SET NAMES binary;\n"

// quote writes a name as SQL.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// literal writes a text as SQL.
func literal(s string) string { return "'" + string(appendEscaped(nil, []byte(s))) + "'" }

// escapes are the bytes that cannot stand in a text as they are.
var escapes = [256]byte{0: '0', '\n': 'n', '\r': 'r', '\t': 't', 0x1a: 'Z', '\\': '\\', '\'': '\''}

func appendEscaped(dst, s []byte) []byte {
	start := 0
	for i, c := range s {
		if e := escapes[c]; e != 0 {
			dst = append(append(dst, s[start:i]...), '\\', e)
			start = i + 1
		}
	}
	return append(dst, s[start:]...)
}
