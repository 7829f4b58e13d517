package engine

import "strings"

// Databases of a server under these names are being drilled or restored.
const (
	DrillPrefix   = "grainkeep_drill_"
	RestorePrefix = "grainkeep_restore_"
)

// WorkName is the name that a database has until it is complete: it tells the keep and
// the run.
func (t TargetSpec) WorkName() string {
	if t.Name == "" {
		return DrillPrefix + t.KeepID + "_" + t.Run
	}
	return RestorePrefix + t.KeepID + "_" + t.Run
}

// WorkOf says whether a name is one that a keep's own runs give.
func WorkOf(keepID, name string) bool {
	return strings.HasPrefix(name, DrillPrefix+keepID+"_") || strings.HasPrefix(name, RestorePrefix+keepID+"_")
}
