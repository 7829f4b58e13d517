package mysql

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"

	"grainkeep/internal/engine"
)

// logReader takes the events of a server's log, up to a position.
type logReader struct {
	database  string
	tables    map[string]*engine.Table // those that are followed, by their names
	to        engine.ChangeSink
	from, end engine.Position
	byGTID    bool // the log is another server's: it is read from transaction ids on
	justBegan bool // only when the file was begun is wanted
	maria     bool
	logsKeys  bool // as source has it

	parser *replication.BinlogParser // of the log's own events
	sub    *replication.BinlogParser // of those within a compressed transaction
	ids    *logclient.MysqlGTIDSet   // of all transactions so far; nil: the server gives none
	domain uint32                    // MariaDB: of the transaction under way
	number uint64                    // and its number there

	domains map[uint32]uint64 // MariaDB: the last number seen in each

	file   string // that is being read
	next   string // that comes after it, as its end says
	heads  int    // of files so far
	sums   bool   // its events have checksums
	begun  int64  // when it was, as Position has it
	inside bool   // of a transaction
	alone  bool   // the transaction is one statement (MariaDB)
	commit engine.Commit
	wrote  map[*engine.Table]bool    // by the transaction under way
	body   []byte                    // of an event of rows, without its head
	made   map[*engine.Table]*logged // that turn events of rows into statements

	done bool
	err  error
}

// checksum is the length of that of an event, in bytes.
const checksum = replication.BinlogChecksumLength

// standalone is the flag of a MariaDB transaction that is one statement.
const standalone = 1

var errSeen = errors.New("enough of the log was seen")

// prepare makes ready to take events.
func (r *logReader) prepare() {
	flavor := logclient.MySQLFlavor
	if r.maria {
		flavor = logclient.MariaDBFlavor
	}
	r.domains, r.wrote, r.file = map[uint32]uint64{}, map[*engine.Table]bool{}, r.from.File
	r.made = map[*engine.Table]*logged{}
	r.parser, r.sub = replication.NewBinlogParser(), replication.NewBinlogParser()
	for _, p := range []*replication.BinlogParser{r.parser, r.sub} {
		p.SetFlavor(flavor)
		p.SetRowsEventDecodeFunc(r.headOnly)
	}
}

// headOnly reads the head of an event of rows, and leaves the rows for later.
func (r *logReader) headOnly(e *replication.RowsEvent, data []byte) error {
	at, err := e.DecodeHeader(data)
	if err == nil {
		r.body = data[at:]
	}
	return err
}

// HandleEvent implements replication.EventHandler.
func (r *logReader) HandleEvent(raw *replication.BinlogEvent) error {
	if r.done || r.err != nil {
		return errSeen
	}
	if err := r.event(raw); err != nil {
		if !errors.Is(err, errSeen) {
			r.err = err
		}
		return errSeen
	}
	return nil
}

// event takes one event as it came.
func (r *logReader) event(raw *replication.BinlogEvent) error {
	h := raw.Header
	if h.EventType == replication.TRANSACTION_PAYLOAD_EVENT {
		body := raw.RawData[replication.EventHeaderSize:]
		if r.sums {
			body = body[:max(0, len(body)-checksum)]
		}
		if err := r.payload(h, body); err != nil {
			return err
		}
	} else {
		e, err := r.parser.Parse(raw.RawData)
		if err != nil {
			return unreadable(h, err)
		}
		if h.EventType == replication.FORMAT_DESCRIPTION_EVENT {
			if err := r.begins(raw, e); err != nil {
				return err
			}
		}
		if err := r.take(h, e.Event); err != nil {
			return err
		}
	}
	if len(r.tables) == 0 && !r.justBegan { // nothing is followed any more
		r.done = true
		return errSeen
	}
	return r.reached(h)
}

func unreadable(h *replication.EventHeader, err error) error {
	return engine.Unusable("an event of the log (%s) cannot be read: %v", h.EventType, err)
}

// begins takes the head of a log file, which says when it was begun.
func (r *logReader) begins(raw *replication.BinlogEvent, e *replication.BinlogEvent) error {
	inside := bytes.Clone(raw.RawData) // within a compressed transaction events have no checksums
	if at := len(inside) - checksum - 1; at >= replication.EventHeaderSize {
		r.sums = inside[at] == byte(replication.BINLOG_CHECKSUM_ALG_CRC32)
		inside[at] = byte(replication.BINLOG_CHECKSUM_ALG_OFF)
	}
	if _, err := r.sub.Parse(inside); err != nil {
		return unreadable(raw.Header, err)
	}
	r.begun = int64(e.Header.Timestamp)
	if r.justBegan {
		r.end.Began, r.done = r.begun, true
		return errSeen
	}
	if !r.byGTID && r.file == r.from.File && r.from.Began != 0 && r.from.Began != r.begun {
		return engine.Unusable("the server's log was begun anew since: %s is another file than it was", r.file)
	}
	return nil
}

