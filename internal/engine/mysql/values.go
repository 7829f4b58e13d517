package mysql

import (
	"strconv"
	"strings"

	"grainkeep/internal/engine"
)

// RowText implements engine.Texter.
func (drv) RowText() engine.RowText {
	return engine.RowText{Backslash: true, Quote: '`', Columns: definedColumns}
}

// integerBits are the sizes of integers.
var integerBits = map[string]int{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64, "year": 0}

// definedColumns takes the server's own definition apart.
func definedColumns(create string) (list []engine.Column) {
	at := strings.Index(create, "(")
	if at < 0 {
		return nil
	}
	all, end := items(create[at+1:])
	for _, item := range all {
		columns := columnsOf([]string{item}, strings.TrimRight(create[at+1+end:], ";\n"))
		if len(columns) == 0 {
			continue
		}
		c := columns[0]
		x := engine.Column{Name: c.name, Type: c.kind, Charset: c.charset, NotNull: strings.Contains(words(item), " NOT NULL")}
		if c.full != "" {
			x.Type += "(" + c.full + ")"
		}
		x.Class, x.Limit = c.class()
		list = append(list, x)
	}
	engine.SetKey(list, create, '`', true)
	return list
}

// class is the family of a column's type.
func (c *column) class() (class engine.Class, limit int) {
	first, second, _ := strings.Cut(c.full, ",")
	n, _ := strconv.Atoi(first)
	if bits, is := integerBits[c.kind]; is {
		if c.unsigned {
			bits++
		}
		return engine.Integer, bits
	}
	switch c.kind {
	case "decimal":
		scale, _ := strconv.Atoi(second)
		return engine.Decimal, n - scale
	case "float", "double":
		return engine.Real, 0
	case "char", "varchar":
		return engine.Texts, n
	case "tinytext":
		return engine.Texts, 255
	case "text", "mediumtext", "longtext":
		return engine.Texts, 0
	case "binary", "varbinary":
		return engine.Binary, n
	case "tinyblob", "blob", "mediumblob", "longblob", "bit":
		return engine.Binary, 0
	case "date", "datetime", "timestamp":
		return engine.Date, 0
	case "uuid":
		return engine.UUID, 0
	case "json":
		return engine.Document, 0
	}
	return engine.Other, 0
}
