package payload

import (
	"fmt"
	"slices"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// Layer is what one dump of a chain has of a table's rows.
type Layer struct {
	Files *Reader
	Table manifest.Table
}

// Chain reads the payloads of a database's chain, from its full on. What its last dump does not hold itself, it finds
// in those before.
type Chain struct {
	dumps     []*keep.Dump
	readers   []*Reader
	tables    []map[string]manifest.Table // of each dump, by ID
	Structure *Reader                     // of the newest dump that has the objects
}

// NewChain reads the chain of a database.
func NewChain(dumps []*keep.Dump) (*Chain, error) {
	c := &Chain{dumps: dumps}
	for _, d := range dumps {
		if d.Manifest.Payload.SQL == nil {
			return nil, fault.New("payload-unknown", nil, "the dump %s holds no database", d.Name())
		}
		r := newReader(d)
		c.readers, c.tables = append(c.readers, r), append(c.tables, d.Manifest.Payload.SQL.ByID())
		if hasObjects(d) {
			c.Structure = r
		}
	}
	if c.Structure == nil {
		return nil, Damage(dumps[0], "it has no list of objects")
	}
	last := c.Last()
	if of := c.Structure.d.Manifest.Payload.SQL.Catalog; of != last.Manifest.Payload.SQL.Catalog {
		return nil, Damage(last, "no dump of its chain has its objects")
	}
	return c, nil
}

// Before is a table as it was before the chain's last dump.
func (c *Chain) Before(id string) manifest.Table {
	if n := len(c.tables); n > 1 {
		return c.tables[n-2][id]
	}
	return manifest.Table{}
}

// NewReader reads the payload of a database's dump.
func NewReader(d *keep.Dump) (*Reader, error) {
	if d.Manifest.Payload.SQL == nil {
		return nil, fault.New("payload-unknown", nil, "the dump %s holds no database", d.Name())
	}
	return newReader(d), nil
}

// Last is the dump that the chain ends with.
func (c *Chain) Last() *keep.Dump { return c.dumps[len(c.dumps)-1] }

// hasObjects says whether a dump has the objects itself.
func hasObjects(d *keep.Dump) bool {
	return slices.ContainsFunc(d.Manifest.Files, func(f manifest.File) bool { return f.Path == objectsOf(d) })
}

// Layers gives what makes a table of the chain's end: first the dump that has all its rows, then those that changed
// them, in order. What the log told before ranges were compared is not among them: these are changes of the rows as
// they were when they had been read last.
func (c *Chain) Layers(id string) (list []Layer, err error) {
	compared := false
	for i, d := range slices.Backward(c.dumps) {
		t, ok := c.tables[i][id]
		if !ok {
			return nil, Damage(c.Last(), fmt.Sprintf("the rows of %.80q lie in %s, which has no such table", id, d.Short()))
		}
		if len(list) > 0 && list[0].Table.Shape != t.Shape {
			return nil, Damage(c.Last(), fmt.Sprintf("the rows of %.80q lie in %s, where it was made otherwise", id,
				d.Short()))
		}
		if t.Change == manifest.Logged && compared {
			continue
		}
		compared = compared || t.Change == manifest.Ranges
		list = append([]Layer{{c.readers[i], t}}, list...)
		if t.Change == manifest.Whole {
			return list, nil
		}
	}
	return nil, Damage(c.Last(), fmt.Sprintf("no dump of its chain has all rows of %.80q", id))
}

// LoadOrder lists every file of the chain that is to be loaded, in order: what is before the rows, the rows, the keys,
// the changes, the references, what the log tells, and what comes after. The folder of a dump stands before its files.
func (c *Chain) LoadOrder(folder func(*keep.Dump) string) (list []string, err error) {
	sections := func(of ...engine.Section) {
		for _, s := range of {
			path := string(s) + ".sql" + blob.Compression(c.Structure.d.Manifest.Compression).Ending()
			if c.Structure.Has(s) {
				list = append(list, folder(c.Structure.d)+path)
			}
		}
	}
	sections(engine.Schema)
	var changes []string
	all := map[string][]Layer{}
	for _, t := range c.Last().Manifest.Tables() {
		layers, err := c.Layers(t.ID)
		if err != nil {
			return nil, err
		}
		all[t.ID] = layers
		for i, x := range layers {
			where := folder(x.Files.d)
			for _, f := range x.Table.Gone {
				changes = append(changes, where+f)
			}
			for _, f := range x.Table.Files {
				if i == 0 {
					list = append(list, where+f)
				} else {
					changes = append(changes, where+f)
				}
			}
		}
	}
	sections(engine.Keys)
	list = append(list, changes...)
	sections(engine.References)
	lanes, err := c.Streams(all)
	if err != nil {
		return nil, err
	}
	for _, lane := range lanes {
		for _, x := range lane {
			for _, f := range x.Of.Files {
				list = append(list, folder(x.Files.d)+f)
			}
		}
	}
	sections(engine.Finish, engine.Owners, engine.Active)
	return list, nil
}
