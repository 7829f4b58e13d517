package mysql

import (
	"testing"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
	"github.com/stretchr/testify/require"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// TestFilesOfTheLogFollowEachOther: the file that comes is the one that the end of the last names, or, where that was cut
// off, the one of the next number. The first is whatever it is.
func TestFilesOfTheLogFollowEachOther(t *testing.T) {
	for name, next := range map[string]string{"bin.000009": "bin.000010", "a.b.999999": "a.b.1000000", "bin.x": "", "bin": ""} {
		require.Equal(t, next, fileAfter(name))
	}
	real, shown := &replication.EventHeader{Timestamp: 1}, &replication.EventHeader{Flags: replication.LOG_EVENT_ARTIFICIAL_F}
	comes := func(r *logReader, h *replication.EventHeader, name string) error {
		return r.turns(h, &replication.RotateEvent{NextLogName: []byte(name)})
	}
	for _, c := range []struct {
		named, comes string
		good         bool
	}{{"bin.000002", "bin.000002", true}, {"bin.000002", "bin.000003", false}, {"", "bin.000002", true}, {"", "bin.000003", false},
		{"other.000001", "other.000001", true}, {"", "bin.000001", true}} {
		r := &logReader{file: "bin.000001"}
		require.NoError(t, comes(r, shown, "bin.000001"))
		r.heads = 1
		if c.named != "" {
			require.NoError(t, comes(r, real, c.named))
			require.Equal(t, "bin.000001", r.file)
		}
		err := comes(r, shown, c.comes)
		require.Equal(t, c.good, err == nil, "%v", c)
		if !c.good {
			require.True(t, fault.HasCode(err, engine.LogDoubted))
		}
	}
}

// TestHeadsOfFilesTellWhatWasBefore: transactions that the server had before a file, and of which the log did not tell, are
// missing. The file in which the reading begins says nothing.
func TestHeadsOfFilesTellWhatWasBefore(t *testing.T) {
	r := &logReader{from: engine.Position{GTID: "0-1-10,3-1-5"}, domains: map[uint32]uint64{0: 12}}
	at := func(domain uint32, n uint64) []logclient.MariadbGTID {
		return []logclient.MariadbGTID{{DomainID: domain, ServerID: 1, SequenceNumber: n}}
	}
	require.NoError(t, r.hadAllDomains(at(0, 99)))
	r.heads = 2
	require.NoError(t, r.hadAllDomains(at(0, 12)))
	require.NoError(t, r.hadAllDomains(at(3, 5)))
	require.ErrorContains(t, r.hadAllDomains(at(0, 13)), "0-1-13")
	require.Error(t, r.hadAllDomains(at(3, 6)))
	require.Error(t, r.hadAllDomains(at(7, 1)))

	const server = "3e11fa47-71ca-11e1-9e33-c80aa9429562"
	set, err := logclient.ParseMysqlGTIDSet(server + ":1-10")
	require.NoError(t, err)
	m := &logReader{heads: 2, ids: set.(*logclient.MysqlGTIDSet)}
	require.NoError(t, m.hadAll(server+":1-10"))
	require.Error(t, m.hadAll(server+":1-11"))
}
