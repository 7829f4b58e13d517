package files

import (
	"io"
	"slices"
	"strings"
)

// Past is what a chain of dumps says of a folder: the index of its full, and what those after it say otherwise. What
// it takes is memory for the changes, not for the folder. It is used by one goroutine.
type Past struct {
	later map[string]later
	after []Line // of later, what is there, in the order of a walk
	full  texts
	next  *Line // of the full, read ahead
	last  string
}

// later is what a dump after the full says of an entry.
type later struct {
	dump int   // 1: the first after the full
	line *Line // nil: it is gone
}

// NewPast begins with nothing but a full.
func NewPast() *Past { return &Past{later: map[string]later{}} }

// Apply takes what the dump of a number says: what went, and the index of what came or changed.
func (p *Past) Apply(dump int, gone, index io.Reader) error {
	list := newTexts(gone)
	for {
		name, more, err := list.next()
		if err != nil {
			return damaged("the list of what is gone: %v", err)
		}
		if !more {
			break
		}
		name = strings.TrimPrefix(name, "./")
		if err := checkName(name); err != nil {
			return damaged("the list of what is gone: %v", err)
		}
		p.later[name] = later{dump: dump}
	}
	lines := newTexts(index)
	for {
		l, err := nextLine(lines)
		if err != nil || l == nil {
			return err
		}
		p.later[l.Name] = later{dump, l}
	}
}

// nextLine gives the next line of an index; nil at its end.
func nextLine(lines texts) (*Line, error) {
	text, more, err := lines.next()
	if err != nil {
		return nil, damaged("the index: %v", err)
	}
	if !more {
		return nil, nil
	}
	l, err := parseLine(text)
	if err != nil {
		return nil, damaged("%v", err)
	}
	return &l, nil
}

// Holds says whether the dump of a number (0: the full) is the one that holds an entry as it was in the end.
func (p *Past) Holds(dump int, name string) bool {
	l, changed := p.later[name]
	if !changed {
		return dump == 0
	}
	return l.dump == dump && l.line != nil
}

// Begin makes the index of the full known, after all that came later.
func (p *Past) Begin(full io.Reader) error {
	p.full = newTexts(full)
	for _, l := range p.later {
		if l.line != nil {
			p.after = append(p.after, *l.line)
		}
	}
	slices.SortFunc(p.after, func(a, b Line) int { return before(a.Name, b.Name) })
	return p.ahead()
}

// ahead reads the next line of the full that still holds.
func (p *Past) ahead() error {
	for {
		l, err := nextLine(p.full)
		if err != nil {
			return err
		}
		p.next = l
		if l == nil {
			return nil
		}
		if p.last != "" && before(p.last, l.Name) >= 0 {
			return damaged("the index is not in order at %.80q", l.Name)
		}
		p.last = l.Name
		if _, changed := p.later[l.Name]; !changed {
			return nil
		}
	}
}

// Next gives the entries as they were in the end, in the order of a walk; nil after the last.
func (p *Past) Next() (*Line, error) {
	if len(p.after) > 0 && (p.next == nil || before(p.after[0].Name, p.next.Name) < 0) {
		l := p.after[0]
		p.after = p.after[1:]
		return &l, nil
	}
	l := p.next
	if l == nil {
		return nil, nil
	}
	return l, p.ahead()
}

// lookup walks along with a tree.
type lookup struct {
	past *Past
	at   *Line
	gone func(name string) error
}

// find gives what was known of a name, and tells of what came before it and is gone. Names come in the order of a walk.
func (l *lookup) find(name string) (*Line, error) {
	for l.at != nil {
		switch c := before(l.at.Name, name); {
		case c > 0:
			return nil, nil
		case c == 0:
			found := l.at
			return found, l.step()
		}
		if err := l.gone(l.at.Name); err != nil {
			return nil, err
		}
		if err := l.step(); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

func (l *lookup) step() (err error) {
	l.at, err = l.past.Next()
	return err
}

// rest tells of all that is left.
func (l *lookup) rest() error {
	for l.at != nil {
		if err := l.gone(l.at.Name); err != nil {
			return err
		}
		if err := l.step(); err != nil {
			return err
		}
	}
	return nil
}
