package store

import (
	"os"
	"sync"
	"time"

	"grainkeep/internal/system"
)

// ThisBoot tells this machine, since it was started, from every other.
var ThisBoot = sync.OnceValue(system.Boot)

// Me is this process, as the holder of a lease.
func Me() Holder {
	host, _ := os.Hostname() // only for messages
	return Holder{PID: os.Getpid(), Host: host, Boot: ThisBoot(), Since: time.Now().UTC().Truncate(time.Second)}
}

// Here says whether the holder is of this machine, since it was started.
func (h Holder) Here() bool { return h.Boot != "" && h.Boot == ThisBoot() }

// Gone says that the holder is of this machine, and is not alive any more.
func (h Holder) Gone() bool {
	return h.Here() && h.PID > 0 && !system.Alive(h.PID)
}