// reached ends the reading once the log was read up to the snapshot's position.
func (r *logReader) reached(h *replication.EventHeader) error {
	if r.inside || r.file != r.end.File {
		return nil
	}
	at := int64(h.LogPos)
	switch h.EventType {
	case replication.ROTATE_EVENT:
		return nil
	case replication.FORMAT_DESCRIPTION_EVENT:
		if r.file == r.from.File { // the head of a file of which more was read before has no place of its own
			return nil
		}
	}
	if at < r.end.Offset || h.Flags&replication.LOG_EVENT_ARTIFICIAL_F != 0 && h.EventType != replication.HEARTBEAT_EVENT {
		return nil
	}
	if r.begun != 0 && r.end.Began != 0 && r.begun != r.end.Began {
		return engine.Unusable("the log file %s is another one than it was when the snapshot was taken", r.file)
	}
	if at > r.end.Offset && h.EventType != replication.HEARTBEAT_EVENT {
		return engine.Unusable("no transaction of the log ends where the snapshot stands (%s:%d)", r.end.File, r.end.Offset)
	}
	r.done = true
	return errSeen
}

// payload takes the events of a transaction that was written in compressed form. Their own places mean nothing: all of
// them are where the whole is.
func (r *logReader) payload(whole *replication.EventHeader, body []byte) error {
	packed, err := payloadOf(body)
	if err != nil {
		return err
	}
	events, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return err
	}
	defer events.Close()
	for {
		event := make([]byte, replication.EventHeaderSize)
		if _, err := io.ReadFull(events, event); err == io.EOF {
			return nil
		} else if err != nil {
			return engine.Unusable("a compressed transaction of the log cannot be read: %v", err)
		}
		length := binary.LittleEndian.Uint32(event[9:])
		if length < uint32(len(event)) || length > mostEvent {
			return engine.Unusable("a compressed transaction of the log has an event of %d bytes", length)
		}
		event = append(event, make([]byte, int(length)-len(event))...)
		if _, err := io.ReadFull(events, event[replication.EventHeaderSize:]); err != nil {
			return engine.Unusable("a compressed transaction of the log cannot be read: %v", err)
		}
		e, err := r.sub.Parse(event)
		if err != nil {
			return engine.Unusable("an event of a compressed transaction cannot be read: %v", err)
		}
		e.Header.LogPos = whole.LogPos
		if err := r.take(e.Header, e.Event); err != nil {
			return err
		}
	}
}

// mostEvent bounds an event, in bytes: the server writes no larger one.
const mostEvent = 1<<30 + 1<<20

// payloadOf gives the compressed events out of such a transaction.
func payloadOf(body []byte) ([]byte, error) {
	const endMark, compression, none = 0, 2, 255
	broken := engine.Unusable("a compressed transaction of the log cannot be read")
	for {
		kind, _, n := logclient.LengthEncodedInt(body)
		if n == 0 || n > len(body) {
			return nil, broken
		}
		if body = body[n:]; kind == endMark {
			return body, nil
		}
		length, _, n := logclient.LengthEncodedInt(body)
		if n == 0 || uint64(len(body)) < uint64(n)+length {
			return nil, broken
		}
		value := body[n : uint64(n)+length]
		if body = body[uint64(n)+length:]; kind == compression {
			if how, _, _ := logclient.LengthEncodedInt(value); how == none {
				return nil, engine.Unusable("a transaction of the log is packed in an unknown way")
			}
		}
	}
}

