package event

// Accepted is a warning that an administrator has judged: it is told, and does not make a command end with exit
// code 3.
type Accepted struct{ Warning }

// Word implements Event.
func (Accepted) Word() string { return "accepted" }

// Accept makes warnings of some codes accepted ones.
func (f *Feed) Accept(codes ...string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.accepted == nil {
		f.accepted = map[string]bool{}
	}
	for _, c := range codes {
		f.accepted[c] = true
	}
}
