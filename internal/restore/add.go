package restore

import (
	"context"
	"fmt"
	"strings"

	"grainkeep/internal/chain"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// addOrBeside decides where chosen tables go: into the database of their name, where that has
// nothing of them (what they need, such as a type, may be there); into a new one, where there is no
// such database; or else into one beside it, under a free name, with the reason.
func addOrBeside(ctx context.Context, src engine.Source, plan *chain.Plan, opt Options) (to Options,
	there map[string]bool, why string, err error) {
	err = src.Vacant(ctx, engine.TargetSpec{Name: opt.Name})
	if err == nil {
		opt.Add = false
		return opt, nil, "", nil
	}
	if !fault.HasCode(err, "target-exists") {
		return opt, nil, "", err
	}
	snap, err := src.Snapshot(ctx, opt.Name)
	if err != nil {
		return opt, nil, "", err
	}
	cat := snap.Catalog()
	if err := snap.Close(); err != nil {
		return opt, nil, "", err
	}
	there = map[string]bool{}
	for _, o := range cat.Objects {
		there[o.ID()] = true
	}
	if why, err = inTheWayOf(ctx, plan, opt, there); err != nil || why == "" {
		return opt, there, "", err
	}
	why = fmt.Sprintf("%s has the %s already", opt.Name, why)
	opt.Add = false
	opt.Name, err = freeName(ctx, src, opt.Name)
	return opt, nil, why, err
}

// inTheWayOf names an object of the chosen tables that the database has.
func inTheWayOf(ctx context.Context, plan *chain.Plan, opt Options, there map[string]bool) (string, error) {
	l, _, err := picked(ctx, plan, opt)
	if err != nil {
		return "", err
	}
	found := ""
	for _, o := range l.objects {
		isTable := strings.HasSuffix(o.Kind, "table")
		if !there[o.ID()] || o.Table == "" && !isTable {
			continue // what tables need, such as a type, may be there
		}
		if isTable {
			return o.ID(), nil
		}
		if found == "" {
			found = o.ID()
		}
	}
	return found, nil
}

// freeName is a name that no database has, for what comes beside one.
func freeName(ctx context.Context, src engine.Source, name string) (string, error) {
	for n := 1; ; n++ {
		free := engine.BesideName(name, n)
		err := src.Vacant(ctx, engine.TargetSpec{Name: free})
		if !fault.HasCode(err, "target-exists") {
			return free, err
		}
	}
}
