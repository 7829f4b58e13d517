package postgres

import (
	"context"
	"fmt"
	"regexp"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// slotNamed is what names of slots of this program look like.
var slotNamed = regexp.MustCompile(`^grainkeep_([0-9a-f]{12})_[0-9]+$`)

// slotStatus is SQL for what became of the log that a slot holds back.
func (s *source) slotStatus() string {
	if s.version < 130000 {
		return "'reserved'"
	}
	return "coalesce(wal_status, 'lost')"
}

// Held implements engine.Holder.
func (s *source) Held(ctx context.Context) ([]engine.Held, error) {
	rows, err := s.home.Query(ctx, "SELECT slot_name::text, coalesce(database::text, ''), coalesce(CASE WHEN "+
		"pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn) END, -1)::bigint, "+
		s.slotStatus()+", active FROM pg_replication_slots WHERE slot_name ~ '^grainkeep_[0-9a-f]{12}_[0-9]+$' ORDER BY 1")
	if err != nil {
		return nil, plain(ctx, s.home, err)
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (h engine.Held, err error) {
		err = r.Scan(&h.Name, &h.Database, &h.Bytes, &h.State, &h.Active)
		if m := slotNamed.FindStringSubmatch(h.Name); m != nil {
			h.Reader = m[1]
		}
		return h, err
	})
}

// LetGo implements engine.Holder: the slot goes, and in its database the publication.
func (s *source) LetGo(ctx context.Context, name string) error {
	m := slotNamed.FindStringSubmatch(name)
	if m == nil {
		return fault.Wrong("slot-foreign", "%.80q is no slot of this program", name).Advise("'grainkeep slots' lists those")
	}
	list, err := s.Held(ctx)
	if err != nil {
		return err
	}
	for _, h := range list {
		switch {
		case h.Name != name:
			continue
		case h.Active:
			return fault.New("slot-active", nil, "the slot %s is being read just now", name)
		}
		if _, err := s.home.Exec(ctx, "SELECT pg_drop_replication_slot("+literal(name)+")"); err != nil {
			return plain(ctx, s.home, err)
		}
		if h.Database == "" {
			return nil
		}
		c, err := s.connect(ctx, h.Database)
		if err != nil {
			return err
		}
		defer closeConn(c)
		_, err = c.Exec(ctx, fmt.Sprintf("BEGIN READ WRITE; SET LOCAL client_min_messages = error; DROP PUBLICATION IF "+
			"EXISTS grainkeep_%s; COMMIT", m[1]))
		return plain(ctx, c, err)
	}
	return fault.Wrong("slot-absent", "the server has no slot %s", name).
		Advise("'grainkeep slots' lists those that it has")
}
