package journal

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Message is one that waits to be sent.
type Message struct {
	ID      string
	Channel string
	Made    time.Time
	Tries   int64
	Next    time.Time // when it may be tried
	Reason  string    // why the last try failed
	Body    string
}

// Trouble notes a trouble of a channel, and says whether it is to be told: it is new, it is another than it was, or
// it was told long ago.
func (j *Journal) Trouble(ctx context.Context, channel, subject, what string, now time.Time,
	again time.Duration) (tell bool, err error) {
	var was string
	var told int64
	err = j.db.QueryRowContext(ctx, j.dialect("SELECT what, told FROM trouble WHERE channel = ? AND subject = ?"),
		channel,
		text(subject)).Scan(&was, &told)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		tell = true
	case err != nil:
		return false, unusable(j.where, err)
	default:
		tell = was != what || now.Sub(timeOf(told)) >= again
	}
	if !tell {
		return false, nil
	}
	_, err = j.exec(ctx, "INSERT INTO trouble (channel, subject, what, since, told) VALUES (?, ?, ?, ?, ?) "+
		"ON CONFLICT (channel, subject) DO UPDATE SET what = excluded.what, told = excluded.told", channel,
		text(subject), text(what),
		micros(now), micros(now))
	if err != nil {
		return false, unusable(j.where, err)
	}
	return true, nil
}

// Well notes that a trouble is over, and says whether there was one.
func (j *Journal) Well(ctx context.Context, channel, subject string) (was bool, err error) {
	done, err := j.exec(ctx, "DELETE FROM trouble WHERE channel = ? AND subject = ?", channel, text(subject))
	if err != nil {
		return false, unusable(j.where, err)
	}
	n, err := done.RowsAffected()
	return n > 0, err
}

// Post puts a message to be sent.
func (j *Journal) Post(ctx context.Context, m Message) error {
	_, err := j.exec(ctx,
		"INSERT INTO message (id, channel, made, tries, next, reason, body) VALUES (?, ?, ?, 0, ?, '', ?)", m.ID,
		m.Channel, micros(m.Made), micros(m.Next), text(m.Body))
	if err != nil {
		return unusable(j.where, err)
	}
	return nil
}

// Messages gives those that wait, the oldest first.
func (j *Journal) Messages(ctx context.Context) (list []Message, err error) {
	rows, err := j.query(ctx, "SELECT id, channel, made, tries, next, reason, body FROM message ORDER BY made, id")
	if err != nil {
		return nil, unusable(j.where, err)
	}
	defer rows.Close()
	for rows.Next() {
		var m Message
		var made, next int64
		if err := rows.Scan(&m.ID, &m.Channel, &made, &m.Tries, &next, &m.Reason, &m.Body); err != nil {
			return nil, unusable(j.where, err)
		}
		m.Made, m.Next = timeOf(made), timeOf(next)
		list = append(list, m)
	}
	return list, rows.Err()
}

// Claim makes a message nobody else's to send until a time; it says no where somebody else has claimed it.
func (j *Journal) Claim(ctx context.Context, m Message, until time.Time) (bool, error) {
	done, err := j.exec(ctx, "UPDATE message SET next = ? WHERE id = ? AND next = ?", micros(until), m.ID,
		micros(m.Next))
	if err != nil {
		return false, unusable(j.where, err)
	}
	n, err := done.RowsAffected()
	return n == 1, err
}

// Sent removes a message that is sent.
func (j *Journal) Sent(ctx context.Context, id string) error {
	_, err := j.exec(ctx, "DELETE FROM message WHERE id = ?", id)
	return err
}

// Unsent notes why a message could not be sent, and when it is tried again.
func (j *Journal) Unsent(ctx context.Context, id string, next time.Time, reason string) error {
	_, err := j.exec(ctx, "UPDATE message SET tries = tries + 1, next = ?, reason = ? WHERE id = ?", micros(next),
		text(reason), id)
	return err
}

// Note gives a value that is noted under a name, and puts another in its place; what says no keeps it.
func (j *Journal) Note(ctx context.Context, name, value string) (was string, err error) {
	err = j.db.QueryRowContext(ctx, j.dialect("SELECT value FROM meta WHERE name = ?"), name).Scan(&was)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", unusable(j.where, err)
	}
	if value == "" || value == was {
		return was, nil
	}
	_, err = j.exec(ctx, "INSERT INTO meta (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value)
	if err != nil {
		return "", unusable(j.where, err)
	}
	return was, nil
}
