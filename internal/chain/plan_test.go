package chain

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/keep"
	"grainkeep/internal/manifest"
)

func TestAPlanFollowsTheLinks(t *testing.T) {
	at := time.Date(2026, 3, 14, 2, 30, 0, 0, time.UTC)
	of := func(id string, kind manifest.Kind, base string) *keep.Dump {
		return &keep.Dump{ID: id, Manifest: &manifest.Manifest{Job: "nightly", Database: "a", Kind: kind, Base: base,
			Moment: at}}
	}
	full, other := of("full", manifest.Full, ""), of("other", manifest.Full, "")
	other.Manifest.Database = "b"
	diff, first := of("diff", manifest.Differential, "full"), of("first", manifest.Incremental, "diff")
	second := of("second", manifest.Incremental, "first")
	second.Manifest.Moment = at.Add(-time.Hour) // a clock that was set back changes nothing
	all := []*keep.Dump{second, first, diff, full, other}
	ids := func(p *Plan) (list []string) {
		for _, d := range append([]*keep.Dump{p.Base}, p.Changes...) {
			list = append(list, d.ID)
		}
		return list
	}
	p, err := Link(all).To(second)
	require.NoError(t, err)
	require.Equal(t, []string{"full", "diff", "first", "second"}, ids(p))
	require.Equal(t, second, p.Last())
	p, err = Link(all).To(full)
	require.NoError(t, err)
	require.Equal(t, full, p.Last())

	for say, list := range map[string][]*keep.Dump{
		"first builds on diff, which is not there": {second, first, full},
		"diff builds on full, which is not there":  {second, first, diff, {Err: fault.New("x", nil, "x")}},
	} {
		_, err := Link(list).To(second)
		require.ErrorContains(t, err, say)
		require.True(t, fault.HasCode(err, "chain-broken"))
		require.Equal(t, fault.ProvenBad, fault.Of(err).Class)
	}
	diff.Manifest.Base = "other"
	_, err = Link(all).To(second)
	require.ErrorContains(t, err, "diff builds on other, which is one of nightly/b")
	diff.Manifest.Base = "first"
	_, err = Link(all).To(second)
	require.ErrorContains(t, err, "which is no full")
	first.Manifest.Base = "second"
	_, err = Link(all).To(second)
	require.ErrorContains(t, err, "in a circle")
	_, err = Link(nil).To(&keep.Dump{Err: fault.New("dump-unreadable", nil, "no")})
	require.ErrorContains(t, err, "no")
}

// TestBadPlans: a plan is as good as its end, but an audit that one of its increments failed is never made good by another.
func TestBadPlans(t *testing.T) {
	of := func(proofs ...keep.Proof) *keep.Dump {
		return &keep.Dump{Manifest: &manifest.Manifest{}, Proofs: proofs}
	}
	proven, failed, audit := keep.Proof{Proven: true}, keep.Proof{}, keep.Proof{Audit: true}
	require.Nil(t, (&Plan{Base: of(), Changes: []*keep.Dump{of(failed), of(proven)}}).Bad())
	require.NotNil(t, (&Plan{Base: of(), Changes: []*keep.Dump{of(proven), of(failed)}}).Bad())
	require.NotNil(t, (&Plan{Base: of(failed)}).Bad())
	wrong := of(audit, proven)
	require.Equal(t, keep.Doubtful, wrong.State())
	require.Equal(t, wrong, (&Plan{Base: of(), Changes: []*keep.Dump{wrong, of(proven)}}).Bad())
	require.Equal(t, keep.Proven, of(failed, proven).State(), "the newest drill counts")
}
