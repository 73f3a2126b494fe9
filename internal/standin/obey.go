package standin

import (
	"fmt"
	"slices"
	"strings"
)

// Managing is the right to read and replace the access settings, and so to do everything.
const Managing = "manage-accounts"

// Asker is whoever writes a line, with what decides what they may.
type Asker struct {
	Account string
	May     func(right, place string) bool
}

// sees says whether somebody may do anything at a place.
func (a *Asker) sees(commands []Command, at string) bool {
	return slices.ContainsFunc(commands, func(c Command) bool { return a.May(c.Right, at) })
}

// Asker is somebody who has chosen a role; with "" they may what any of their roles may.
func (c *Core[S]) Asker(account, role string) *Asker {
	return &Asker{Account: account, May: func(right, place string) bool {
		return c.Settings.May(account, role, right, place, c.Now())
	}}
}

// Seen lists what somebody sees.
func (c *Core[S]) Seen(who *Asker) (out []string) {
	for _, at := range c.Paths() {
		if who.sees(c.Commands, at) {
			out = append(out, at+" ("+c.Places[at].Type+")")
		}
	}
	if out == nil {
		return []string{"You have no place here."}
	}
	return out
}

// Help lists the commands that somebody may use, each with the places.
func (c *Core[S]) Help(who *Asker) (out []string) {
	for i := range c.Commands {
		command := &c.Commands[i]
		var at []string
		for _, path := range c.Paths() {
			if slices.Contains(command.On, c.Places[path].Type) && who.May(command.Right, path) {
				at = append(at, path)
			}
		}
		if len(at) > 0 {
			words := command.Words
			if command.Takes() {
				words += " …: TEXT"
			}
			out = append(out, fmt.Sprintf("%-28s at %s", words, strings.Join(at, ", ")))
		}
	}
	return out
}

// Special does what a stand-in does in its own way; false if it is as usual.
type Special func(o Order, who *Asker) (said []string, done, special bool, err error)

// Obey does what a line says for somebody, or with dry only tells whether it would. It gives what is said about it.
func (c *Core[S]) Obey(who *Asker, line string, dry bool, special Special) (said []string, done bool,
	err error) {
	o, wrong := ReadLine(c.Commands, line)
	if wrong != "" {
		return []string{wrong}, false, nil
	}
	at := c.Places[o.Place]
	switch {
	case at == nil || !who.sees(c.Commands, o.Place): // the same answer, so that nobody learns what there is
		return []string{
			fmt.Sprintf("You have no place %.200q. Write places to see those that you have.", o.Place),
		}, false, nil
	case !slices.Contains(o.Command.On, at.Type):
		return []string{fmt.Sprintf("%s is a %s, which has none of that.", o.Place, at.Type)}, false, nil
	case !who.May(o.Command.Right, o.Place):
		return []string{fmt.Sprintf("You may not: at %s it needs %s.", o.Place, o.Command.Right)}, false, nil
	case dry:
		return nil, true, nil
	}
	if special != nil {
		if said, done, its, err := special(o, who); its {
			return said, done, err
		}
	}
	if lines := c.Settings.Tell(o.Command.Right); lines != nil {
		return lines, true, nil
	}
	switch lines := at.Lines[o.Command.Topic]; {
	case o.Command.Right == Managing:
		return []string{"Read the access settings with settings, and put others in place with replace settings."}, true, nil
	case o.Command.Does == Shows && len(lines) == 0:
		return []string{"There are none."}, true, nil
	case o.Command.Does == Shows:
		return lines, true, nil
	case o.Command.Does == Takes && !slices.Contains(lines, o.Value):
		return []string{NoLine}, false, nil
	}
	if err := c.Carry(o, who.Account); err != nil {
		return nil, false, err
	}
	return []string{"Done."}, true, nil
}

// NotNow begins what is said to whoever may do something that is not possible as things are.
const NotNow = "Not now: "

// NoLine is what is said to whoever takes away what is not there.
const NoLine = NotNow + "there is no such line."

// Carry does what an order does to the lines of a place.
func (c *Core[S]) Carry(o Order, account string) error {
	var how func(lines []string) []string
	switch o.Command.Does {
	case Adds:
		how = func(lines []string) []string { return append(lines, o.Value) }
	case Takes:
		how = func(lines []string) []string {
			n := slices.Index(lines, o.Value)
			return slices.Delete(lines, n, n+1)
		}
	}
	return c.Change(o.Place, o.Command.Topic, account, strings.TrimSpace(o.Command.Words+" "+o.Value), how)
}

// Rehearsal asks whether somebody could do what some lines say.
type Rehearsal struct {
	Account string   `json:"account"`
	Lines   []string `json:"lines"`
}

// Rehearse tells of each line whether somebody could do what it says: + or -, in their order.
func (c *Core[S]) Rehearse(who *Asker, lines []string) string {
	could := make([]byte, len(lines))
	for i, line := range lines {
		could[i] = '-'
		if !c.Settings.Open(who.Account, c.Now()) {
			continue
		}
		if _, done, err := c.Obey(who, line, true, nil); err == nil && done {
			could[i] = '+'
		}
	}
	return string(could)
}
