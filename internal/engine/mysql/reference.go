package mysql

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
)

// geometric are the types whose values may be in a reference system.
var geometric = []string{"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
	"geomcollection", "geometrycollection"}

// systems are the spatial reference systems that somebody made on MySQL. They are the server's;
// a database with geometries brings them along, since it may need them.
func (r *catalogReader) systems(ctx context.Context) error {
	if r.s.maria {
		return nil
	}
	needed, err := r.c.value(ctx,
		"SELECT count(*) FROM information_schema.columns WHERE table_schema = database() AND "+
			"data_type IN ('"+strings.Join(geometric, "', '")+"')")
	if err != nil || needed == "0" {
		return err
	}
	rows, err := r.c.rows(ctx,
		"SELECT srs_id, srs_name, coalesce(organization, ''), coalesce(organization_coordsys_id, 0), "+
			"definition, coalesce(description, '') FROM information_schema.st_spatial_reference_systems "+
			"WHERE coalesce(organization, '') <> 'EPSG' AND srs_id <> 0 ORDER BY srs_id")
	for _, row := range rows {
		sql := fmt.Sprintf("%s%s NAME %s", makeSystem, row[0], literal(row[1]))
		if row[2] != "" {
			sql += " ORGANIZATION " + literal(row[2]) + " IDENTIFIED BY " + row[3]
		}
		sql += " DEFINITION " + literal(row[4])
		if row[5] != "" {
			sql += " DESCRIPTION " + literal(row[5])
		}
		r.add(engine.Object{Kind: "reference system", Name: row[0], Section: engine.Schema, Rule: true, SQL: sql +
			";\n"})
	}
	return err
}

const makeSystem = "CREATE SPATIAL REFERENCE SYSTEM IF NOT EXISTS "

// hasSystem says whether a statement makes a reference system that is there already: not
// everybody may say so, even then.
func (s *session) hasSystem(ctx context.Context, sql string) bool {
	id, ok := strings.CutPrefix(sql, makeSystem)
	if !ok {
		return false
	}
	id, _, _ = strings.Cut(id, " ")
	rows, err := s.c.rows(ctx, "SELECT srs_id FROM information_schema.st_spatial_reference_systems WHERE srs_id = "+
		literal(id))
	return err == nil && slices.ContainsFunc(rows, func(r []string) bool { return r[0] == id })
}
