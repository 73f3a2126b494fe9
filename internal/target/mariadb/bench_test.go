package mariadb

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// What has to be told is worked out in time that grows with the accounts and tables; what a server gives is answered
// in time that does not.
func BenchmarkPlan(b *testing.B) {
	for _, size := range [][2]int{{1250, 2500}, {2500, 5000}, {5000, 10000}} {
		b.Run(fmt.Sprintf("%d-accounts-%d-tables", size[0], size[1]), func(b *testing.B) {
			g, state := targettest.Estate(b, size[0], size[1])
			w, err := target.Work(b.Context(), target.Task{Gate: g, System: "db", At: targettest.At,
				Carries: &Driver.Carries, State: state})
			require.NoError(b, err)
			a, err := w.Arrange(b.Context())
			require.NoError(b, err)
			for b.Loop() {
				plan := blank("db", state).Plan(a)
				b.ReportMetric(float64(len(plan.Statements)), "statements")
			}
		})
	}
}

// One account of a server on which rights are given by many roles is told all that it has.
func BenchmarkMasks(b *testing.B) {
	for _, tables := range []int{2500, 5000, 10000} {
		b.Run(fmt.Sprintf("%d-tables", tables), func(b *testing.B) {
			_, state := targettest.Estate(b, 10, tables)
			s := blank("db", state)
			one := who{"p0", anyHost}
			s.accounts[one] = &account{}
			for i := range 10 {
				role := fmt.Sprintf("r%d", i)
				s.roles[role] = true
				s.in[one] = append(s.in[one], role)
				s.acl[who{user: role}] = map[held]bool{}
				s.rows[who{user: role}] = map[int]bool{}
				for n := i; n < len(s.objects); n += 400 {
					s.acl[who{user: role}][held{n, "SELECT"}], s.rows[who{user: role}][n] = true, true
				}
			}
			for b.Loop() {
				s.masks(s.powerOf(one), false)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(tables), "ns/table")
		})
	}
}
