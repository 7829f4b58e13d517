package postgres

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/pattern"
)

// Freezable implements engine.Freezer.
func (s *source) Freezable(context.Context) error { return nil }

// Freeze implements engine.Freezer: sessions begin read-only. Who means to write can say so, and then may.
func (s *source) Freeze(ctx context.Context, database string) error {
	_, err := s.home.Exec(ctx, "ALTER DATABASE "+quote(database)+" SET default_transaction_read_only = on")
	return err
}

// clearOut ends the sessions of others in a database, and lets nobody in until its name has changed.
func (s *source) clearOut(ctx context.Context, database string) error {
	if _, err := s.home.Exec(ctx, "ALTER DATABASE "+quote(database)+" WITH ALLOW_CONNECTIONS false"); err != nil {
		return fmt.Errorf("keeping others out of %s: %w", database, err)
	}
	_, err := s.home.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1 AND pid <> "+
		"pg_backend_pid()", database)
	for range 100 { // they end in their own time
		var n int
		if err == nil {
			err = s.home.QueryRow(ctx, "SELECT count(*)::int FROM pg_stat_activity WHERE datname = $1", database).Scan(&n)
		}
		if err != nil || n == 0 {
			break
		}
		_, err = s.home.Exec(ctx, "SELECT pg_sleep(0.05)")
	}
	if err != nil {
		err = fmt.Errorf("ending the sessions in %s: %w", database, err)
	}
	return err
}

// letIn lets others into a database again.
func (s *source) letIn(ctx context.Context, database string) error {
	_, err := s.home.Exec(ctx, "ALTER DATABASE "+quote(database)+" WITH ALLOW_CONNECTIONS true")
	return err
}

// Where SQL of ours names roles: behind some words, several with commas.
const aRole = `(?:"(?:[^"]|"")+"|[a-z_][a-z0-9_$]*)`

var (
	rolesAfter = pattern.Of(`\b(TO|FROM|SESSION AUTHORIZATION|FOR ROLE|FOR|BY) (` + aRole + `(?:, ` + aRole + `)*)`)
	oneRole    = pattern.Of(aRole)
)

// expression begins what of a policy or a user mapping is no longer about roles.
var expression = pattern.Of(` (USING|WITH CHECK|OPTIONS) \(`)

// plainRole is a role as people write it.
func plainRole(r string) string {
	if inner, is := strings.CutPrefix(r, `"`); is {
		return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
	}
	return r
}

// MapRoles implements engine.RoleMapper.
func (s *source) MapRoles(o engine.Object, sql string, roles map[string]string) (engine.Object, string, error) {
	var from []string
	mapped := make([]string, len(o.Roles))
	for i, r := range o.Roles {
		mapped[i] = r
		if to, is := roles[plainRole(r)]; is {
			mapped[i] = quote(to)
			from = append(from, r)
		}
	}
	if len(from) == 0 {
		return o, sql, nil
	}
	o.Roles = mapped
	if sql == "" {
		return o, sql, nil
	}
	if o.Section != engine.Owners && o.Kind != "owner" && o.Kind != "row security policy" && o.Kind != "user mapping" {
		return o, "", fmt.Errorf("the %s names the role %s in a way that cannot be mapped", o.ID(), from[0])
	}
	found := map[string]bool{}
	rest := ""
	if at := expression().FindStringIndex(sql); at != nil && o.Section != engine.Owners {
		sql, rest = sql[:at[0]], sql[at[0]:] // in which anything may stand
	}
	sql = rolesAfter().ReplaceAllStringFunc(sql, func(m string) string {
		word := rolesAfter().FindStringSubmatch(m)[1]
		return word + " " + oneRole().ReplaceAllStringFunc(m[len(word)+1:], func(r string) string {
			to, is := roles[plainRole(r)]
			if !is {
				return r
			}
			found[plainRole(r)] = true
			return quote(to)
		})
	})
	for _, r := range from {
		if !found[plainRole(r)] && o.Kind != "grants" { // which know the owner too, who is named elsewhere
			return o, "", fmt.Errorf("the %s names the role %s in a way that cannot be mapped", o.ID(), r)
		}
	}
	return o, sql + rest, nil
}

// Drop implements engine.Dropper.
func (s *source) Drop(ctx context.Context, database string) error {
	_, err := s.home.Exec(ctx, "DROP DATABASE "+quote(database))
	return err
}
