package sqlite

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"time"

	"grainkeep/internal/engine"
	"grainkeep/internal/system"
)

// settled is how old the last write to a file must be for its times to tell one state from the next: within a tick of
// the file system's clock, two writes look like one.
const settled = 2 * time.Second

// stateOf tells the state of a file and of its log, as the change counter in its head, sizes, times and places tell it:
// two equal ones mean that nothing was written in between. It is empty where that cannot be told. It is asked for
// before the snapshot is taken: then what it tells is never newer than the rows.
func stateOf(path string) *engine.Position {
	h := sha256.New()
	now := time.Now()
	for _, tail := range append([]string{""}, tails...) {
		f, err := os.Open(path + tail)
		if os.IsNotExist(err) {
			fmt.Fprintf(h, "no %q\n", tail)
			continue
		}
		if err != nil {
			return nil
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil || now.Sub(st.ModTime()) < settled {
			return nil
		}
		head := make([]byte, 100) // of the file, or of its log with its salts
		n, err := f.ReadAt(head, 0)
		if err != nil && err != io.EOF {
			return nil
		}
		fmt.Fprintf(h, "%q %d %d %x\n", tail, st.Size(), st.ModTime().UnixNano(), head[:n])
		if sys, ok := system.FactsOf(st); ok {
			fmt.Fprintf(h, "%d %d %d.%d\n", sys.Device, sys.Inode, sys.Changed/1e9, sys.Changed%1e9)
		}
	}
	return &engine.Position{State: hex.EncodeToString(h.Sum(nil)[:16])}
}
