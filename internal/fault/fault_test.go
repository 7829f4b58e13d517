package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOfKeepsCodeAdviceAndWords(t *testing.T) {
	e := New("disk-full", io.ErrShortWrite, "the keep %s is full", "barn").Advise("make room").Exit(Stale)
	require.EqualError(t, e, "the keep barn is full: short write")
	require.ErrorIs(t, e, io.ErrShortWrite)
	wrapped := fmt.Errorf("bookings was not dumped: %w", e)
	got := Of(wrapped)
	require.Equal(t, "bookings was not dumped: the keep barn is full: short write", got.Error())
	require.Equal(t, []any{"disk-full", Stale, "make room"}, []any{got.Code, got.Class, got.Do})
	require.Same(t, e, Of(e))
	require.True(t, HasCode(wrapped, "disk-full"))
	require.False(t, HasCode(wrapped, "disk"))
	foreign := Of(errors.New("odd"))
	require.Equal(t, []any{"failed", Failed}, []any{foreign.Code, foreign.Class})
	require.Equal(t, Usage, Wrong("x", "y").Class)
	several := errors.Join(e, errors.New("and\nodd"))
	require.Equal(t, "the keep barn is full: short write; also: and\nodd", Of(several).Error())
	require.Equal(t, []error{e, errors.New("and\nodd"), io.EOF}, Parts(errors.Join(several, io.EOF)))
	require.Equal(t, "none: one; also: two", New("x", errors.Join(errors.New("one"), errors.New("two")), "none").Error())
	own := fmt.Errorf("%w, then %w", io.EOF, io.ErrNoProgress)
	require.Equal(t, own.Error(), Of(own).Error())
}
