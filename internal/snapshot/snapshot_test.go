package snapshot

import (
	"bytes"
	"net/netip"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
)

type leaf struct {
	Name string
	At   diagnostic.Position
	Yes  *bool
	From []netip.Prefix
}

type pair struct {
	a uint32
	b uint64
	c bool
}

type tree struct {
	Leaf   leaf
	Leaves []leaf
	ByName map[string]*tree
	Parts  []*leaf
	Pairs  []pair
	Bytes  []byte
	N      int
	Days   [3]bool
	Zone   *clock.Zone
	Unsaid string `snapshot:"-"`
}

func encode(t require.TestingT, v *tree) []byte {
	var out bytes.Buffer
	n, err := Encode(&out, v)
	require.NoError(t, err)
	require.Equal(t, out.Len(), n)
	require.Zero(t, n%align)
	return aligned(out.Bytes())
}

// aligned copies bytes to where a snapshot may stand.
func aligned(b []byte) []byte {
	words := make([]uint64, len(b)/8+1)
	out := unsafe.Slice((*byte)(unsafe.Pointer(&words[0])), len(words)*8)[:len(b)]
	copy(out, b)
	return out
}

func draw(t *rapid.T, depth int) *tree {
	text := rapid.String()
	yes := rapid.Bool().Draw(t, "yes")
	name := text.Draw(t, "name")
	file := name[:rapid.IntRange(0, len(name)).Draw(t, "file")] // which stands at the same place
	one := leaf{name, diagnostic.Position{File: file,
		Line: rapid.IntRange(0, 1<<30).Draw(t, "line")}, &yes,
		[]netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("::/0")}}
	v := &tree{Leaf: one, N: rapid.Int().Draw(t, "n"), Days: [3]bool{true, false, yes}, Zone: clock.UTC, Unsaid: "lost"}
	for range rapid.IntRange(0, 3).Draw(t, "leaves") {
		v.Leaves, v.Parts, v.Pairs = append(v.Leaves, one), append(v.Parts, &one, nil), append(v.Pairs, pair{1, 2, yes})
	}
	v.Bytes = append(v.Bytes, rapid.SliceOfN(rapid.Byte(), 0, 20).Draw(t, "bytes")...)
	if depth > 0 && yes {
		v.ByName = map[string]*tree{}
		for range rapid.IntRange(0, 2).Draw(t, "children") {
			v.ByName[text.Draw(t, "key")] = draw(t, depth-1)
		}
	}
	return v
}

func forget(v *tree) {
	v.Unsaid = ""
	for _, c := range v.ByName {
		forget(c)
	}
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := draw(t, 2)
		var got tree
		require.NoError(t, Decode(encode(t, v), &got))
		forget(v)
		assert.Equal(t, v, &got)
	})
}

// Damage is an error or another value, never a panic.
func TestDamage(t *testing.T) {
	failed := 0
	rapid.Check(t, func(t *rapid.T) {
		b := encode(t, draw(t, 1))
		for range rapid.IntRange(1, 4).Draw(t, "flips") {
			b[rapid.IntRange(0, len(b)-1).Draw(t, "at")] ^= byte(rapid.IntRange(1, 255).Draw(t, "bits"))
		}
		b = b[:len(b)-8*rapid.IntRange(0, 1).Draw(t, "cut")]
		var got tree
		if err := Decode(b, &got); err != nil {
			assert.ErrorIs(t, err, ErrDamaged)
			failed++
		}
	})
	assert.Positive(t, failed)
	assert.ErrorIs(t, Decode(nil, &tree{}), ErrDamaged)
}

func TestAFieldThatWouldBeLostIsAFault(t *testing.T) {
	type closed struct{ name string }
	assert.PanicsWithValue(t, "snapshot: snapshot.closed has a field name that would be lost",
		func() { _, _ = Encode(&bytes.Buffer{}, &closed{"x"}) })
}
