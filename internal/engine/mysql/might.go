package mysql

import (
	"context"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// granted takes a line of SHOW GRANTS apart: rights, and on what.
var granted = pattern.Of(`^GRANT (.+?) ON (.+?) TO `)

// Might tells what the user could do beyond scratch databases.
func (s *source) Might(ctx context.Context) (string, error) {
	rows, err := s.home.rows(ctx, "SHOW GRANTS")
	if err != nil {
		return "", err
	}
	var more []string
	for _, r := range rows {
		m := granted().FindStringSubmatch(r[0])
		if m == nil || strings.HasPrefix(m[1], "USAGE") || strings.HasPrefix(m[2], grantedOn(engine.DrillPrefix)) {
			continue
		}
		rights := m[1]
		if len(rights) > 60 {
			rights = rights[:57] + "…"
		}
		more = append(more, rights+" on "+m[2])
	}
	return strings.Join(more, ", "), nil
}
