package engine

import (
	"context"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// Upkeeper is a Source that can bring a restored database onward, from one dump to the next: all at once, or not at all.
type Upkeeper interface {
	// HeldBack are the kinds of objects that would act on rows while others are brought in. They come when the database is
	// released.
	HeldBack() []string
	// MarkSQL are the statements that mark a new database as one that is kept up, and say how far it has come.
	MarkSQL(mark string) []string
	// Marked gives the mark of a database; empty: it has none, or is not there.
	Marked(ctx context.Context, database string) (string, error)
	// Onward begins a session in whose one transaction everything happens. Whoever else is at the database is waited for, as
	// long as for any lock: for the server, one who was killed can be there for a while. It fails with the code MarkDiffers
	// where the database's mark is another one then.
	Onward(ctx context.Context, database, mark string) (UpkeepSession, error)
	// Release takes the mark off, and lets the database be written.
	Release(ctx context.Context, database string) error
	// Readable says why sessions of others may write to the database though it is kept up; empty: they may not.
	Readable(ctx context.Context, database string) (string, error)
}

// MarkDiffers is the code of the error about a database that is not where it was thought to be.
const MarkDiffers = "mark-differs"

// Contended is the error about a database that somebody else kept bringing onward.
func Contended(database string, waited time.Duration) error {
	return fault.New("standby-occupied", nil, "somebody else has been bringing the database %s onward for more than %s", database,
		phrase.Duration(waited)).Advise("wait for that to end, or end its session on the server")
}

// UpkeepSession is a session that brings a database onward. Close, without Commit, takes everything back.
type UpkeepSession interface {
	Replayer
	// Commit ends the transaction, and with it the mark is another one.
	Commit(ctx context.Context, mark string) error
}
