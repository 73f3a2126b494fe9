//go:build unix

package postgres

import (
	"context"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/target/targettest"
)

// as runs a statement as an account, and says whether it may.
func (b *bench) as(account, text string) bool {
	ctx := context.WithoutCancel(b.T.Context())
	_, err := b.owner.Exec(ctx, "SET SESSION AUTHORIZATION "+ident(account))
	require.NoError(b.T, err)
	_, failed := b.owner.Exec(ctx, text, pgx.QueryExecModeSimpleProtocol)
	_, err = b.owner.Exec(ctx, "RESET SESSION AUTHORIZATION")
	require.NoError(b.T, err)
	return failed == nil
}

// membersOf counts those who can act as a role.
func (b *bench) membersOf(role string) (n int) {
	require.NoError(b.T, b.owner.QueryRow(b.T.Context(), `SELECT count(*) FROM pg_roles r
		WHERE NOT rolsuper AND rolname <> $1 AND pg_has_role(r.oid, $1, 'USAGE')`, role).Scan(&n))
	return n
}

// Whoever the policy lets make roles and assign them can, on any version, though they get nothing by the roles; and
// nobody else can, whoever let them: what they have done is undone.
func TestWhoMakesRolesAssignsThem(t *testing.T) {
	onEach(t, func(t *testing.T, address string, _ int) {
		b := newBench(t, address, "assigning")
		b.fill(1, 1)
		g := targettest.Load(t, "hidden-gate: 1\nedition: 2\n"+
			"systems: {db: {kind: database, resources: {"+b.text+targettest.Accounts(awkward)+
			"roles: {enter: {allow: [session.open]}, reader: {allow: [table.read]}, maker: {allow: ['account.*', 'role.*']}}\n"+
			"grants: {enter: {to: everyone, role: enter, on: db}, readers: {to: [p4, p5], role: reader, on: db},\n"+
			"  makers: {to: [p0, p4], role: maker, on: db}}\n")
		reads, read, maker := ident("hgate:db:readers"), "SELECT 1 FROM plain.plain", "plain person"
		b.Push(g)
		b.exec("CREATE ROLE keeper LOGIN; GRANT p7 TO keeper WITH ADMIN OPTION")
		for range 2 {
			b.Push(g)
			_, _, wrong := b.Ask(g)
			require.Empty(t, wrong)
			assert.True(t, b.as("p4", read))
			assert.False(t, b.as(maker, read))
			assert.False(t, b.as("p6", read))
			assert.False(t, b.as("p5", "GRANT "+reads+" TO p6"))
			for _, one := range []string{maker, "p4"} {
				assert.True(t, b.as(one, "GRANT "+reads+" TO p6"), one)
				assert.True(t, b.as("p6", read), "as it is there")
				assert.True(t, b.as(one, "REVOKE "+reads+" FROM p6"))
				assert.True(t, b.as(one, "ALTER ROLE p6 CONNECTION LIMIT 7"))
				assert.True(t, b.as(one, "CREATE ROLE another; DROP ROLE another"))
			}
			// By hand: a maker puts somebody in, and somebody else gets the right to, and uses it.
			require.True(t, b.as(maker, "GRANT "+reads+" TO p6"))
			b.exec("GRANT %s TO p5 WITH ADMIN OPTION; GRANT p7 TO p5 WITH ADMIN OPTION", reads)
			require.True(t, b.as("p5", "GRANT "+reads+" TO p7"))
		}
		b.Push(g)
		assert.False(t, b.as("p6", read))
		assert.False(t, b.as("p7", read))
		assert.True(t, b.as("p5", read))
		assert.False(t, b.as("p5", "GRANT "+reads+" TO p7"))
		assert.Equal(t, 2, b.membersOf("hgate:db:readers"))
		assert.True(t, b.as("keeper", "GRANT p7 TO p6"), "who is outside hgate's care has what they had")
	})
}
