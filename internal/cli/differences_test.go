package cli

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

// TestWhatAFailedDrillShows: of each thing some, of a definition the lines that differ, and what that
// means for whoever reads it.
func TestWhatAFailedDrillShows(t *testing.T) {
	var out, told strings.Builder
	a := &app{screen: screen{stdout: &out, stderr: &told}}
	p := &keep.Proof{Version: "15.20", Details: []keep.Detail{{Concern: keep.OfDefinitions, Of: "view v",
		Text: "the view v came back otherwise than it was dumped", Was: "CREATE VIEW v AS\n SELECT a\n FROM t",
		Is: "CREATE VIEW v AS\n SELECT b\n FROM t"}}}
	for i := range 40 {
		p.Details = append(p.Details, keep.Detail{Concern: keep.OfRows, Of: fmt.Sprint("table t", i/8),
			Text: fmt.Sprint("row trouble ", i)})
	}
	for _, d := range p.Details {
		p.Differences = append(p.Differences, d.Text)
	}
	d := &keep.Dump{ID: "3f2a91c0de77", Manifest: &manifest.Manifest{Job: "j", Database: "d",
		Source: manifest.Source{Product: "PostgreSQL", Version: "15.20"}}}
	a.printDifferences(d, p)
	lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
	require.Equal(t, []string{"        the view v came back otherwise than it was dumped",
		"            was dumped as:  SELECT a",
		"            came back as:   SELECT b", "        row trouble 0", "        row trouble 1",
		"        row trouble 2",
		"        row trouble 8"}, lines[:7])
	require.Len(t, lines, 3+11+1)
	require.Equal(t, "        and 29 more differences; 'grainkeep show 3f2a91c0de' lists all", lines[len(lines)-1])

	advice := func(version string, concerns ...keep.Concern) string {
		p := &keep.Proof{Version: version}
		for _, c := range concerns {
			p.Details = append(p.Details, keep.Detail{Concern: c})
		}
		return adviceOn([]failedDrill{{d, p}})
	}
	require.Contains(t, advice("15.20", keep.OfChecks), "look at the live database")
	require.Contains(t, advice("15.20", keep.OfChecks, keep.OfDefinitions),
		"the rows came back as they were, and definitions did not")
	require.Contains(t, advice("15.20", keep.OfDefinitions, keep.OfRows), "rows did not come back as they were dumped")
	require.Contains(t, advice("15.20", keep.OfDump), "it does not restore")
	require.NotContains(t, advice("15.20", keep.OfRows), "drilled on")
	require.Contains(t, advice("16.4", keep.OfRows), "it is of PostgreSQL 15.20 and was drilled on 16.4")
}
