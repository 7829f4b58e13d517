package engine

import (
	"fmt"
	"maps"
	"slices"

	"grainkeep/internal/fault"
)

// Occupied says why a database that exists on a server cannot be taken the place of:
// nobody said so, or sessions use it. It is nil where it can.
func Occupied(t TargetSpec, where string, sessions int) error {
	if t.Disconnect { // they are sent away when the names change
		sessions = 0
	}
	switch {
	case !t.Replace:
		return fault.New("target-exists", nil, "the database %s exists already at %s", t.Name, where).
			Advise("restore under another name with --as NAME, or add --replace: the old one is then renamed, not " +
				"deleted")
	case sessions == 1:
		return inUse("a session uses the database %s at %s", t.Name, where)
	case sessions > 1:
		return inUse("%d sessions use the database %s at %s", sessions, t.Name, where)
	}
	return nil
}

func inUse(format string, args ...any) error {
	return fault.New("target-in-use", nil, format,
		args...).Advise("stop the application that uses it, then try again, or add --disconnect; nothing was changed")
}

// Compare warns where an existing database has other properties than the dumped one.
func (t TargetSpec) Compare(facts map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(t.Facts)) {
		if facts[name] != t.Facts[name] {
			t.Warn(fmt.Sprintf("the %s of the database %s is %s; the dump's is %s", name, t.Name, facts[name],
				t.Facts[name]))
		}
	}
}

// NotEmpty is the error about an existing database that holds something.
func (t TargetSpec) NotEmpty(holds string) error {
	return fault.New("target-not-empty", nil, "the database %s is not empty: it holds %s", t.Name, holds).
		Advise("restore into an empty one, or leave --into out: a new database is made then")
}

// Fillable checks that tables are there and have no rows.
func (t TargetSpec) Fillable(tables []string, hasRows func(id string) (bool, error)) error {
	for _, id := range tables {
		rows, err := hasRows(id)
		if err != nil {
			return fault.New("target-lacks-table", err, "the table %s of %s cannot be filled", id, t.Name).
				Advise("restore the structure first: --part structure")
		}
		if rows {
			return fault.New("target-not-empty", nil, "the table %s of %s has rows already", id, t.Name).
				Advise("empty it first; rows are never mixed with others")
		}
	}
	return nil
}
