package event

import "log/slog"

// ToLog gives a listener that writes events to a log, each with its word and its text.
func ToLog(log *slog.Logger) func(Event) {
	return func(e Event) {
		switch e := e.(type) {
		case Warning:
			log.Warn(e.What, "event", e.Word(), "code", e.Code, "of", e.Of)
		default:
			log.Info(e.Text(), "event", e.Word())
		}
	}
}
