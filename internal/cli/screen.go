package cli

import (
	"io"
	"os"
	"sync"

	"golang.org/x/term"

	"grainkeep/internal/phrase"
)

// screen is where output goes: the result to standard output, the rest to standard error. On a
// terminal a line of progress stands below what was written, and words have colours.
type screen struct {
	stdout, stderr io.Writer

	mu   sync.Mutex
	line string // of progress, as it stands there now; guarded by mu
}

// writeTo writes a text, above the line of progress.
func (s *screen) writeTo(w io.Writer, text string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.erase()
	_, err := io.WriteString(w, text)
	return err
}

// draw puts a line of progress in the place of the one before; an empty one takes it away.
func (s *screen) draw(line string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if line == s.line {
		return
	}
	s.erase()
	if s.line = line; line != "" {
		io.WriteString(s.stderr, line)
	}
}

// erase takes the line away; mu is held.
func (s *screen) erase() {
	if s.line != "" {
		io.WriteString(s.stderr, "\r\x1b[K")
		s.line = ""
	}
}

// terminal gives the width of a terminal, in characters; 0: it is none.
func terminal(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width < 20 {
		return 80
	}
	return width
}

// sized is a writer that is shown somewhere of so many columns; 0: it may be as wide as it is.
type sized interface{ columns() int }

// room is how wide what is written may be, in columns of a terminal; 0: as wide as it is.
func (a *app) room(w io.Writer) int {
	if a.wide {
		return 0
	}
	if s, is := w.(sized); is {
		return s.columns()
	}
	return terminal(w)
}

// colour is how a word is shown on a terminal.
type colour string

const (
	green  colour = "32"
	red    colour = "91"
	yellow colour = "33"
)

// painted is a text with its colour, clean already.
type painted string

// paint colours a text for a writer, where that is a terminal and nobody said NO_COLOR.
func paint(w io.Writer, c colour, text string) painted {
	text = phrase.Clean(text)
	if os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" || terminal(w) == 0 || c == "" {
		return painted(text)
	}
	return painted("\x1b[" + string(c) + "m" + text + "\x1b[0m")
}

// stateColour is the colour of a word about a dump.
func stateColour(state string) colour {
	switch state {
	case "proven", "intact", "good":
		return green
	case "failed", "damaged", "BAD":
		return red
	case "unproven", "unreadable":
		return yellow
	}
	return ""
}
