package mysql

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"testing"
)

// BenchmarkRowsBecomeFields tells how much text of INSERTs is rewritten in a second.
func BenchmarkRowsBecomeFields(b *testing.B) {
	var text strings.Builder
	for i := range 20000 {
		fmt.Fprintf(&text,
			"(%d,'TS%X','Passenger number %d','2026-03-01 10:%02d:00',%d,%d.1429,'Cabin %d on deck %d, needs a "+
				"ramp, paid at Halsund counter %d'),\n", i, i*37, i, i%60, i*7919, i, i%500, i%9, i%23)
	}
	rows := strings.TrimSuffix(text.String(), ",\n") + ";\n"
	b.SetBytes(int64(len(rows)))
	for b.Loop() {
		r := &bulkRows{in: bufio.NewReaderSize(strings.NewReader(rows), 256<<10), seen: func(int64) {}}
		if _, err := io.Copy(io.Discard, r); err != nil || r.err != nil {
			b.Fatal(err, r.err)
		}
	}
}
