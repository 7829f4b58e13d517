package cli

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"grainkeep/internal/ask"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

type askFlags struct {
	from, at, as, room string
	all                bool
}

func (a *app) askCommand() *cobra.Command {
	var q askFlags
	cmd := explain(&cobra.Command{
		Use: "ask DUMP [SQL]...", Short: "Ask a dump or a moment with SQL, without a server",
		Args:              args(1, -1, "a dump"),
		RunE:              func(_ *cobra.Command, words []string) error { return a.askDump(words[0], words[1:], q) },
		ValidArgsFunction: a.dumpNames(&q.from),
	}, usage{`Answers questions in SQL on a database as it was dumped, or at any moment of its chain. What a
question names is loaded into a temporary SQLite database, as far as it needs it, and removed at the
end. Without SQL, questions are read from standard input, each ended by a semicolon.`, [2]string{
		`grainkeep ask nightly/bookings "SELECT vehicle, count(*) FROM booking GROUP BY vehicle"`,
		`grainkeep ask nightly/bookings --at '2 days' --as csv "SELECT * FROM posting" > posting.csv`}})
	a.fromFlag(cmd, &q.from)
	atFlag(cmd, &q.at)
	f := cmd.Flags()
	f.StringVar(&q.as, "as", "table", "write answers as `FORM`: table or csv (--json for JSON)")
	values(cmd, "as", "table", "csv")
	roomFlag(cmd, &q.room)
	f.BoolVar(&q.all, "all", false, "show all rows of a table, and whole values")
	return cmd
}

// roomFlag is the option that bounds the temporary database.
func roomFlag(cmd *cobra.Command, into *string) {
	cmd.Flags().StringVar(into, "room", phrase.Bytes(ask.DefaultRoom), "the temporary database takes this `SIZE` at most")
}

// roomIn reads that bound, in bytes.
func roomIn(text string) (int64, error) {
	room, err := phrase.ParseBytes(text)
	if err != nil {
		return 0, fault.Wrong("flag-wrong", "--room: %v", err)
	}
	return room, nil
}

type jsonAnswer struct {
	Question string   `json:"question"`
	Columns  []string `json:"columns"`
	Rows     [][]any  `json:"rows"`
}

func (a *app) askDump(name string, questions []string, q askFlags) error {
	if q.as != "table" && q.as != "csv" {
		return fault.Wrong("flag-wrong", "--as is %q", q.as).Advise("write table or csv; --json gives JSON")
	}
	room, err := roomIn(q.room)
	if err != nil {
		return err
	}
	f, err := a.config()
	if err != nil {
		return err
	}
	plans, err := a.plansAt(f, q.from, name, q.at)
	if err != nil {
		return err
	}
	if len(plans) > 1 {
		return ambiguous(plans, name)
	}
	plan := plans[0]
	if plan.Last().Manifest.Payload.SQL == nil {
		return fault.Wrong("ask-impossible", "%s holds no database", name).Advise("only databases can be asked")
	}
	unpin, err := a.pin(plan.Last())
	if err != nil {
		return err
	}
	defer unpin()
	a.sayMoment(plan)
	feed, end := a.feed()
	s, err := ask.Open(a.ctx, plan, room, feed)
	end()
	if err != nil {
		return err
	}
	defer func() {
		if err := s.Close(); err != nil {
			a.mention(err)
		}
	}()
	answers := []jsonAnswer{}
	a.result = answers
	next := given(questions)
	if len(questions) == 0 {
		a.sayTables(s)
		next = a.asked()
	}
	var now []string
	for {
		if len(now) == 0 {
			text, more := next()
			if now = ask.Questions(text); !more {
				return nil
			}
			continue
		}
		question := now[0]
		now = now[1:]
		answer, err := a.answer(s, question, q, feed.Gauge())
		if a.ctx.Err() == nil && err != nil && len(questions) == 0 && terminal(os.Stdin) > 0 { // whoever asks goes on
			a.complain(err)
			continue
		}
		if err != nil {
			return err
		}
		answers = append(answers, answer)
		a.result = answers
	}
}

// given gives texts one by one.
func given(list []string) func() (string, bool) {
	return func() (string, bool) {
		if len(list) == 0 {
			return "", false
		}
		one := list[0]
		list = list[1:]
		return one, true
	}
}

// longestQuestion bounds a question that is read, in bytes.
const longestQuestion = 1 << 20

