package restore

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
)

// able fails where the target cannot do what the options ask for, before anything is made.
func (o *Options) able(ctx context.Context, src engine.Source) error {
	if o.ReadOnly {
		f, is := src.(engine.Freezer)
		if !is || o.Into || o.Add {
			return fault.Wrong("read-only-impossible", "what is restored there cannot be left read-only").
				Advise("leave --read-only out")
		}
		if err := f.Freezable(ctx); err != nil {
			return err
		}
	}
	if len(o.Map) == 0 {
		return nil
	}
	m, is := src.(engine.RoleMapper)
	if !is || o.Owners == Mine {
		return fault.Wrong("owner-needless", "nothing of what is restored there has an owner that could be mapped").
			Advise("leave --owner out")
	}
	o.mapper = m
	return nil
}

// mapRoles puts other roles in the place of those that the objects name. One of the map that no object names is an error:
// it may be misspelt.
func (l *loader) mapRoles() error {
	if l.opt.mapper == nil {
		return nil
	}
	l.asDumped = map[string][]string{}
	used := map[string]bool{}
	for i, o := range l.objects {
		l.asDumped[o.ID()] = o.Roles
		for from, to := range l.opt.Map {
			one, _, err := l.opt.mapper.MapRoles(o.Object, "", map[string]string{from: to})
			if err != nil {
				return err
			}
			used[from] = used[from] || !slices.Equal(one.Roles, o.Roles)
		}
		mapped, _, err := l.opt.mapper.MapRoles(o.Object, "", l.opt.Map)
		if err != nil {
			return err
		}
		l.objects[i].Object.Roles = mapped.Roles
	}
	for from := range l.opt.Map {
		if !used[from] {
			return fault.Wrong("owner-unknown", "nothing in the dump of %s belongs to %s, or is granted to it", l.m.Database, from).
				Advise("check the name: --owner OLD=NEW")
		}
	}
	return nil
}

// unmapped is an object with the roles that its SQL names.
func (l *loader) unmapped(o manifest.ObjectEntry) engine.Object {
	x := o.Object
	x.Roles = l.asDumped[o.ID()]
	return x
}

// bring makes roles that the target lacks, as the dump of what belongs to the server has them.
func (l *loader) bring(ctx context.Context, missing []string) error {
	parts, err := payload.NewChain(l.opt.Server.Dumps())
	if err != nil {
		return err
	}
	objects, err := parts.Structure.Objects(ctx)
	if err != nil {
		return err
	}
	s, err := l.t.Session(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	var made []string
	for _, o := range objects {
		if (o.Kind == "role" || o.Kind == "user") && slices.Contains(missing, o.Name) {
			if err := s.Exec(ctx, o.SQL); err != nil {
				return fmt.Errorf("the %s could not be made: %w", o.ID(), err)
			}
			made = append(made, o.Name)
		}
	}
	for _, o := range objects { // what binds them to each other
		member, role, is := strings.Cut(o.Name, " in ")
		if o.Kind == "membership" && is && slices.Contains(made, member) && slices.Contains(made, strings.SplitN(role, " by ", 2)[0]) {
			if err := s.Exec(ctx, o.SQL); err != nil {
				return fmt.Errorf("the %s could not be made: %w", o.ID(), err)
			}
		}
	}
	if len(made) > 0 {
		l.out.Notes = append(l.out.Notes, fmt.Sprintf("made, as the dump of the server has them: %s; they have no passwords "+
			"unless that dump holds them", strings.Join(made, ", ")))
	}
	return nil
}
