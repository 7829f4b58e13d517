package mysql

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
)

// TestMerged: changes of single rows become few statements where that is the same, and stay as they are where it may not be.
func TestMerged(t *testing.T) {
	for name, c := range map[string]struct{ list, want []string }{
		"removes": {[]string{"DELETE FROM `t` WHERE `id` = 1", "DELETE FROM `t` WHERE `id` = -2", "DELETE FROM `u` WHERE `id` = 3"},
			[]string{"DELETE FROM `t` WHERE `id` IN (1,-2)", "DELETE FROM `u` WHERE `id` = 3"}},
		"updates": {[]string{"UPDATE `a``b` SET `v` = 1.5, `w` = 'it\\'s , `x` = 1', `s` = `s` WHERE `id` = 1",
			"UPDATE `a``b` SET `v` = NULL, `w` = '', `s` = `s` WHERE `id` = 2"},
			[]string{"UPDATE `a``b` SET `v` = CASE `id` WHEN 1 THEN 1.5 WHEN 2 THEN NULL END, `w` = CASE `id` WHEN 1 THEN 'it\\'s , `x` = 1' " +
				"WHEN 2 THEN '' END, `s` = `s` WHERE `id` IN (1,2)"}},
		"the same value": {[]string{"UPDATE `t` SET `v` = 7 WHERE `id` = 1", "UPDATE `t` SET `v` = 7 WHERE `id` = 2"},
			[]string{"UPDATE `t` SET `v` = 7 WHERE `id` IN (1,2)"}},
		"a row twice":   {[]string{"UPDATE `t` SET `v` = 1 WHERE `id` = 1", "UPDATE `t` SET `v` = 2 WHERE `id` = 1"}, nil},
		"the key":       {[]string{"UPDATE `t` SET `id` = 5 WHERE `id` = 1", "UPDATE `t` SET `id` = 6 WHERE `id` = 2"}, nil},
		"other columns": {[]string{"UPDATE `t` SET `v` = 5 WHERE `id` = 1", "UPDATE `t` SET `w` = 6 WHERE `id` = 2"}, nil},
		"other kinds":   {[]string{"UPDATE `t` SET `v` = 5 WHERE `id` = 1", "UPDATE `t` SET `v` = '6' WHERE `id` = 2"}, nil},
		"two columns":   {[]string{"DELETE FROM `t` WHERE `a` = 1 AND `b` = 1", "DELETE FROM `t` WHERE `a` = 1 AND `b` = 2"}, nil},
		"a text":        {[]string{"DELETE FROM `t` WHERE `a` = '1'", "DELETE FROM `t` WHERE `a` = '2'"}, nil},
		"a fraction":    {[]string{"DELETE FROM `t` WHERE `a` = 1.5", "DELETE FROM `t` WHERE `a` = 2.5"}, nil},
		"what is more":  {[]string{"UPDATE `t` SET `v` = 1e5 WHERE `id` = 1", "UPDATE `t` SET `v` = x'00' WHERE `id` = 2"}, nil},
		"a text with a start": {[]string{"UPDATE `t` SET `v` = _utf8mb4'a' WHERE `id` = 1",
			"UPDATE `t` SET `v` = _utf8mb4'b' WHERE `id` = 2"}, nil},
		"NULL between kinds": {[]string{"UPDATE `t` SET `v` = 5 WHERE `id` = 1", "UPDATE `t` SET `v` = NULL WHERE `id` = 2",
			"UPDATE `t` SET `v` = 'x' WHERE `id` = 3"},
			[]string{"UPDATE `t` SET `v` = CASE `id` WHEN 1 THEN 5 WHEN 2 THEN NULL END WHERE `id` IN (1,2)",
				"UPDATE `t` SET `v` = 'x' WHERE `id` = 3"}},
		"a setting between": {[]string{"DELETE FROM `t` WHERE `a` = 1", "SET x", "DELETE FROM `t` WHERE `a` = 2"}, nil},
	} {
		var list []engine.Statement
		for _, sql := range c.list {
			rows := int64(1)
			if sql == "SET x" {
				rows = -1
			}
			list = append(list, engine.Statement{SQL: []byte(sql), Rows: rows, Transaction: 1})
		}
		var got []string
		rows := int64(0)
		for _, x := range merged(list) {
			got = append(got, string(x.SQL))
			rows += max(0, x.Rows)
		}
		if c.want == nil {
			c.want = c.list
		}
		require.Equal(t, c.want, got, name)
		require.Equal(t, int64(len(list)), rows+map[string]int64{"a setting between": 1}[name], name)
	}
	many := make([]engine.Statement, 250)
	for i := range many {
		many[i] = engine.Statement{SQL: fmt.Appendf(nil, "DELETE FROM `t` WHERE `a` = %d", i), Rows: 1}
	}
	require.Len(t, merged(many), 3)
}