// asked reads questions from standard input: each ends with a line that ends in a semicolon, or with the input.
func (a *app) asked() func() (string, bool) {
	in := bufio.NewReader(io.LimitReader(os.Stdin, longestQuestion))
	prompt := func(text string) {
		if terminal(os.Stdin) > 0 {
			a.tell(text)
		}
	}
	return func() (string, bool) {
		var b strings.Builder
		prompt("ask> ")
		for {
			line, err := in.ReadString('\n')
			b.WriteString(line)
			whole := strings.TrimSpace(b.String())
			if strings.HasSuffix(whole, ";") || err != nil {
				if err != nil {
					prompt("\n")
				}
				return whole, whole != "" || err == nil
			}
			if whole == "" {
				prompt("ask> ")
			} else {
				prompt("  …> ")
			}
		}
	}
}

// sayTables says what can be asked.
func (a *app) sayTables(s *ask.Session) {
	for _, t := range s.Tables() {
		a.say("  %s (%s): %s", t.Name, phrase.Plural(t.Rows, "row"), phrase.Shorten(strings.Join(t.Columns, ", "), shownLine))
	}
	a.say("Each question ends with a semicolon.")
}

// Bounds of what is shown of an answer, unless all is asked for.
const (
	shownRows  = 200
	shownValue = 60     // characters
	jsonRows   = 100000 // of an answer in JSON, which is one object
	jsonBytes  = 32 << 20
)

// answer asks, and shows the answer.
func (a *app) answer(s *ask.Session, question string, q askFlags, meter *event.Meter) (jsonAnswer, error) {
	out := jsonAnswer{Question: question, Rows: [][]any{}}
	bytes := 0
	var show func([]engine.Cell) error
	end := func() error { return nil }
	names := func(list []string) error { out.Columns = list; return nil }
	switch {
	case a.json:
		show = func(row []engine.Cell) error {
			if len(out.Rows) == jsonRows {
				return fault.New("answer-too-long", nil, "the answer has more than %d rows, and JSON is one object", jsonRows).
					Advise("ask with LIMIT, or take --as csv")
			}
			values := make([]any, len(row))
			for i, c := range row {
				values[i] = jsonCell(c)
				bytes += len(c.Data)
			}
			if bytes > jsonBytes {
				return fault.New("answer-too-long", nil, "the answer has more than %s, and JSON is one object", phrase.Bytes(jsonBytes)).
					Advise("ask with LIMIT, or take --as csv")
			}
			out.Rows = append(out.Rows, values)
			return nil
		}
	case q.as == "csv":
		w := csv.NewWriter(a.stdout)
		names = func(list []string) error { out.Columns = list; return w.Write(list) }
		show = func(row []engine.Cell) error {
			fields := make([]string, len(row))
			for i, c := range row {
				fields[i] = c.String()
			}
			return w.Write(fields)
		}
		end = func() error { w.Flush(); return w.Error() }
	default:
		show, end = a.answerTable(&out, q.all)
	}
	loaded := sync.OnceFunc(a.showProgress(meter))
	err := s.Ask(a.ctx, question, func(list []string) error { loaded(); return names(list) }, show)
	loaded()
	return out, errors.Join(err, end())
}

// answerTable shows an answer as a table. Columns of numbers are aligned to the right.
func (a *app) answerTable(out *jsonAnswer, all bool) (show func([]engine.Cell) error, end func() error) {
	var rows [][]any
	numbers := map[int]bool{}
	count := 0
	show = func(row []engine.Cell) error {
		if count++; count > shownRows && !all {
			return nil
		}
		cells := make([]any, len(row))
		for i, c := range row {
			number := c.Kind == engine.IntCell || c.Kind == engine.RealCell
			if was, seen := numbers[i]; c.Kind != engine.NullCell {
				numbers[i] = number && (was || !seen)
			}
			text := c.String()
			if c.Kind == engine.NullCell {
				text = "NULL"
			}
			if !all {
				text = phrase.Shorten(text, shownValue)
			}
			cells[i] = text
		}
		rows = append(rows, cells)
		return nil
	}
	return show, func() error {
		if out.Columns == nil {
			return nil
		}
		var right []string
		for i := range out.Columns {
			if numbers[i] {
				right = append(right, fmt.Sprint("#", i+1))
			}
		}
		header := make([]string, len(out.Columns))
		for i, n := range out.Columns {
			header[i] = phrase.Clean(n)
		}
		t := a.newTable(header, right...)
		for _, r := range rows {
			t.row(r...)
		}
		a.print("%s\n", t.render())
		if count > len(rows) {
			a.say("and %s; --all shows them", phrase.Plural(int64(count-len(rows)), "more row"))
		}
		return nil
	}
}

// jsonCell is a value in JSON: bytes as in a table.
func jsonCell(c engine.Cell) any {
	switch {
	case c.Kind == engine.NullCell:
		return nil
	case c.Kind == engine.IntCell:
		return c.Int
	case c.Kind == engine.RealCell:
		return c.Real
	case c.Kind == engine.TextCell && !utf8.Valid(c.Data):
		c.Kind = engine.BytesCell
	}
	return c.String()
}
