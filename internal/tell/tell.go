// Package tell notifies people: by mail, webhook or syslog, of failures, warnings, successes, recoveries and
// staleness, and with a summary. What could not be sent waits in the journal and is tried again. The same trouble is
// told once, and again only after a while.
package tell

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/journal"
	"grainkeep/internal/phrase"
)

// Kind is what a message is about.
type Kind string

// The kinds.
const (
	Failure  Kind = "failure"
	Warning  Kind = "warning"
	Success  Kind = "success"
	Recovery Kind = "recovery" // what failed or was stale is well again
	Stale    Kind = "stale"
	Summary  Kind = "summary"
	Test     Kind = "test"
)

// Message is what people are told. All its texts are clean and on one line.
type Message struct {
	ID    string    `json:"id"`
	Kind  Kind      `json:"kind"`
	At    time.Time `json:"at"`
	Host  string    `json:"host"`
	Job   string    `json:"job,omitempty"`
	Run   string    `json:"run,omitempty"`
	Code  string    `json:"code,omitempty"`
	Title string    `json:"title"`
	Lines []string  `json:"lines,omitempty"`
	Table *Table    `json:"table,omitempty"`

	Attached *Attachment `json:"attached,omitempty"` // to a mail; a webhook gets it as base64
}

// Attachment is a file that goes along.
type Attachment struct {
	Name string `json:"name"`
	Type string `json:"type"` // of its content
	Data []byte `json:"data"`
}

// Table is that of the morning.
type Table struct {
	Header []string   `json:"header"`
	Rows   [][]string `json:"rows"`
}

// Sender is a way to tell people. Send may be called side by side; its error names the way.
type Sender interface {
	Send(ctx context.Context, m Message) error
}

// Channel is whom to tell of what.
type Channel struct {
	Name   string
	On     []Kind        // empty: failures, staleness, recoveries
	Jobs   []string      // empty: all
	Again  time.Duration // the same trouble is told again after that
	Sender Sender
}

// DefaultAgain is after how long the same trouble is told again.
const DefaultAgain = 24 * time.Hour

func (c *Channel) wants(k Kind, job string) bool {
	on := c.On
	if len(on) == 0 {
		on = []Kind{Failure, Stale, Recovery}
	}
	return slices.Contains(on, k) && (len(c.Jobs) == 0 || slices.Contains(c.Jobs, job))
}

// Teller tells what happens to some channels. It keeps what it has told in a journal.
type Teller struct {
	Journal  *journal.Journal
	Channels []Channel
	Now      func() time.Time
}

// Run tells of a run that has ended.
func (t *Teller) Run(ctx context.Context, r journal.Run) error {
	if r.Job == "" || r.Result == journal.Refused || r.Result == journal.Running {
		return nil
	}
	for i := range t.Channels {
		if err := t.run(ctx, &t.Channels[i], r); err != nil {
			return err
		}
	}
	return nil
}

func (t *Teller) run(ctx context.Context, c *Channel, r journal.Run) error {
	failed, warned := "run of "+r.Command+" "+r.Job, "warnings of "+r.Command+" "+r.Job
	m := t.of(r)
	switch r.Result {
	case journal.Failed, journal.Killed, journal.Stopped:
		m.Kind, m.Title = Failure, fmt.Sprintf("%s: the %s %s", r.Job, r.Command, r.Result)
		return t.trouble(ctx, c, failed, r.Code, m)
	}
	well, err := t.wellAgain(ctx, c, failed)
	if err != nil {
		return err
	}
	if r.Result == journal.Warned {
		m.Kind, m.Title = Warning, fmt.Sprintf("%s: the %s is done, with %s", r.Job, r.Command,
			phrase.Plural(int64(len(r.Warnings)), "warning"))
		if err := t.trouble(ctx, c, warned, codes(r), m); err != nil {
			return err
		}
	} else if _, err := t.wellAgain(ctx, c, warned); err != nil {
		return err
	}
	m.Title = fmt.Sprintf("%s: the %s is done", r.Job, r.Command)
	switch {
	case well && c.wants(Recovery, r.Job):
		m.Kind, m.Title = Recovery, m.Title+" again"
	case c.wants(Success, r.Job) && r.Result == journal.Good:
		m.Kind = Success
	default:
		return nil
	}
	return t.post(ctx, c, m)
}

// of begins a message about a run.
func (t *Teller) of(r journal.Run) Message {
	m := Message{At: r.Ended, Host: r.Host, Job: r.Job, Run: r.ID, Code: r.Code}
	add := func(format string, args ...any) {
		m.Lines = append(m.Lines, phrase.Clean(fmt.Sprintf(format, args...)))
	}
	if r.Reason != "" {
		add("%s", r.Reason)
	}
	if r.Advice != "" {
		add("→ %s", r.Advice)
	}
	for _, p := range r.Parts {
		switch {
		case p.Reason != "" && p.Result != journal.Good:
			add("%s: %s", p.Name, p.Reason)
		case r.Command == "dump" && p.Rows == 0: // a folder, a stream
			add("%s: %s, %s", p.Name, phrase.Bytes(p.Stored), phrase.Duration(p.Took))
		case r.Command == "dump":
			add("%s: %s, %s, %s", p.Name, phrase.Plural(p.Rows, "row"), phrase.Bytes(p.Stored), phrase.Duration(p.Took))
		default:
			add("%s: %s", p.Name, p.Result)
		}
	}
	for _, w := range r.Warnings {
		add("warning (%s): %s", w.Code, strings.TrimPrefix(w.Of+": "+w.Text, ": "))
	}
	if r.Log != "" {
		add("Log: 'grainkeep history --log %s' on %s", r.ID, r.Host)
	}
	if n := len(m.Lines) - mostLines; n > 0 {
		m.Lines = append(m.Lines[:mostLines], fmt.Sprintf("… and %s more", phrase.Plural(int64(n), "line")))
	}
	return m
}

