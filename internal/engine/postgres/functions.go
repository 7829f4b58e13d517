package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// functionsRow is a row of functions.sql.
type functionsRow struct {
	OID             uint32
	Kind            string
	Name, Def, Body *string
	Loose           bool
}

// functions reads functions, procedures and window functions; those that a range
// type makes for itself are its own. One whose body is parsed when it is made can take
// part in a circle: its outline has a body that is a text, which is not.
func (r *catalogReader) functions(ctx context.Context) error {
	return each(ctx, r, "functions", func(x *functionsRow) error {
		if x.Name == nil {
			return gone("a function")
		}
		sql, err := define("function", *x.Name, x.Def)
		if err != nil {
			return err
		}
		word := "function"
		if x.Kind == "p" {
			word = "procedure"
		}
		sql = strings.TrimSuffix(sql, "\n")
		r.loose[key{"pg_proc", x.OID}] = x.Loose
		n := r.add("pg_proc", x.OID, rankFunction, engine.Object{Kind: word, Name: *x.Name, Section: engine.Schema,
			SQL: sql + ";\n"})
		if x.Body != nil {
			n.stub = &engine.Object{Kind: word + " outline", Name: *x.Name, Section: engine.Schema,
				SQL: strings.TrimSuffix(sql, *x.Body) + "AS '';\n"}
		}
		return nil
	})
}

// aggregatesRow is a row of aggregates.sql.
type aggregatesRow struct {
	OID      uint32
	Identity *string
	Name, Args, Kind, Parallel, Trans, TransType, Final, FinalMode, Combine, Serial, Deserial, Start, Mtrans, Minv,
	Mtype, Mfinal, MfinalMode, Mstart, Sort string
	Space, Mspace int32
	Extra, Mextra bool
}

// phase is how an aggregate works: as such, or over a moving window.
type phase struct {
	trans, typ, final, mode, start string
	space                          int32
	extra                          bool
}

func (r *catalogReader) aggregates(ctx context.Context) error {
	return each(ctx, r, "aggregates", func(x *aggregatesRow) error {
		id, err := define("aggregate", x.Name, x.Identity)
		if err != nil {
			return err
		}
		if x.Args == "" {
			x.Args = "*"
		}
		o := options{}
		say := func(prefix string, p phase) {
			o.add(prefix+"SFUNC", p.trans)
			o.add(prefix+"STYPE", p.typ)
			if p.space != 0 {
				o.add(prefix+"SSPACE", fmt.Sprint(p.space))
			}
			o.add(prefix+"FINALFUNC", p.final)
			if p.extra {
				o = append(o, prefix+"FINALFUNC_EXTRA")
			}
			if p.trans != "" {
				o.add(prefix+"FINALFUNC_MODIFY", p.mode)
			}
			o.add(prefix+"INITCOND", p.start)
		}
		say("", phase{x.Trans, x.TransType, x.Final, x.FinalMode, x.Start, x.Space, x.Extra})
		o.add("COMBINEFUNC", x.Combine)
		o.add("SERIALFUNC", x.Serial)
		o.add("DESERIALFUNC", x.Deserial)
		say("M", phase{x.Mtrans, x.Mtype, x.Mfinal, x.MfinalMode, x.Mstart, x.Mspace, x.Mextra})
		o.add("MINVFUNC", x.Minv)
		o.add("SORTOP", x.Sort)
		o.add("PARALLEL", map[string]string{"s": "SAFE", "r": "RESTRICTED"}[x.Parallel])
		if x.Kind == "h" {
			o = append(o, "HYPOTHETICAL")
		}
		r.add("pg_proc", x.OID, rankOperator, engine.Object{Kind: "aggregate", Name: id, Section: engine.Schema,
			SQL: "CREATE AGGREGATE " + x.Name + "(" + x.Args + ") (" + o.String() + ");\n"})
		return nil
	})
}

// simple reads a kind of object that the server can describe in one query: OID,
// name, and the SQL that makes it.
type simple struct {
	class, kind string
	rank        int
	section     engine.Section
	rule        bool
	query       string // the file's name
}

type simpleRow struct {
	OID  uint32
	Name string
	SQL  *string
}

func (r *catalogReader) simple(ctx context.Context, s simple) error {
	return each(ctx, r, s.query, func(x *simpleRow) error {
		if x.Name == "" {
			return gone("a " + s.kind)
		}
		def, err := define(s.kind, x.Name, x.SQL)
		if err != nil {
			return err
		}
		section := s.section
		if section == "" {
			section = engine.Schema
		}
		r.add(s.class, x.OID, s.rank, engine.Object{Kind: s.kind, Name: x.Name, Section: section, SQL: def + ";\n",
			Rule: s.rule}).late = section == engine.Finish
		return nil
	})
}
