package mysql

import (
	"context"
	"fmt"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// The mark of a database that is kept up stands in a table in it.
const upkeepMark = "`grainkeep_standby`"

// HeldBack implements engine.Upkeeper. Foreign keys are there: the server's log does not tell what they do.
func (s *source) HeldBack() []string { return []string{"trigger", "event"} }

// MarkSQL implements engine.Upkeeper.
func (s *source) MarkSQL(mark string) []string {
	return []string{"CREATE TABLE " + upkeepMark + " (one int PRIMARY KEY, dump varchar(200) CHARACTER SET ascii)",
		"INSERT INTO " + upkeepMark + " VALUES (1, " + literal(mark) + ")"}
}

// Marked implements engine.Upkeeper.
func (s *source) Marked(ctx context.Context, database string) (string, error) {
	n, err := s.home.value(ctx, "SELECT count(*) FROM information_schema.tables WHERE table_schema = "+literal(database)+
		" AND table_name = 'grainkeep_standby'")
	if err != nil || n == "0" {
		return "", err
	}
	return s.home.value(ctx, "SELECT dump FROM "+quote(database)+"."+upkeepMark)
}

// upkeepSession is a session in whose transaction a database is brought onward.
type upkeepSession struct {
	session
	s        *source
	database string
}

// Onward implements engine.Upkeeper. A named lock keeps others away, since the mark's row can be locked only while the
// database can be written.
func (s *source) Onward(ctx context.Context, database, mark string) (engine.UpkeepSession, error) {
	c, err := s.connect(ctx, database)
	if err != nil {
		return nil, err
	}
	u := &upkeepSession{session{c: c, joined: true, maria: s.maria}, s, database}
	if err := u.begin(ctx, mark); err != nil {
		u.Close()
		return nil, err
	}
	return u, nil
}

func (u *upkeepSession) begin(ctx context.Context, mark string) error {
	if err := u.s.loosen(ctx, u.c); err != nil {
		return err
	}
	got, err := u.c.value(ctx, fmt.Sprintf("SELECT get_lock(left(concat('grainkeep standby ', sha2(%s, 256)), 64), %d)",
		literal(u.database), u.s.lockWait()))
	if err != nil {
		return err
	}
	if got != "1" {
		return engine.Contended(u.database, u.s.at.LockWait)
	}
	if err := u.freeze(ctx, false); err != nil {
		return err
	}
	if _, err := u.c.exec(ctx, settings+"START TRANSACTION"); err != nil {
		return err
	}
	is, err := u.c.value(ctx, "SELECT dump FROM "+upkeepMark+" FOR UPDATE")
	if err == nil && is != mark {
		err = fault.New(engine.MarkDiffers, nil, "the database %s is not at the dump that it was thought to be", u.database)
	}
	return err
}

// freeze lets the database be written, or not, where the server has such a thing.
func (u *upkeepSession) freeze(ctx context.Context, on bool) error {
	if u.s.Freezable(ctx) != nil {
		return nil
	}
	_, err := u.c.exec(ctx, fmt.Sprintf("ALTER DATABASE %s READ ONLY = %d", quote(u.database), map[bool]int{true: 1}[on]))
	return err
}

// Commit implements engine.UpkeepSession.
func (u *upkeepSession) Commit(ctx context.Context, mark string) error {
	_, err := u.c.exec(ctx, "UPDATE "+upkeepMark+" SET dump = "+literal(mark))
	if err == nil {
		_, err = u.c.exec(ctx, "COMMIT")
	}
	if err == nil {
		err = u.freeze(ctx, true)
	}
	return err
}

// Release implements engine.Upkeeper.
func (s *source) Release(ctx context.Context, database string) error {
	if s.Freezable(ctx) == nil {
		if _, err := s.home.exec(ctx, "ALTER DATABASE "+quote(database)+" READ ONLY = 0"); err != nil {
			return err
		}
	}
	_, err := s.home.exec(ctx, "DROP TABLE IF EXISTS "+quote(database)+"."+upkeepMark)
	return err
}

// Readable implements engine.Upkeeper.
func (s *source) Readable(ctx context.Context, _ string) (string, error) {
	if s.Freezable(ctx) == nil {
		return "", nil
	}
	on, err := s.home.value(ctx, "SELECT @@global.read_only")
	if err != nil || on == "1" {
		return "", err
	}
	return "MariaDB has no databases that can only be read, and read_only is off for the server: whoever may write there can", nil
}
