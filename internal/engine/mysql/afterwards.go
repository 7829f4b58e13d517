package mysql

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// Freezable implements engine.Freezer.
func (s *source) Freezable(ctx context.Context) error {
	version, err := s.home.value(ctx, "SELECT version()")
	if err != nil {
		return err
	}
	if strings.Contains(version, "MariaDB") {
		return fault.Wrong("read-only-impossible", "MariaDB has no databases that can only be read").
			Advise("leave --read-only out, and grant its users SELECT only; or set read_only for the whole server")
	}
	return nil
}

// Freeze implements engine.Freezer.
func (s *source) Freeze(ctx context.Context, database string) error {
	_, err := s.home.exec(ctx, "ALTER DATABASE "+quote(database)+" READ ONLY = 1")
	return err
}

// clearOut ends the sessions of others in a database.
func (s *source) clearOut(ctx context.Context, database string) error {
	rows, err := s.home.rows(ctx, "SELECT id FROM information_schema.processlist WHERE db = "+literal(database)+
		" AND id <> connection_id()")
	if err != nil {
		return fmt.Errorf("looking for sessions in %s: %w", database, err)
	}
	for _, r := range rows {
		if _, err := s.home.exec(ctx, "KILL "+r[0]); err != nil && !strings.Contains(err.Error(), "1094") { // it has ended
			return fmt.Errorf("ending a session in %s: %w", database, err)
		}
	}
	return nil
}

// account is a user as SQL has it: of any host, if none is named.
func account(plain string) string {
	name, host, ok := strings.Cut(plain, "@")
	if !ok {
		host = "%"
	}
	return quote(name) + "@" + quote(host)
}

// MapRoles implements engine.RoleMapper.
func (s *source) MapRoles(o engine.Object, sql string, roles map[string]string) (engine.Object, string, error) {
	mapped := append([]string(nil), o.Roles...)
	for i, r := range o.Roles {
		for from, to := range roles {
			if r != account(from) && r != quote(from) {
				continue
			}
			mapped[i] = account(to)
			if sql == "" {
				continue
			}
			// A definer stands right behind its word, a grantee at the end of its statement.
			with := strings.ReplaceAll(sql, "DEFINER="+r, "DEFINER="+mapped[i])
			with = strings.ReplaceAll(with, " TO "+r, " TO "+mapped[i])
			if with == sql {
				return o, "", fmt.Errorf("the %s names %s in a way that cannot be mapped", o.ID(), r)
			}
			sql = with
			if o.Definer != "" {
				o.Definer = strings.ReplaceAll(o.Definer, "DEFINER="+r, "DEFINER="+mapped[i])
			}
		}
	}
	o.Roles = mapped
	return o, sql, nil
}

// Drop implements engine.Dropper. One that can only be read has to be opened before.
func (s *source) Drop(ctx context.Context, database string) error {
	if s.Freezable(ctx) == nil {
		_, _ = s.home.exec(ctx, "ALTER DATABASE "+quote(database)+" READ ONLY = 0") // older ones have no such thing
	}
	_, err := s.home.exec(ctx, "DROP DATABASE "+quote(database))
	return err
}
