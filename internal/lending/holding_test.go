package lending_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
)

// Whoever holds a certificate belongs to the groups that ask for what it says, and to no others, as long as it counts.
func TestWhoBelongsToAGroupForACertificate(t *testing.T) {
	s := newSigning(t)
	b := s.book(t, `groups:
  by-authority: {match: {certificate: {issuer: ca}}}
  by-name: {match: {certificate: {common-name: [ana, bo], full-name: CN=ana}}}
  also-tagged: {match: {certificate: {issuer: ca}, team: domes}}
  another-name: {match: {certificate: {issuer: ca, common-name: bo}}}
  another-authority: {match: {certificate: {issuer: other}}}
  no-unit: {match: {certificate: {unit: domes}}}
  without: {match: {certificate: {issuer: ca}}, members: [cai, not ana]}
`)
	ask := s.asks(t, "free", "ana", "ana", false)
	r := b.Read([]ledger.Event{ask, s.issued(t, b.Read([]ledger.Event{ask}), s.authority, 1)})
	require.NotNil(t, r.Credential.Issued)
	groups := func(list []*lending.Request, minute int, only *lending.Request) (out []string) {
		g, err := gate.Compile(b.Certified(list, minutes(minute), only), nil)
		require.NoError(t, err)
		for _, one := range g.Estate().Certifying() {
			of := estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: one.ID}}}
			if g.Selects(of, estate.Principal{ID: "ana"}) {
				out = append(out, one.ID)
			}
		}
		return out
	}
	list := []*lending.Request{r}
	assert.Equal(t, []string{"by-authority", "by-name"}, groups(list, 2, nil))
	assert.Equal(t, []string{"by-authority", "by-name"}, groups(list, 2, r))
	assert.Empty(t, groups(list, 0, nil), "it holds from a minute later")
	assert.Empty(t, groups(list, 61, nil), "it has ended")
	assert.Empty(t, groups(nil, 2, nil))
	approves := s.book(t, "  by-authority: {to: group:certified, role: sign, on: ca}\n"+
		"groups: {certified: {match: {certificate: {issuer: ca}}}}\n")
	holding, err := gate.Compile(approves.Certified(list, minutes(2), nil), nil)
	require.NoError(t, err)
	p, ana := holding.Estate().Profiles["open"], estate.Principal{ID: "ana"}
	assert.True(t, (&lending.Book{Gate: holding}).MaySign(p, ana, minutes(2)))
	assert.False(t, (&lending.Book{Gate: holding, Signing: approves.Gate}).MaySign(p, ana, minutes(2)),
		"whose certificate is no reason to approve others")
	other := *r
	other.Number = 7
	assert.Empty(t, groups([]*lending.Request{&other}, 2, r), "another is shown")
	gone := b.Read([]ledger.Event{ask, s.issued(t, b.Read([]ledger.Event{ask}), s.authority, 1),
		said(t, 10, ledger.Revoked, "ana", 5, ledger.RevokedBody{Request: r.ID, Reason: "key-compromise"})})
	assert.Empty(t, groups([]*lending.Request{gone}, 6, nil), "it is revoked")
}