// take takes an event.
func (r *logReader) take(h *replication.EventHeader, event replication.Event) error {
	switch e := event.(type) {
	case *replication.RotateEvent:
		return r.turns(h, e)
	case *replication.FormatDescriptionEvent:
		r.started(e)
	case *replication.PreviousGTIDsEvent:
		return r.hadAll(e.GTIDSets)
	case *replication.MariadbGTIDListEvent:
		return r.hadAllDomains(e.GTIDs)
	case *replication.GTIDEvent:
		return r.begin(h, e)
	case *replication.GtidTaggedLogEvent:
		return r.begin(h, &e.GTIDEvent)
	case *replication.MariadbGTIDEvent:
		r.start(h)
		r.alone = e.Flags&standalone != 0
		r.domain, r.number = e.GTID.DomainID, e.GTID.SequenceNumber
		r.commit.ID = fmt.Sprintf("%d-%d-%d", e.GTID.DomainID, e.GTID.ServerID, e.GTID.SequenceNumber)
	case *replication.QueryEvent:
		return r.query(h, e)
	case *replication.XIDEvent:
		return r.finish(h)
	case *replication.RowsEvent:
		return r.rowsOf(h, e)
	case *replication.ExecuteLoadQueryEvent, *replication.BeginLoadQueryEvent:
		r.loseAll("a session logged statements in the place of rows")
	case *replication.GenericEvent:
		switch h.EventType {
		case replication.XA_PREPARE_LOG_EVENT:
			r.loseWritten("a transaction was prepared, to be committed later")
			return r.finish(h)
		case replication.INCIDENT_EVENT:
			r.loseAll("the server says that its log lacks something")
		}
	}
	return nil
}

// start begins a transaction.
func (r *logReader) start(h *replication.EventHeader) {
	r.commit = engine.Commit{Time: time.Unix(int64(h.Timestamp), 0).UTC()}
	r.inside, r.alone = true, false
	clear(r.wrote)
	for _, c := range r.made {
		clear(c.twice)
	}
}

// begin begins a transaction of MySQL, which says when it was committed.
func (r *logReader) begin(h *replication.EventHeader, e *replication.GTIDEvent) error {
	r.start(h)
	if e.ImmediateCommitTimestamp > 0 {
		r.commit.Time = time.UnixMicro(int64(e.ImmediateCommitTimestamp)).UTC()
	}
	if h.EventType == replication.ANONYMOUS_GTID_EVENT {
		return nil
	}
	id, err := uuid.FromBytes(e.SID)
	if err != nil {
		return unreadable(h, err)
	}
	r.commit.ID = fmt.Sprintf("%s:%d", id, e.GNO)
	if tag := e.Tag.String(); tag != "" {
		r.commit.ID = fmt.Sprintf("%s:%s:%d", id, tag, e.GNO)
	}
	if r.ids != nil {
		r.ids.AddGTIDWithTag(id, e.Tag, e.GNO)
	}
	return nil
}

// finish ends the transaction under way.
func (r *logReader) finish(h *replication.EventHeader) error {
	r.inside = false
	if r.number > 0 {
		r.domains[r.domain] = max(r.domains[r.domain], r.number)
	}
	if r.to == nil {
		return nil
	}
	if r.maria { // it says when in the last event
		r.commit.Time = time.Unix(int64(h.Timestamp), 0).UTC()
	}
	r.commit.Position = place(r.file, h.LogPos)
	return r.to.Commit(r.commit)
}

// lose says of a table that it is not followed any more.
func (r *logReader) lose(t *engine.Table, why string) {
	if t != nil && r.tables[t.Name] != nil {
		delete(r.tables, t.Name)
		r.to.Lose(t, why)
	}
}

func (r *logReader) loseAll(why string) {
	for _, t := range r.tables {
		r.lose(t, why)
	}
}

// loseActed gives up the tables whose rows foreign keys change.
func (r *logReader) loseActed(why string) {
	for _, t := range r.tables {
		if t.Handle.(*handle).acted {
			r.lose(t, why)
		}
	}
}

func (r *logReader) loseWritten(why string) {
	for t := range r.wrote {
		r.lose(t, why)
	}
}

// query takes a statement of the log. None is ever run: what it does to the rows of a table is not known, so the tables
// that it may mean are not followed any more.
func (r *logReader) query(h *replication.EventHeader, e *replication.QueryEvent) error {
	s := logStatement(string(e.Query))
	switch s.does {
	case begins:
		if !r.inside {
			r.start(h)
		}
		return nil
	case commits:
		return r.finish(h)
	case rollsBack:
		r.loseWritten("a transaction was rolled back after tables without transactions had changed")
		return r.finish(h)
	case rollsBackTo:
		r.loseWritten("a transaction was rolled back to a savepoint that the log shows")
		return nil
	case staysInside, preparesLater:
		return nil
	case commitsPrepared:
		r.loseAll("a transaction was committed that had been prepared before")
	case changesRows:
		r.loseAll("a session logged statements in the place of rows")
		if r.inside && !r.alone { // its end comes as an event of its own
			return nil
		}
	case changesTables:
		for _, t := range r.tables {
			if s.mayMean(string(e.Schema), r.database, t.Name) {
				r.lose(t, "its structure was changed, or it was emptied: "+strings.ToLower(s.word))
			}
		}
	}
	return r.finish(h)
}