const mostLines = 60

func codes(r journal.Run) string {
	var list []string
	for _, w := range r.Warnings {
		if !slices.Contains(list, w.Code) {
			list = append(list, w.Code)
		}
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

// State is how something stands.
type State struct {
	Job, Name string
	Word      string
	Why       string
	Stale     bool
}

// States tells of what has become stale, and of what is well again.
func (t *Teller) States(ctx context.Context, states []State) error {
	for i := range t.Channels {
		c := &t.Channels[i]
		for _, s := range states {
			name := strings.TrimSuffix(s.Job+"/"+s.Name, "/")
			m := Message{Kind: Stale, At: t.Now(), Job: s.Job, Code: s.Word, Title: phrase.Clean(name + " is " +
				s.Word)}
			if s.Why != "" {
				m.Lines = []string{phrase.Clean(s.Why)}
			}
			if s.Stale {
				if err := t.trouble(ctx, c, "state of "+name, s.Word, m); err != nil {
					return err
				}
				continue
			}
			well, err := t.wellAgain(ctx, c, "state of "+name)
			if err != nil {
				return err
			}
			if well && c.wants(Recovery, s.Job) {
				m.Kind, m.Title = Recovery, phrase.Clean(name+" is good again")
				if err := t.post(ctx, c, m); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// trouble notes a trouble, and tells it unless it was told lately.
func (t *Teller) trouble(ctx context.Context, c *Channel, subject, what string, m Message) error {
	if len(c.Jobs) > 0 && !slices.Contains(c.Jobs, m.Job) {
		return nil
	}
	fresh, err := t.Journal.Trouble(ctx, c.Name, subject, what, t.Now(), c.Again)
	if err != nil || !fresh || !c.wants(m.Kind, m.Job) {
		return err
	}
	return t.post(ctx, c, m)
}

// wellAgain notes that there is no such trouble, and says whether there was.
func (t *Teller) wellAgain(ctx context.Context, c *Channel, subject string) (bool, error) {
	return t.Journal.Well(ctx, c.Name, subject)
}

// Post puts a message to be sent to channels, all or those of some names.
func (t *Teller) Post(ctx context.Context, m Message, names ...string) error {
	for i := range t.Channels {
		if c := &t.Channels[i]; len(names) == 0 || slices.Contains(names, c.Name) {
			if err := t.post(ctx, c, m); err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *Teller) post(ctx context.Context, c *Channel, m Message) error {
	m.ID = newID()
	if m.Host == "" {
		m.Host = hostName()
	}
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return t.Journal.Post(ctx, journal.Message{ID: m.ID, Channel: c.Name, Made: t.Now(), Next: t.Now(),
		Body: string(body)})
}

// waits are between the tries to send a message.
var waits = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour}

// claimed is for how long a message is nobody else's to send.
const claimed = 3 * time.Minute

// Send sends what waits and is due. The errors say what could not be sent; it waits on.
func (t *Teller) Send(ctx context.Context) (failed []error) {
	list, err := t.Journal.Messages(ctx)
	if err != nil {
		return []error{err}
	}
	for _, w := range list {
		at := slices.IndexFunc(t.Channels, func(c Channel) bool { return c.Name == w.Channel })
		if at < 0 || w.Next.After(t.Now()) {
			continue
		}
		mine, err := t.Journal.Claim(ctx, w, t.Now().Add(claimed))
		if err != nil {
			return append(failed, err)
		}
		if !mine {
			continue
		}
		if err := t.send(ctx, &t.Channels[at], w); err != nil {
			failed = append(failed, err)
		}
	}
	return failed
}

func (t *Teller) send(ctx context.Context, c *Channel, w journal.Message) error {
	var m Message
	err := json.Unmarshal([]byte(w.Body), &m)
	if err == nil {
		ctx, cancel := context.WithTimeout(ctx, time.Minute)
		defer cancel()
		err = c.Sender.Send(ctx, m)
	}
	if err == nil {
		return t.Journal.Sent(ctx, w.ID)
	}
	e := fault.New("not-told", err, "a message could not be sent to %s", c.Name).
		Advise("it is tried again; 'grainkeep tell --test %s' tries the way", c.Name)
	wait := waits[min(int(w.Tries), len(waits)-1)]
	if err := t.Journal.Unsent(ctx, w.ID, t.Now().Add(wait), phrase.Clean(err.Error())); err != nil {
		return err
	}
	return e
}
