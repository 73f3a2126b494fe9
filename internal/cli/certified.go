package cli

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger/store"
)

// certified gives an estate in which whoever holds a certificate that counts belongs to the groups that match it, as
// the log and the estate have it now. The gate of the estate is given if it is known, else nil.
func (a *app) certified(e *estate.Estate, g *gate.Gate) (_ *estate.Estate, err error) {
	if len(e.Certifying()) == 0 {
		return e, nil
	}
	if g == nil {
		if g, err = gate.Compile(e, nil); err != nil {
			return nil, err
		}
	}
	at, _, err := a.instant(e.Zone)
	if err != nil {
		return nil, err
	}
	out := e
	err = a.reading(g, func(b *book, in *store.Reader) error {
		list, err := a.credentials(b, in, true)
		if err != nil {
			return err
		}
		for _, r := range list {
			if a.shown != 0 && r.Number == a.shown {
				out = b.Certified(list, at, r)
				return nil
			}
		}
		out = b.Certified(list, at, nil)
		return nil
	})
	if err != nil {
		a.page(a.Err).Line("hgate: the ledger cannot be read, so no group matches a certificate here: %s", err)
	}
	return out, nil
}

// certifiedGate is certified for a gate, which is the same where nobody belongs to such a group.
func (a *app) certifiedGate(g *gate.Gate) (*gate.Gate, error) {
	e, err := a.certified(g.Estate(), g)
	if err != nil || e == g.Estate() {
		return g, err
	}
	out, err := gate.Compile(e, nil)
	if a.plain == nil {
		a.plain = map[*estate.Estate]*gate.Gate{}
	}
	a.plain[e] = g
	return out, err
}

// signing is the gate from which another was made by certified; nil where it was not. It decides about credentials.
func (a *app) signing(g *gate.Gate) *gate.Gate { return a.plain[g.Estate()] }

// bothCertified is certified for what an edit leads from and to; a gate of the old one is left out that does not fit
// any more.
func (a *app) bothCertified(
	before, after *estate.Estate,
	known **gate.Gate,
) (was, is *estate.Estate, err error) {
	if was, err = a.certified(before, nil); err != nil {
		return nil, nil, err
	}
	if was != before && known != nil {
		*known = nil
	}
	is, err = a.certified(after, nil)
	return was, is, err
}
