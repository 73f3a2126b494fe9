package ldap

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"hiddengate/internal/target"
)

// Write carries a plan out group by group: LDAP changes one entry at a time, and all of that or nothing. What it undoes
// where check finds something wrong is all of it.
func (s *system) Write(ctx context.Context, was target.Snapshot, p *target.Plan, check func(target.Snapshot) error,
) error {
	is, err := s.read(ctx)
	if err != nil {
		return err
	}
	if is.key != was.(*snapshot).key {
		return target.ErrChanged
	}
	var changes []change
	if err := json.Unmarshal([]byte(p.Script), &changes); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // what was begun is ended
	for n, one := range changes {
		if err := s.modify(one); err != nil {
			if ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchAttribute) {
				err = target.ErrChanged // by somebody else, since it was read
			}
			return s.undo(changes[:n], fmt.Errorf("%s: %w", one.DN, err))
		}
	}
	if is, err = s.read(ctx); err == nil {
		err = check(is)
	}
	if err != nil {
		return s.undo(changes, err)
	}
	return nil
}

// modify changes one group.
func (s *system) modify(c change) error {
	request := ldap.NewModifyRequest(c.DN, nil)
	if len(c.Remove) > 0 {
		request.Delete(c.Attribute, c.Remove)
	}
	if len(c.Add) > 0 {
		request.Add(c.Attribute, c.Add)
	}
	return s.conn.Modify(request)
}

// undo takes changes back, the last first, and gives the error for which it does.
func (s *system) undo(changes []change, why error) error {
	for _, one := range slices.Backward(changes) {
		one.Add, one.Remove = one.Remove, one.Add
		err := s.modify(one)
		if ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultNoSuchAttribute) {
			continue // somebody else did
		}
		if err != nil {
			return fmt.Errorf("%w: %w; it could not be undone: %w", target.ErrPartly, why, err)
		}
	}
	return why
}

// Ask has the directory compare each group's members with the account (RFC 4511, section 4.10), as the systems do that
// go by it.
func (s *system) Ask(ctx context.Context, was target.Snapshot, questions iter.Seq[target.Question],
	tell func(target.Answer) bool) error {
	defer context.AfterFunc(ctx, func() { s.conn.Close() })()
	snap := was.(*snapshot)
	groups := map[int]*group{}
	for _, g := range snap.groups {
		groups[g.place] = g
	}
	for q := range questions {
		a := target.Answer{Question: q, Tried: true}
		g, p := groups[q.Place], snap.people[q.Holder.Account]
		if g != nil && p != nil && g.listed(p) != "" {
			var err error
			a.Allowed, err = s.conn.Compare(g.dn, g.attribute, g.listed(p))
			if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				return fmt.Errorf("%s: %w", g.dn, err)
			}
		}
		if !a.Agrees() {
			a.Why = "the group lists it"
			if !a.Allowed {
				a.Why = "the group does not list it"
			}
		}
		if !tell(a) {
			return nil
		}
	}
	return nil
}
