package payload

import (
	"context"
	"fmt"
	"io"
	"slices"

	"grainkeep/internal/manifest"
)

// Transactions are what one dump of a chain has of a stream of the server's log.
type Transactions struct {
	Files *Reader
	Of    manifest.Changes
	Rows  map[string]int64 // that they touch, by table
	Last  bool             // the dump is the chain's last
}

// Streams gives what the log tells of some tables after their rows, and the ranges that changed, are there: lanes that
// have nothing to do with each other, each in order.
func (c *Chain) Streams(layers map[string][]Layer) (lanes [][]Transactions, err error) {
	lane := newTies()
	var all []Transactions
	for i, r := range c.readers {
		log := r.d.Manifest.Payload.SQL.Log
		if log == nil {
			continue
		}
		for _, s := range log.Streams {
			x := Transactions{Files: r, Of: s, Rows: map[string]int64{}, Last: i == len(c.readers)-1}
			for _, id := range s.Tables {
				at := slices.IndexFunc(layers[id], func(l Layer) bool { return l.Files == r })
				if at < 0 {
					continue
				}
				n := layers[id][at].Table.Counts
				x.Rows[id] = n.Written + n.Removed
				lane.tie(s.Tables[0], id)
			}
			if len(x.Rows) > 0 {
				all = append(all, x)
			}
		}
	}
	place := map[string]int{}
	for _, x := range all {
		group := lane.group(x.Of.Tables[0])
		n, ok := place[group]
		if !ok {
			n = len(lanes)
			place[group] = n
			lanes = append(lanes, nil)
		}
		lanes[n] = append(lanes[n], x)
	}
	return lanes, nil
}

// Together are the tables that the log ties to some, in what of it the chain needs: their rows change with theirs.
func (c *Chain) Together(wanted map[string]bool) map[string]bool {
	all := map[string]bool{}
	for id, is := range wanted {
		all[id] = is
	}
	for grown := true; grown; {
		grown = false
		for i, r := range c.readers {
			log := r.d.Manifest.Payload.SQL.Log
			if log == nil {
				continue
			}
			for _, s := range log.Streams {
				if !slices.ContainsFunc(s.Tables, func(id string) bool { return all[id] && needed(c.tables, id, i) }) {
					continue
				}
				for _, id := range s.Tables {
					if !all[id] {
						all[id], grown = true, true
					}
				}
			}
		}
	}
	return all
}

// EachTransaction reads the list of the transactions that a dump has from the server's log.
func (r *Reader) EachTransaction(ctx context.Context, each func(manifest.Transaction) error) error {
	log := r.d.Manifest.Payload.SQL.Log
	if log == nil {
		return nil
	}
	var wrong error
	count := int64(0)
	err := Whole(ctx, r.d, log.File, func(text io.Reader) error {
		wrong = manifest.ReadTransactions(text, func(t manifest.Transaction) error {
			count++
			return each(t)
		})
		return nil
	})
	switch {
	case err != nil:
		return err
	case wrong != nil:
		return Damage(r.d, "its list of transactions cannot be read: "+wrong.Error())
	case count != log.Transactions:
		return Damage(r.d, fmt.Sprintf("its list has %d transactions, and there are %d", count, log.Transactions))
	}
	return nil
}
