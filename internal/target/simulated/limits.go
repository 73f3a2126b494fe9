package simulated

import (
	"fmt"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// limits are those of sessions that the roles of some grants ask for.
func (p *planning) limits(grants ...string) standin.Limits {
	session, idle := p.a.Sessions(grants...)
	return standin.Limits{Session: int64(session / time.Second), Idle: int64(idle / time.Second)}
}

// limitDifferences tells how limits of sessions differ: of an account, or of whoever has a team.
func (p *planning) limitDifferences(whose string, was, is standin.Limits) {
	for _, one := range []struct {
		was, is int64
		what    string
	}{{was.Session, is.Session, "is signed out after"}, {was.Idle, is.Idle, "is signed out when nothing came for"}} {
		lasts := estate.DurationText(time.Duration(one.is) * time.Second)
		switch {
		case one.was == one.is:
		case one.is == 0:
			p.say(target.Remove, nil, "nothing says so any more", fmt.Sprintf("%s %s %s", whose, one.what,
				estate.DurationText(time.Duration(one.was)*time.Second)))
		default:
			p.say(target.Alter, nil, "a role or a condition says so",
				fmt.Sprintf("%s %s %s", whose, one.what, lasts))
		}
	}
}
