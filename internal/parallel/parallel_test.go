package parallel

import (
	"slices"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// faultIn gives the fault with which something panics.
func faultIn(do func()) (fault *Fault) {
	defer func() { fault, _ = recover().(*Fault) }()
	do()
	return nil
}

func here() { panic("here") }

func TestAFaultReachesWhoeverWaits(t *testing.T) {
	var done atomic.Int32
	var g Group
	for i := range 8 {
		g.Go(func() {
			if i == 3 {
				here()
			}
			done.Add(1)
		})
	}
	fault := faultIn(g.Wait)
	assert.Equal(t, "here", fault.Value)
	assert.Contains(t, string(fault.Stack), "parallel.here")
	assert.EqualValues(t, 7, done.Load())
}

func numbers(to int) []int {
	out := make([]int, to)
	for i := range out {
		out[i] = i
	}
	return out
}

func twice(int) func(int) int { return func(n int) int { return 2 * n } }

func TestOrderKeepsTheOrder(t *testing.T) {
	var got []int
	Ordered(slices.Values(numbers(1000)), twice, func(n int) bool {
		got = append(got, n)
		return true
	})
	assert.Len(t, got, 1000)
	for i, n := range got {
		assert.Equal(t, 2*i, n)
	}
}

func TestOrderedEndsWhereNothingMoreIsTaken(t *testing.T) {
	var begun atomic.Int32
	items := func(yield func(int) bool) {
		for n := 0; yield(n); n++ { // without end
			begun.Add(1)
		}
	}
	Ordered(items, twice, func(n int) bool { return n < 20 })
	assert.Less(t, begun.Load(), int32(20+8*Workers()))
}

func TestAFaultOfOrderedWorkReachesWhoeverTakes(t *testing.T) {
	taken := 0
	fault := faultIn(func() {
		Ordered(slices.Values(numbers(100)), func(int) func(int) int {
			return func(n int) int {
				if n == 50 {
					here()
				}
				return n
			}
		}, func(int) bool { taken++; return true })
	})
	assert.Equal(t, "here", fault.Value)
	assert.Equal(t, 50, taken)
}
