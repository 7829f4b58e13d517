package postgres

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
)

// slotNamed is what names of slots of this program look like.
var slotNamed = pattern.Of(`^grainkeep_([0-9a-f]{12})_[0-9]+$`)

// slotStatus is SQL for what became of the log that a slot holds back.
func (s *source) slotStatus() string {
	if s.version < 130000 {
		return "'reserved'"
	}
	return "coalesce(wal_status, 'lost')"
}

// Held implements engine.Holder.
func (s *source) Held(ctx context.Context) ([]engine.Held, error) {
	rows, err := s.home.Query(ctx, "SELECT slot_name::text, coalesce(database::text, ''), coalesce(pg_wal_lsn_diff("+
		"CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_lsn() END, restart_lsn), "+
		"-1)::bigint, "+
		s.slotStatus()+", active FROM pg_replication_slots WHERE slot_name ~ '^grainkeep_[0-9a-f]{12}_[0-9]+$' ORDER BY 1")
	if err != nil {
		return nil, plain(ctx, s.home, err)
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (h engine.Held, err error) {
		err = r.Scan(&h.Name, &h.Database, &h.Bytes, &h.State, &h.Active)
		h.Lost = lostSlot(h.State)
		if m := slotNamed().FindStringSubmatch(h.Name); m != nil {
			h.Reader = m[1]
		}
		return h, err
	})
}

// lostSlot says whether the server gave up what a slot holds back, or may do so at any time.
func lostSlot(status string) bool { return status == "lost" || status == "unreserved" }

// Leftovers implements engine.Holder: publications whose slots are gone, each by the name that the slot had.
func (s *source) Leftovers(ctx context.Context) (list []engine.Held, err error) {
	standby, err := s.standby(ctx)
	if standby || err != nil { // its publications are those of the server that it follows
		return nil, err
	}
	there, err := s.Databases(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range there {
		if d.Odd != "" {
			continue
		}
		if list, err = s.leftIn(ctx, d.Name, list); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// standby says whether the server follows another one.
func (s *source) standby(ctx context.Context) (is bool, err error) {
	err = s.home.QueryRow(ctx, "SELECT pg_is_in_recovery()").Scan(&is)
	return is, err
}

// leftIn adds those of a database.
func (s *source) leftIn(ctx context.Context, database string, list []engine.Held) ([]engine.Held, error) {
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	defer closeConn(c)
	rows, err := c.Query(ctx, "SELECT pubname || '_' || d.oid FROM pg_publication p, pg_database d WHERE datname = "+
		"current_database() AND pubname ~ '^grainkeep_[0-9a-f]{12}$' AND NOT EXISTS (SELECT FROM pg_replication_slots "+
		"WHERE slot_name = pubname || '_' || d.oid) ORDER BY 1")
	if err != nil {
		return nil, plain(ctx, c, err)
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, name := range names {
		list = append(list, engine.Held{Name: name, Reader: slotNamed().FindStringSubmatch(name)[1], Database: database,
			State: "only the publication is here", Lost: true})
	}
	return list, plain(ctx, c, err)
}

// LetGo implements engine.Holder: the slot goes, and in its database the publication.
func (s *source) LetGo(ctx context.Context, name string) error {
	if !slotNamed().MatchString(name) {
		return fault.Wrong("slot-foreign", "%.80q is no slot of this program", name).Advise("'grainkeep slots' lists those")
	}
	held, err := s.Held(ctx)
	if err != nil {
		return err
	}
	named := func(h engine.Held) bool { return h.Name == name }
	at := slices.IndexFunc(held, named)
	if at < 0 {
		if held, err = s.Leftovers(ctx); err != nil {
			return err
		}
		if at = slices.IndexFunc(held, named); at < 0 {
			return fault.Wrong("slot-absent", "the server has no slot %s", name).
				Advise("'grainkeep slots' lists those that it has")
		}
		return s.unpublish(ctx, held[at])
	}
	if held[at].Active {
		return fault.New("slot-active", nil, "the slot %s is being read just now", name)
	}
	if _, err := s.home.Exec(ctx, "SELECT pg_drop_replication_slot("+literal(name)+")"); err != nil {
		return plain(ctx, s.home, err)
	}
	return s.unpublish(ctx, held[at])
}

// unpublish removes the publication that goes with a slot.
func (s *source) unpublish(ctx context.Context, h engine.Held) error {
	standby, err := s.standby(ctx)
	if h.Database == "" || standby || err != nil {
		return err
	}
	c, err := s.connect(ctx, h.Database)
	if err != nil {
		return err
	}
	defer closeConn(c)
	_, err = c.Exec(ctx, fmt.Sprintf("BEGIN READ WRITE; SET LOCAL client_min_messages = error; DROP PUBLICATION IF "+
		"EXISTS grainkeep_%s; COMMIT", h.Reader))
	return plain(ctx, c, err)
}
