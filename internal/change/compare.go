package change

import (
	"errors"
	"io"

	"grainkeep/internal/engine"
)

// Verdict says what becomes of a range of rows that was compared.
type Verdict bool

// The verdicts.
const (
	Kept  Verdict = false // the rows are as they were
	Write Verdict = true  // they, or some of them, are not
)

// Removal is rows of before that are to be removed.
type Removal struct {
	engine.Span
	Rows int64
}

// Comparison compares a table as it was with the table as it is, range by range, in one pass. It needs to know nothing
// of how keys compare: where an end of now is one of before, the two lists are in step again.
type Comparison struct {
	before Ranges
	out    *Writer
	remove func(Removal) error

	ahead  []Range        // ranges of before that were looked at and not passed yet
	where  map[string]int // their places among all of before, by their ends
	passed int            // ranges of before
	over   bool           // there are no more before
	inStep bool           // the last end of now was one of before
	step   string         // that end
	last   string         // the end of the last range, of both
	open   *Removal       // what is to be removed, as far as it is known
	look   int            // how many ranges of before are looked at for an end of now
}

// How far a comparison looks ahead, in ranges: first, and at most. Where more than that are gone at one place, it
// writes all that follows again.
const (
	firstAhead = 1 << 6
	maxAhead   = 1 << 16
)

// Compare begins a comparison of a span of a table. The list of now is written to out; remove is told of what is to be
// removed, in order.
func Compare(s engine.Span, before Ranges, out *Writer, remove func(Removal) error) *Comparison {
	return &Comparison{before: before, out: out, remove: remove, where: map[string]int{}, inStep: true, step: s.After,
		last: s.UpTo}
}

// Next takes the next range of now.
func (c *Comparison) Next(r Range) (Verdict, error) {
	if c.inStep {
		o, err := c.peek(0)
		if err != nil {
			return Write, err
		}
		if o != nil && o.End == r.End {
			c.pass(1)
			return c.inPlace(*o, r)
		}
		c.inStep, c.look = false, firstAhead
	}
	c.begin()
	if r.End == c.last {
		return Write, c.end(r)
	}
	at, err := c.find(r.End)
	if err != nil {
		return Write, err
	}
	if at >= 0 {
		for _, o := range c.ahead[:at+1] {
			c.open.Rows += o.Rows
		}
		if err := c.out.Gone(int64(at + 1)); err != nil {
			return Write, err
		}
		c.pass(at + 1)
		c.inStep, c.step = true, r.End
	}
	return Write, c.out.Add(r)
}

// inPlace compares two ranges with the same end, which follow the same end.
func (c *Comparison) inPlace(was, is Range) (Verdict, error) {
	if !was.same(is) {
		c.begin()
		c.open.Rows += was.Rows
		c.step = is.End
		if err := c.out.Gone(1); err != nil {
			return Write, err
		}
		if is.End == c.last {
			if err := c.flush(); err != nil {
				return Write, err
			}
		}
		return Write, c.out.Add(is)
	}
	if err := c.flush(); err != nil {
		return Kept, err
	}
	c.step = is.End
	return Kept, c.out.Stay(is)
}

// begin opens a removal after the last step.
func (c *Comparison) begin() {
	if c.open == nil {
		c.open = &Removal{Span: engine.Span{After: c.step}}
	}
}

// flush tells of the open removal, which ends at the last step.
func (c *Comparison) flush() error {
	if c.open == nil {
		return nil
	}
	gone := *c.open
	c.open = nil
	gone.UpTo = c.step
	if gone.Rows == 0 { // rows were added only
		return nil
	}
	return c.remove(gone)
}

// end takes the last range of now: all that was before goes.
func (c *Comparison) end(r Range) error {
	var gone int64
	for {
		o, err := c.peek(0)
		if err != nil {
			return err
		}
		if o == nil {
			break
		}
		gone++
		c.open.Rows += o.Rows
		c.pass(1)
	}
	if err := c.out.Gone(gone); err != nil {
		return err
	}
	c.step = c.last
	if err := c.flush(); err != nil {
		return err
	}
	return c.out.Add(r)
}

// peek gives the range of before at a place ahead; nil: there is none.
func (c *Comparison) peek(at int) (*Range, error) {
	for len(c.ahead) <= at && !c.over {
		r, err := c.before()
		if errors.Is(err, io.EOF) {
			c.over = true
			break
		}
		if err != nil {
			return nil, err
		}
		c.where[r.End] = c.passed + len(c.ahead)
		c.ahead = append(c.ahead, r)
	}
	if len(c.ahead) <= at {
		return nil, nil
	}
	return &c.ahead[at], nil
}

// find gives the place ahead of the range of before with an end; -1: it is none, or too far away.
func (c *Comparison) find(end string) (int, error) {
	if _, err := c.peek(c.look - 1); err != nil {
		return 0, err
	}
	c.look = min(2*c.look, maxAhead)
	if at, ok := c.where[end]; ok {
		return at - c.passed, nil
	}
	return -1, nil
}

// pass leaves ranges of before behind.
func (c *Comparison) pass(n int) {
	for _, r := range c.ahead[:n] {
		delete(c.where, r.End)
	}
	c.ahead = c.ahead[n:]
	c.passed += n
}
