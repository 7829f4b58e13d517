package postgres

import (
	"context"
)

// textSearch reads parsers, templates, dictionaries and configurations.
func (r *catalogReader) textSearch(ctx context.Context) error {
	list := []simple{
		{class: "pg_ts_parser", kind: "text search parser", rank: rankOperator, query: "search_parsers"},
		{class: "pg_ts_template", kind: "text search template", rank: rankOperator, query: "search_templates"},
		{class: "pg_ts_dict", kind: "text search dictionary", rank: rankFamily, query: "search_dictionaries"},
		{class: "pg_ts_config", kind: "text search configuration", rank: rankClass, query: "search_configurations"},
	}
	for _, s := range list {
		if err := r.simple(ctx, s); err != nil {
			return err
		}
	}
	return r.dictionaries(ctx)
}
