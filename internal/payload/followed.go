package payload

import (
	"context"
	"errors"
	"fmt"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
)

// ties are groups of tables that change together, and why some cannot be followed.
type ties struct {
	parent map[string]string
	lost   map[string]string // by table, why
	blamed map[string]string // by group, the first table of it that is lost; nil: it is to be found
}

func newTies() *ties { return &ties{parent: map[string]string{}, lost: map[string]string{}} }

// group is what all tables of a group have in common.
func (t *ties) group(id string) string {
	for t.parent[id] != "" {
		id = t.parent[id]
	}
	return id
}

// tie makes one group of two.
func (t *ties) tie(a, b string) {
	if a, b = t.group(a), t.group(b); a != b {
		t.parent[max(a, b)], t.blamed = min(a, b), nil
	}
}

// lose says that a table cannot be followed.
func (t *ties) lose(id, why string) {
	if t.lost[id] == "" {
		t.lost[id], t.blamed = why, nil
	}
}

// why says why a table cannot be followed: for its own sake, or for that of one of its group.
func (t *ties) why(id string) string {
	if why := t.lost[id]; why != "" {
		return why
	}
	if t.blamed == nil {
		t.blamed = map[string]string{}
		for other := range t.lost {
			if group := t.group(other); t.blamed[group] == "" || other < t.blamed[group] {
				t.blamed[group] = other
			}
		}
	}
	by := t.blamed[t.group(id)]
	if by == "" {
		return ""
	}
	return "it changes together with " + by + ", which cannot be followed"
}

// follow takes from the server's log what changed since the base, as far as the log tells it, and says of each table
// why it does not; empty: it does.
func (s *SQL) follow(ctx context.Context) error {
	follower, can := s.Snapshot.(engine.Follower)
	base := s.base()
	if !s.Log || !can || base == nil || s.out.Found == manifest.ByState {
		return nil
	}
	from := s.Base[len(s.Base)-1].Manifest.To
	if from == nil { // the engine says what that means, or what else is in the way
		from = &engine.Position{}
	}
	t := s.ties()
	var tables []*engine.Table
	for i := range s.Catalog.Tables {
		if table := &s.Catalog.Tables[i]; t.why(table.ID) == "" {
			tables = append(tables, table)
		}
	}
	if len(tables) == 0 {
		s.unfollowed(t)
		s.out.NoLog = "it tells of none of the tables"
		for i := range s.Catalog.Tables { // the first that it could tell of
			if table := &s.Catalog.Tables[i]; table.NotInLog == "" {
				s.out.NoLog += "; of " + table.ID + ": " + s.noLog[table.ID]
				break
			}
		}
		return nil
	}
	l := s.newLogged(ctx, tables, t, follower.LogHead())
	l.moment = s.Snapshot.Moment()
	err := follower.Follow(ctx, *from, tables, l)
	if err == nil && !s.OnlyLog { // what is taken for the log's sake is held against all rows, and must not be mended before
		err = l.look(ctx, *from)
	}
	if s.Doubted = fault.HasCode(err, engine.LogDoubted); s.Doubted || fault.HasCode(err, engine.LogUnusable) {
		_, e := l.finish(err)
		if e != nil && !errors.Is(e, err) {
			return e
		}
		if s.out.NoLog = fault.Of(err).Error(); s.OnlyLog {
			return err
		}
		return nil
	}
	log, err := l.finish(err)
	if err != nil {
		return err
	}
	s.out.Log, s.out.Found = log, manifest.ByLog
	if l.ahead > 0 {
		s.Remarks = append(s.Remarks, fmt.Sprintf("in the server's log, %s committed at a time that was still to come when this dump "+
			"was taken (a session's own, SET timestamp): 'restore --at' with a time stops before the first of them; name a "+
			"transaction for what is behind it", map[bool]string{true: "one transaction was", false: "some transactions were"}[l.ahead == 1]))
	}
	s.unfollowed(t)
	s.reckon(l, t)
	return nil
}

// sameServer says whether the log is that of the server that wrote the base's.
func (s *SQL) sameServer() bool {
	was, is := s.Base[len(s.Base)-1].Manifest.To, s.Catalog.Position
	return was == nil || is == nil || was.System == is.System
}

// ties looks which tables change together, and which of them cannot be followed from the base on.
func (s *SQL) ties() *ties {
	t := newTies()
	there := map[string]*engine.Table{}
	for i := range s.Catalog.Tables {
		there[s.Catalog.Tables[i].ID] = &s.Catalog.Tables[i]
	}
	for _, table := range there {
		was, ok := s.past[table.ID]
		switch {
		case !ok:
			t.lose(table.ID, "it is new")
		case was.Shape != s.shape(table):
			t.lose(table.ID, "it is made otherwise than it was")
		case table.Condition != "":
			t.lose(table.ID, "the job takes some of its rows")
		case table.NotInLog != "":
			t.lose(table.ID, table.NotInLog)
		case was.Made != table.Made && s.sameServer():
			t.lose(table.ID, "it was made anew or rewritten, how its rows are logged was changed, or it is told of only from now on")
		}
		for _, other := range table.Tied {
			if t.tie(table.ID, other); there[other] == nil {
				t.lose(table.ID, "a foreign key ties it to a table that is not dumped")
			}
		}
	}
	// What streams of the chain hold together goes together, as long as they are needed.
	for i, d := range s.Base {
		log := d.Manifest.Payload.SQL.Log
		if log == nil {
			continue
		}
		for _, c := range log.Streams {
			for _, id := range c.Tables {
				if !needed(s.tables, id, i) {
					continue
				}
				t.tie(c.Tables[0], id)
				if there[id] == nil {
					t.lose(id, "it is gone")
				}
			}
		}
	}
	return t
}

// needed says whether the transactions that a dump of a chain has of a table are what its rows are made with: they
// are not where a later dump has its rows, or the ranges that changed since. The tables are each dump's, by ID.
func needed(tables []map[string]manifest.Table, id string, dump int) bool {
	for i := len(tables) - 1; i > dump; i-- {
		if t, ok := tables[i][id]; ok && (t.Change == manifest.Whole || t.Change == manifest.Ranges) {
			return false
		}
	}
	return true
}

// unfollowed notes why tables are not followed.
func (s *SQL) unfollowed(t *ties) {
	s.noLog = map[string]string{}
	for i := range s.Catalog.Tables {
		if id := s.Catalog.Tables[i].ID; t.why(id) != "" {
			s.noLog[id] = t.why(id)
		}
	}
}

// reckon says of the tables that were followed what the dump has of them, and how many rows they may have now: what
// foreign keys did to rows the log does not tell.
func (s *SQL) reckon(l *logged, t *ties) {
	s.followed = map[string]manifest.Table{}
	for id, x := range l.of {
		if t.why(id) != "" {
			continue
		}
		m := s.past[id]
		m.Files, m.Gone, m.Ranges, m.OnBase, m.Counts, m.NoLog = []string{}, nil, nil, false, nil, ""
		m.Change = manifest.Unchanged
		if len(x.files) > 0 && x.told[id].changed() {
			m = x.told[id].of(m)
		}
		if c := l.seen[id]; c != nil && m.Sum == "" {
			m.Sum, m.Bytes = c.Sum.String(), c.Bytes
		}
		s.followed[id] = m
	}
}
