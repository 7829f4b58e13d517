package postgres

import (
	"strconv"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// RowText implements engine.Texter.
func (driver) RowText() engine.RowText {
	return engine.RowText{Copied: true, Quote: '"', Columns: columnsOf}
}

var (
	tableName  = pattern.Of(`^(?:"(?:[^"]|"")*"|[^\s"(.]+)(?:\.(?:"(?:[^"]|"")*"|[^\s"(.]+))?`)
	columnName = pattern.Of(`^\s*("(?:[^"]|"")*"|[^\s"(]+) `)
	typeEnd    = pattern.Of(` (?:COLLATE|NOT NULL|DEFAULT|GENERATED|CONSTRAINT|NULL|STORAGE|COMPRESSION)\b`)
	typeParts  = pattern.Of(`^([a-z" ._]+?)(?:\((\d+)(?:,(-?\d+))?\))?( with(?:out)? time zone)?$`)
)

// columnsOf takes a definition of ours apart. The first of several tables, a helper, has all columns.
func columnsOf(create string) (list []engine.Column) {
	_, create, _ = strings.Cut(create, "TABLE ")
	name := tableName().FindString(create)
	_, inside, _ := strings.Cut(create[len(name):], "(")
	items, _ := engine.SplitList(inside, false)
	for _, item := range items {
		m := columnName().FindStringSubmatch(item)
		if m == nil {
			continue
		}
		c := engine.Column{Name: m[1], Type: item[len(m[0]):]}
		if strings.HasPrefix(c.Name, `"`) {
			c.Name = strings.ReplaceAll(c.Name[1:len(c.Name)-1], `""`, `"`)
		}
		c.NotNull = strings.Contains(c.Type, " NOT NULL")
		if end := typeEnd().FindStringIndex(c.Type); end != nil {
			c.Type = c.Type[:end[0]]
		}
		c.Class, c.Limit = classOf(c.Type)
		list = append(list, c)
	}
	engine.SetKey(list, create, '"', false)
	return list
}

func classOf(kind string) (class engine.Class, limit int) {
	m := typeParts().FindStringSubmatch(kind)
	if m == nil {
		return engine.Other, 0
	}
	n, _ := strconv.Atoi(m[2])
	scale, _ := strconv.Atoi(m[3])
	switch m[1] {
	case "smallint":
		return engine.Integer, 16
	case "integer":
		return engine.Integer, 32
	case "bigint":
		return engine.Integer, 64
	case "numeric":
		return engine.Decimal, n - scale
	case "real", "double precision":
		return engine.Real, 0
	case "boolean":
		return engine.Boolean, 0
	case "text", "character varying", "character", "citext", "public.citext":
		return engine.Texts, n
	case "bytea":
		return engine.Binary, 0
	case "date", "timestamp":
		return engine.Date, 0
	case "uuid":
		return engine.UUID, 0
	case "json", "jsonb":
		return engine.Document, 0
	}
	return engine.Other, 0
}
