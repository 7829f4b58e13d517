package engine

import "grainkeep/internal/fault"

// Occupied says why a database that exists on a server cannot be taken the place of:
// nobody said so, or sessions use it. It is nil where it can.
func Occupied(t TargetSpec, where string, sessions int) error {
	switch {
	case !t.Replace:
		return fault.New("target-exists", nil, "the database %s exists already at %s", t.Name, where).
			Advise("restore under another name with --as NAME, or add --replace: the old one is then renamed, not deleted")
	case sessions == 1:
		return inUse("a session uses the database %s at %s", t.Name, where)
	case sessions > 1:
		return inUse("%d sessions use the database %s at %s", sessions, t.Name, where)
	}
	return nil
}

func inUse(format string, args ...any) error {
	return fault.New("target-in-use", nil, format, args...).Advise("stop the application that uses it, then try again; nothing was changed")
}
