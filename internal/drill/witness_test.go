package drill_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/chain"
	"grainkeep/internal/drill"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
)

// rehearse drills the first database's dump.
func rehearse(t *testing.T, k *keep.Keep) (*keep.Proof, error) {
	t.Helper()
	dumps, err := k.Dumps(ctx)
	require.NoError(t, err)
	plan, err := chain.Link(dumps).To(dumps[0])
	require.NoError(t, err)
	return drill.Run(ctx, drill.Drill{Plan: plan, On: engine.Location{Engine: "fake"}, Tool: "test"}, &event.Feed{})
}

// TestWhatReadingIsBlindToTheServerSees: the same mistake is made when a dump is taken and when
// it is read back.
func TestWhatReadingIsBlindToTheServerSees(t *testing.T) {
	world = newWorld()
	world.blind = func(row string) string { return strings.Replace(row, "2", "3", 1) }
	k := newKeep(t)
	_, _, err := takeDumps(t, k)
	require.NoError(t, err)
	p, err := rehearse(t, k)
	require.NoError(t, err)
	require.False(t, p.Proven)
	require.Len(t, p.Differences, 1, "the fingerprints are the same")
	require.Contains(t, p.Differences[0],
		"the server's own digest of up to 1000 rows over all columns is 1;3;3 and was 1;2;2")
}

// TestServersOfAnotherKind: nothing is compared that cannot be the same, and that is said.
func TestServersOfAnotherKind(t *testing.T) {
	world = newWorld()
	k := newKeep(t)
	_, _, err := takeDumps(t, k)
	require.NoError(t, err)
	world.spoil = func(d *fakeDB) { d.objects[len(d.objects)-1].SQL = "VIEW w, as this server writes it;\n" }
	for version, proven := range map[string]bool{"1.2.9": false, "1.3.0": true, "2.2.3": true} {
		world.version = version
		p, err := rehearse(t, k)
		require.NoError(t, err)
		require.Equal(t, proven, p.Proven, version)
		require.Equal(t, proven, slices.ContainsFunc(p.NotTested, func(s string) bool {
			return strings.Contains(s, "the wording of definitions (dumped from Fake 1.2.3")
		}), version)
	}
	world.product = "Other"
	_, err = rehearse(t, k)
	require.True(t, fault.HasCode(err, "product-differs"))
}

// TestWhatIsLeftOutIsTriedAgain: what a thing needs is not always known; and without what
// tells rows apart nothing is proven.
func TestWhatIsLeftOutIsTriedAgain(t *testing.T) {
	world = newWorld()
	a := world.databases["a"]
	a.objects = append(a.objects,
		engine.Object{Kind: "unique index", Name: "u", Table: "t", Section: engine.Keys, SQL: "UNIQUE u;\n",
			Rule: true},
		engine.Object{Kind: "refresh", Name: "m", Section: engine.Finish, SQL: "REFRESH m;\n", Rule: true},
		engine.Object{Kind: "refresh", Name: "n", Section: engine.Finish, SQL: "REFRESH n;\n", Rule: true,
			Needs: []string{"refresh m"}})
	k := newKeep(t)
	_, _, err := takeDumps(t, k)
	require.NoError(t, err)
	world.fail["exec refresh m"], world.once["refresh m"] = errors.New("not filled yet"), true
	p, err := rehearse(t, k)
	require.NoError(t, err)
	require.True(t, p.Proven, "%v", p.Differences)
	require.Empty(t, p.Warnings)

	world.fail["exec unique index u"] = errors.New("no such function")
	world.fail["exec foreign key k"] = fault.New(engine.RuleBroken, nil, "orphans")
	p, err = rehearse(t, k)
	require.NoError(t, err)
	require.Equal(t, []string{"the unique index u did not come back: no such function"}, p.Differences)
	require.Contains(t, p.Warnings[0], "the data breaks the foreign key k")
	world.fail["exec foreign key k"] = errors.New("no such operator")
	p, err = rehearse(t, k)
	require.NoError(t, err)
	require.Contains(t, p.Warnings[0], "the foreign key k could not be tested, and was added")
}

func TestAClockThatIsBehindIsSaid(t *testing.T) {
	world = newWorld() // its moments are of March
	k := newKeep(t)
	for clock, warned := range map[time.Month]bool{time.March: false, time.February: true} {
		world.clock = time.Date(2026, clock, 14, 2, 30, 0, 0, time.UTC)
		_, _, err := takeDumps(t, k)
		require.NoError(t, err)
		_, told, err := takeDumps(t, k)
		require.NoError(t, err)
		require.Equal(t, warned, strings.Contains(strings.Join(told, "\n"), "behind the newest dump of this job"))
	}
}
