package drill

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCanonical(t *testing.T) {
	same := func(a, b string) { t.Helper(); require.Equal(t, Canonical(a), Canonical(b)) }
	differ := func(a, b string) { t.Helper(); require.NotEqual(t, Canonical(a), Canonical(b)) }
	same(`CHECK (((s)::text = ANY ((ARRAY['a'::character varying, 'b''(c)::text'::character varying])::text[])))`,
		`CHECK (((s)::text = ANY (ARRAY[('a'::character varying)::text, ('b''(c)::text'::character varying)::text])))`)
	same(`x::"odd ""type"[] > 1.5::numeric(10,2)`, `(x) > 1.5`)
	differ(`CHECK (v > 1)`, `CHECK (v > 2)`)
	differ(`CHECK (v > 'a (b)')`, `CHECK (v > 'a b')`)
	differ(`CHECK (public.f(v))`, `CHECK (other.f(v))`)
	differ(`a AND b OR c`, `a OR b AND c`)
	differ(`REFERENCES t(id)`, `REFERENCES t(id) NOT VALID`)
	differ(`"A" < 1`, `"a" < 1`)
}
