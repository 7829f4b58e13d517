package sqlite

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestADefinitionSwallowsNothing: a comment at its end would hide the semicolon, and with it
// all that follows.
func TestADefinitionSwallowsNothing(t *testing.T) {
	for sql, want := range map[string]string{
		"CREATE VIEW v AS SELECT 1":                              "CREATE VIEW v AS SELECT 1;\n",
		"CREATE VIEW v AS SELECT 1 -- one":                       "CREATE VIEW v AS SELECT 1 -- one\n;\n",
		"CREATE VIEW v AS SELECT 1 /* one":                       "CREATE VIEW v AS SELECT 1 /* one*/;\n",
		"CREATE VIEW v AS SELECT 1 /* one */":                    "CREATE VIEW v AS SELECT 1 /* one */;\n",
		"CREATE VIEW v AS SELECT '/*' AS \"/*\", [/*] FROM `/*`": "CREATE VIEW v AS SELECT '/*' AS \"/*\", [/*] FROM `/*`;\n",
		"CREATE VIEW v AS SELECT 1 -- /*\n":                      "CREATE VIEW v AS SELECT 1 -- /*\n;\n",
		"CREATE VIEW v AS SELECT 'it''s /*', 2":                  "CREATE VIEW v AS SELECT 'it''s /*', 2;\n",
	} {
		require.Equal(t, want, statement(sql))
	}
}
