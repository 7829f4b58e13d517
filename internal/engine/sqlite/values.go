package sqlite

import (
	"context"
	"strings"

	lib "modernc.org/sqlite/lib"

	"grainkeep/internal/engine"
)

// RowText implements engine.Texter.
func (driver) RowText() engine.RowText { return engine.RowText{Quote: '"', Columns: columnsOf} }

// columnsOf lets the library itself read a definition, which is as somebody wrote it.
func columnsOf(create string) (list []engine.Column) {
	c, err := openConn(":memory:", lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE|lib.SQLITE_OPEN_MEMORY, 0)
	if err != nil {
		return nil
	}
	defer c.close()
	if err := c.define(create); err != nil { // it needs what is not here
		return nil
	}
	err = c.each(context.Background(), "SELECT x.name, x.type, x.\"notnull\", x.pk FROM pragma_table_list() AS t, pragma_table_xinfo(t.name) AS x "+
		"WHERE t.schema = 'main' AND t.name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND x.hidden = 0 ORDER BY x.cid", func(s *stmt) error {
		x := engine.Column{Name: s.text(0), Type: s.text(1), NotNull: s.int(2) != 0, Key: int(s.int(3))}
		x.Class = affinity(x.Type)
		list = append(list, x)
		return nil
	})
	if err != nil {
		return nil
	}
	return list
}

// affinity is the class of a declared type, by the library's rules.
func affinity(declared string) engine.Class {
	declared = strings.ToUpper(declared)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(declared, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return engine.Integer
	case has("CHAR", "CLOB", "TEXT"):
		return engine.Texts
	case declared == "" || has("BLOB"):
		return engine.Binary
	case has("REAL", "FLOA", "DOUB"):
		return engine.Real
	case has("DATE", "TIME"):
		return engine.Date
	}
	return engine.Decimal
}
