package restore

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"grainkeep/internal/chain"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
	"grainkeep/internal/payload"
	"grainkeep/internal/phrase"
	"grainkeep/internal/verify"
)

// losses are what of a damaged dump does not come back.
type losses struct {
	files map[string]string // of the full: what is wrong with each, by path
	words []string
}

// salvage reads every file of a plan, and gives the plan of what is intact: the changes up to the first that is damaged,
// and the full without its damaged files of rows. Without its structure nothing can be made of a dump.
func salvage(ctx context.Context, plan *chain.Plan) (*chain.Plan, *losses, error) {
	lost := &losses{files: map[string]string{}}
	cut := *plan
	bad, err := damaged(ctx, plan.Base)
	if err != nil {
		return nil, nil, err
	}
	files := map[string]bool{}
	for _, t := range plan.Base.Manifest.Tables() {
		for _, path := range t.Files {
			files[path] = true
		}
	}
	for path, what := range bad {
		if files[path] {
			lost.files[path] = what
		} else if structural(path) {
			return nil, nil, payload.Damage(plan.Base, what+": without it nothing can be made of the dump")
		}
	}
	for i, d := range plan.Changes {
		why := "the full under it is damaged"
		if len(lost.files) == 0 {
			bad, err := damaged(ctx, d)
			if err != nil {
				return nil, nil, err
			}
			if why = of(bad); why == "" {
				continue
			}
			why = fmt.Sprintf("of the dump %s %s", d.Short(), why)
		}
		last := plan.Base
		if i > 0 {
			last = plan.Changes[i-1]
		}
		cut.Changes, cut.Until, cut.Stop = slices.Clone(plan.Changes[:i]), last.Manifest.Moment, nil
		lost.words = append(lost.words, fmt.Sprintf("all that changed after %s is lost: %s", phrase.Both(cut.Until, chain.Zone(last)),
			why))
		break
	}
	if len(lost.files)+len(lost.words) == 0 {
		return nil, nil, fault.Wrong("salvage-needless", "nothing of the dump %s of %s is damaged", plan.Last().Short(),
			plan.Last().Name()).Advise("restore it without --salvage")
	}
	return &cut, lost, nil
}

// structural says whether a file is one that makes things, and not one of rows, digests or explanations.
func structural(path string) bool {
	return strings.HasPrefix(path, manifest.ObjectsOf) || len(path) > 3 && path[2] == '-' && !strings.Contains(path, "/")
}

// damaged reads the files of a dump that a restore needs, and says what is wrong with those that are damaged.
func damaged(ctx context.Context, d *keep.Dump) (map[string]string, error) {
	bad := map[string]string{}
	for _, f := range d.Manifest.Files {
		stored, ok := d.StoredFile(f.Path)
		if !ok || f.Path == manifest.Readme || f.Path == manifest.CountSQL || f.Path == manifest.CountText ||
			f.Path == manifest.LoadOrder || manifest.ForNext(f.Path) {
			continue
		}
		finding, err := verify.File(ctx, d, stored, nil)
		if err != nil {
			return nil, err
		}
		if finding != "" {
			bad[f.Path] = finding
		}
	}
	return bad, nil
}

// of is one of some findings; empty: there is none.
func of(bad map[string]string) string {
	var list []string
	for _, what := range bad {
		list = append(list, what)
	}
	slices.Sort(list)
	return verify.Summary(list)
}

// short says how many rows of a table came back whose files are damaged, and whether any are.
func (l *loader) short(t manifest.Table, loaded int64) bool {
	var bad []string
	for _, path := range t.Files {
		if what := l.opt.lost.of(path); what != "" {
			bad = append(bad, what)
		}
	}
	if len(bad) == 0 {
		return false
	}
	l.out.Gone = append(l.out.Gone, fmt.Sprintf("of the table %s %s of %s came back: %s", t.ID, phrase.Count(loaded),
		phrase.Plural(t.Rows, "row"), verify.Summary(bad)))
	return true
}

// of says what is wrong with a file of the full; empty: nothing.
func (l *losses) of(path string) string {
	if l == nil {
		return ""
	}
	return l.files[path]
}
