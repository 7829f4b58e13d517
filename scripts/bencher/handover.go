package main

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"log/slog"
	"strconv"
	"strings"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"grainkeep/internal/testserver"
)

// logged is a server that writes a log: what is compared with is a reader that throws it away.
type logged struct {
	run   func(sql string) error
	mark  func() error // that reader begins here
	drain func() error // it reads up to now
}

// loggedMySQL is a server of MariaDB or MySQL.
func loggedMySQL(m *testserver.MySQL) logged {
	ctx := context.Background()
	place := func() (at logclient.Position, err error) {
		sql := "SHOW BINARY LOG STATUS"
		if m.Maria {
			sql = "SHOW MASTER STATUS"
		}
		text, err := m.Ask(ctx, "", sql)
		if fields := strings.Split(text, "|"); err == nil && len(fields) > 1 {
			var pos uint64
			pos, err = strconv.ParseUint(fields[1], 10, 32)
			at = logclient.Position{Name: fields[0], Pos: uint32(pos)}
		}
		return at, err
	}
	var from logclient.Position
	return logged{run: func(sql string) error { return m.Script(ctx, "bench", sql) },
		mark: func() (err error) { from, err = place(); return err },
		drain: func() error {
			end, err := place()
			if err != nil {
				return err
			}
			return throwAway(ctx, m, from, end)
		}}
}

// throwAway reads a log from one place to another, and does nothing with it.
func throwAway(ctx context.Context, m *testserver.MySQL, from, end logclient.Position) error {
	var id [4]byte
	if _, err := rand.Read(id[:]); err != nil {
		return err
	}
	flavor := logclient.MySQLFlavor
	if m.Maria {
		flavor = logclient.MariaDBFlavor
	}
	b := replication.NewBinlogSyncer(replication.BinlogSyncerConfig{ServerID: binary.LittleEndian.Uint32(id[:]) | 1<<31,
		Flavor: flavor, Host: "127.0.0.1", Port: uint16(m.Port), User: testserver.Admin, RawModeEnabled: true,
		Logger: slog.New(slog.DiscardHandler)})
	defer b.Close()
	s, err := b.StartSync(from)
	if err != nil {
		return err
	}
	for file := from.Name; ; {
		e, err := s.GetEvent(ctx)
		if err != nil {
			return err
		}
		if r, is := e.Event.(*replication.RotateEvent); is {
			file = string(r.NextLogName)
		}
		if file == end.Name && e.Header.LogPos >= end.Pos {
			return nil
		}
	}
}

// loggedPostgres is a server of PostgreSQL.
func loggedPostgres(p *testserver.Postgres, b *pgx.Conn) logged {
	ctx := context.Background()
	const slot = "thrown_away"
	return logged{run: func(sql string) error { _, err := b.Exec(ctx, sql); return err },
		mark: func() error {
			_, err := b.Exec(ctx, "SELECT pg_create_logical_replication_slot('"+slot+"', 'pgoutput')")
			return err
		},
		drain: func() error {
			var publication, end string
			err := b.QueryRow(ctx, "SELECT min(pubname)::text, pg_current_wal_lsn()::text FROM pg_publication").Scan(&publication, &end)
			if err != nil {
				return err
			}
			until, err := pglogrepl.ParseLSN(end)
			if err != nil {
				return err
			}
			cfg := p.Config("bench")
			cfg.RuntimeParams["replication"] = "database"
			c, err := pgconn.ConnectConfig(ctx, &cfg.Config)
			if err != nil {
				return err
			}
			if err := throwAwayPostgres(ctx, c, slot, publication, until); err != nil {
				return err
			}
			c.Close(ctx)
			_, err = b.Exec(ctx, "SELECT pg_drop_replication_slot('"+slot+"')")
			return err
		}}
}

func throwAwayPostgres(ctx context.Context, c *pgconn.PgConn, slot, publication string, until pglogrepl.LSN) error {
	err := pglogrepl.StartReplication(ctx, c, slot, 0, pglogrepl.StartReplicationOptions{PluginArgs: []string{
		"proto_version '1'", fmt.Sprintf("publication_names '%s'", publication)}})
	if err != nil {
		return err
	}
	for {
		message, err := c.ReceiveMessage(ctx)
		if err != nil {
			return err
		}
		m, is := message.(*pgproto3.CopyData)
		if !is || len(m.Data) == 0 || m.Data[0] != pglogrepl.PrimaryKeepaliveMessageByteID {
			continue
		}
		alive, err := pglogrepl.ParsePrimaryKeepaliveMessage(m.Data[1:])
		if err != nil || alive.ServerWALEnd >= until {
			return err
		}
		if err := pglogrepl.SendStandbyStatusUpdate(ctx, c, pglogrepl.StandbyStatusUpdate{ReplyRequested: true}); err != nil {
			return err
		}
	}
}
