//go:build unix

package postgres

import (
	"fmt"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/servers"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// What has to be told is worked out in time that grows with the accounts and tables.
func BenchmarkPlan(b *testing.B) {
	for _, size := range [][2]int{{1250, 2500}, {2500, 5000}, {5000, 10000}} {
		b.Run(fmt.Sprintf("%d-accounts-%d-tables", size[0], size[1]), func(b *testing.B) {
			g, state := targettest.Estate(b, size[0], size[1])
			b.ResetTimer()
			for b.Loop() {
				w, err := target.Work(b.Context(), target.Task{Gate: g, System: "db", At: targettest.At, Carries: &Driver.Carries,
					State: state})
				require.NoError(b, err)
				a, err := w.Arrange(b.Context())
				require.NoError(b, err)
				plan := blank(target.Connection{System: "db"}, state).Plan(a)
				b.ReportMetric(float64(len(plan.Statements)), "statements")
			}
		})
	}
}

// filled is a database with so many tables, and a policy for so many accounts.
func filled(b *testing.B, base string, accounts, tables int) (*bench, *gate.Gate) {
	db := newBench(b, servers.Postgres(b), base)
	for i := range tables / 100 {
		db.exec("CREATE SCHEMA s%d", i)
		for j := range 100 {
			db.exec("CREATE TABLE s%d.t%d (id int)", i, j)
		}
	}
	g, _ := targettest.Estate(b, accounts, tables)
	return db, g
}

// BenchmarkPush holds a push against the bare statements, in one transaction on the same server.
func BenchmarkPush(b *testing.B) {
	db, g := filled(b, "pushed", 1000, 1000)
	forget := func() {
		for _, name := range madeBy(db) {
			db.exec("DROP OWNED BY %s; DROP ROLE %s", ident(name), ident(name))
		}
	}
	for b.Loop() {
		b.StopTimer()
		snap, err := db.system.Read(b.Context())
		require.NoError(b, err)
		a := db.Arrange(g, snap, nil)
		plan := snap.Plan(a)
		bare := time.Now()
		tx, err := db.owner.Begin(b.Context())
		require.NoError(b, err)
		for _, one := range plan.Statements {
			_, err := tx.Exec(b.Context(), one.Text, pgx.QueryExecModeSimpleProtocol)
			require.NoError(b, err)
		}
		require.NoError(b, tx.Commit(b.Context()))
		bareTook := time.Since(bare)
		forget()
		snap, err = db.system.Read(b.Context())
		require.NoError(b, err)
		b.StartTimer()
		begun := time.Now()
		require.NoError(b, db.system.Write(b.Context(), snap, plan, func(is target.Snapshot) error {
			require.Empty(b, is.Plan(a).Statements)
			return nil
		}))
		took := time.Since(begun)
		b.StopTimer()
		b.ReportMetric(float64(len(plan.Statements)), "statements")
		b.ReportMetric(float64(took)/float64(bareTook), "times-bare")
		forget()
		b.StartTimer()
	}
}

// BenchmarkAsk tells how many answers a second a database gives.
func BenchmarkAsk(b *testing.B) {
	db, g := filled(b, "asked", 100, 500)
	db.Push(g)
	for b.Loop() {
		begun := time.Now()
		asked, _, wrong := db.Ask(g)
		require.Empty(b, wrong)
		b.ReportMetric(float64(asked)/time.Since(begun).Seconds(), "answers/s")
	}
}
