package schedule

import "time"

// KindNow says which dump a job is to take now: the largest that was due since the last of its kind, or of a larger,
// and is not too late to be made up for; if none is, the smallest that is planned. Last counts a larger dump for the
// smaller ones too.
func KindNow(plans []Plan, last Last, now time.Time, zone *time.Location) What {
	smallest := Full
	for _, what := range []What{Full, Differential, Incremental} {
		for _, p := range plans {
			if p.What != what {
				continue
			}
			smallest = what
			done := last(p.Job, what)
			if done.IsZero() && what == Full || p.dueSince(done, now, zone) {
				return what
			}
		}
	}
	return smallest
}

// dueSince says whether something was due after an instant, and not too long ago.
func (p Plan) dueSince(done, now time.Time, zone *time.Location) bool {
	if from := now.Add(-max(punctual, p.CatchUp)); from.After(done) {
		done = from
	}
	at := p.next(done, zone)
	return !at.IsZero() && !at.After(now)
}
