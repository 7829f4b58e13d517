// Package rows is rows as text: framing, counting, fingerprints, and the one loop over
// readers.
package rows

import (
	"io"

	"grainkeep/internal/engine"
)

// Table writes rows to a file, framed so that the server's own client can load it.
type Table struct {
	w       io.Writer
	frame   engine.Framing
	rowEnd  []byte
	group   int  // bytes in the current group
	inGroup bool // a group is open
	pending bool // a row is finished whose end is not written yet
	partial bool // in the middle of a row
}

// NewTable starts a table.
func NewTable(w io.Writer, frame engine.Framing) (*Table, error) {
	t := &Table{w: w, frame: frame, rowEnd: []byte(frame.RowEnd)}
	if frame.Always {
		return t, t.open()
	}
	return t, nil
}

func (t *Table) open() error {
	t.inGroup, t.group = true, 0
	return t.text(t.frame.Head)
}

func (t *Table) text(s string) error {
	if s == "" {
		return nil
	}
	_, err := io.WriteString(t.w, s)
	return err
}

// Row implements engine.Rows.
func (t *Table) Row(p []byte, more bool) error {
	if !t.partial {
		if err := t.between(); err != nil {
			return err
		}
	}
	t.partial = more
	t.pending = !more
	t.group += len(p)
	_, err := t.w.Write(p)
	return err
}

// between ends the row before and begins a group where one is due.
func (t *Table) between() error {
	if t.pending {
		if t.frame.Group == 0 || t.group < t.frame.Group {
			_, err := t.w.Write(t.rowEnd)
			return err
		}
		if err := t.text(t.frame.GroupEnd); err != nil {
			return err
		}
		t.inGroup = false
	}
	if !t.inGroup {
		return t.open()
	}
	return nil
}

// End finishes the table's text.
func (t *Table) End() error {
	if t.pending {
		if err := t.text(t.frame.GroupEnd); err != nil {
			return err
		}
	}
	return t.text(t.frame.Tail)
}
