package mysql

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
)

// Sweep drops the scratch databases of a keep whose maker is gone; those that were
// complete get their names. Anything else with such a name is only listed.
func (s *source) Sweep(ctx context.Context, keepID string) (swept engine.Swept, err error) {
	rows, err := s.home.rows(ctx, `SELECT s.schema_name, is_used_lock(concat('grainkeep_',
		substring_index(s.schema_name, '_', -1))) IS NOT NULL,
		EXISTS (SELECT 1 FROM information_schema.tables t WHERE t.table_schema = s.schema_name AND t.table_name =
			'`+mark+`'),
		NOT EXISTS (SELECT 1 FROM information_schema.tables t WHERE t.table_schema = s.schema_name)
		FROM information_schema.schemata s WHERE `+scratchNamed+` ORDER BY 1`)
	for _, r := range rows {
		database, alive, marked, empty := r[0], r[1] == "1", r[2] == "1", r[3] == "1"
		if err != nil || alive {
			continue
		}
		keep, name := "", ""
		if marked {
			if m, err := s.home.rows(ctx, "SELECT keep, name FROM "+quote(database)+"."+mark); err == nil &&
				len(m) > 0 {
				keep, name = m[0][0], m[0][1]
			}
		}
		// A crash of the server can lose what stands in the mark.
		ours := marked && keep == keepID || engine.WorkOf(keepID, database) && (marked && keep == "" || empty)
		switch {
		case !ours:
			swept.Foreign = append(swept.Foreign, database)
		case name != "":
			err = s.complete(ctx, &swept, database)
		default:
			swept.Removed = append(swept.Removed, database)
			_, err = s.home.exec(ctx, "DROP DATABASE "+quote(database))
		}
	}
	return swept, err
}

// complete does the rest of a Finish that was killed, unless another process does.
func (s *source) complete(ctx context.Context, swept *engine.Swept, work string) error {
	lock := literal(liveLock(work[strings.LastIndexByte(work, '_')+1:]))
	if got, err := s.home.value(ctx, "SELECT get_lock("+lock+", 0)"); err != nil || got != "1" {
		return err
	}
	defer s.home.value(context.WithoutCancel(ctx), "SELECT release_lock("+lock+")")
	// Another process may have done some of it, or all, since the look.
	m, err := s.home.rows(ctx, "SELECT name, aside FROM "+quote(work)+"."+mark)
	if hasCode(err, codeNoDatabase, codeNoTable) {
		return nil
	}
	if err != nil || len(m) == 0 {
		return err
	}
	name, aside := m[0][0], m[0][1]
	lost, err := s.place(context.WithoutCancel(ctx), work, name, aside)
	swept.Notes = append(swept.Notes, lost...)
	if err != nil {
		swept.Notes = append(swept.Notes,
			fmt.Sprintf("the restore of the database %s, which was killed, cannot be finished: %v", name, err))
		return nil
	}
	swept.Finished = append(swept.Finished, name)
	return nil
}
