package journal

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
)

// Turn is something that is due, which one of several machines with a shared journal does.
type Turn struct {
	Job, What string
	Due       time.Time
	token     string
}

// Stand says how it stands with a turn that another machine has.
type Stand int

// How it can stand.
const (
	Mine    Stand = iota // it is this machine's to do
	Another              // another machine does it, and is alive
	Over                 // it was done
)

const turnTable = `CREATE TABLE IF NOT EXISTS turn (job TEXT NOT NULL, what TEXT NOT NULL, due BIGINT NOT NULL, host TEXT NOT NULL,
	token TEXT NOT NULL, taken BIGINT NOT NULL, beat BIGINT NOT NULL, ended BIGINT NOT NULL, result TEXT NOT NULL,
	PRIMARY KEY (job, what, due))`

// serverTime is the server's clock, in microseconds since 1970: machines need not agree on the time.
const serverTime = "(extract(epoch FROM clock_timestamp()) * 1000000)::bigint"

// Shared says whether several machines use the journal.
func (j *Journal) Shared() bool { return j.shared }

// Take asks for a turn. A machine that has not beaten for some time has lost it: then it is this one's. Only for shared
// journals.
func (j *Journal) Take(ctx context.Context, job, what string, due time.Time, silence time.Duration) (t *Turn, s Stand, err error) {
	t = &Turn{Job: job, What: what, Due: due, token: uuid.NewString()}
	var token string
	err = j.db.QueryRowContext(ctx, "INSERT INTO turn AS t (job, what, due, host, token, taken, beat, ended, result) "+
		"VALUES ($1, $2, $3, $4, $5, "+serverTime+", "+serverTime+", 0, '') ON CONFLICT (job, what, due) DO UPDATE SET host = excluded.host, token = excluded.token, "+
		"taken = excluded.taken, beat = excluded.beat WHERE t.ended = 0 AND t.beat < excluded.beat - $6 RETURNING token",
		job, what, micros(due), hostName(), t.token, silence.Microseconds()).Scan(&token)
	if err == nil {
		return t, Mine, nil
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return nil, Another, unusable(j.where, err)
	}
	var ended int64
	err = j.db.QueryRowContext(ctx, "SELECT ended FROM turn WHERE job = $1 AND what = $2 AND due = $3", job, what, micros(due)).Scan(&ended)
	if err != nil {
		return nil, Another, unusable(j.where, err)
	}
	if ended > 0 {
		return nil, Over, nil
	}
	return nil, Another, nil
}

// Beat says that this machine is alive. It says no where another machine has the turn by now.
func (j *Journal) Beat(ctx context.Context, t *Turn) (still bool, err error) {
	done, err := j.db.ExecContext(ctx, "UPDATE turn SET beat = "+serverTime+" WHERE job = $1 AND what = $2 AND due = $3 AND token = $4 "+
		"AND ended = 0", t.Job, t.What, micros(t.Due), t.token)
	if err != nil {
		return false, unusable(j.where, err)
	}
	n, err := done.RowsAffected()
	return n == 1, err
}

// Finish ends a turn, unless another machine has it by now.
func (j *Journal) Finish(ctx context.Context, t *Turn, result string) error {
	_, err := j.db.ExecContext(ctx, "UPDATE turn SET ended = "+serverTime+", result = $5 WHERE job = $1 AND what = $2 AND due = $3 "+
		"AND token = $4", t.Job, t.What, micros(t.Due), t.token, text(result))
	if err != nil {
		return unusable(j.where, err)
	}
	return nil
}

// Yield gives a turn back: whoever asks for it next has it.
func (j *Journal) Yield(ctx context.Context, t *Turn) error {
	_, err := j.db.ExecContext(ctx, "UPDATE turn SET beat = 0 WHERE job = $1 AND what = $2 AND due = $3 AND token = $4 AND ended = 0",
		t.Job, t.What, micros(t.Due), t.token)
	if err != nil {
		return unusable(j.where, err)
	}
	return nil
}
