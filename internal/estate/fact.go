package estate

import (
	"fmt"
	"slices"
	"strings"
)

// FactKind is what can be said of a fact.
type FactKind int

// The kinds of fact. A text stands for what is said: yes or no, a word, an address.
const (
	YesNo       FactKind = iota // it is so, or not
	Carried                     // the request carries one, or none
	Choice                      // one of a few words
	Ago                         // how long ago something was, as the shortest of a few times within which it was
	FromNetwork                 // the address the request comes from
)

// A Fact is one thing that a request can say beside its time, its own attributes and the roles of its session. Its name
// is the key in files and in JSON, and the flag.
type Fact struct {
	Name  string
	Kind  FactKind
	Words []string // of a Choice; of an Ago its times in order, and Longer
	// Flag, Given and Condition tell what it is where a command, a test and a condition name it. No condition names a
	// FromNetwork so.
	Flag, Given, Condition string
	Phrases                [2]string // of a YesNo or a Carried: how no and yes are said
	Phrase                 string    // of any other: how its value is said, which follows
}

// What is said of a YesNo or a Carried.
const (
	Yes = "yes"
	No  = "no"
)

// SignIns are the ways to sign in.
var SignIns = []string{"password", "passkey", "certificate", "key", "token"}

// Longer is said of an Ago that was longer ago than its longest time.
const Longer = "longer"

// recently are the times within which somebody can be said to have signed in.
var recently = []string{"1m", "5m", "15m", "30m", "1h", "2h", "4h", "8h", "12h", "24h", "7d", Longer}

// Facts are all of them, in the order in which they are said.
var Facts = []*Fact{
	{
		Name: "network", Kind: FromNetwork, Phrase: "from",
		Flag: "the `address` it comes from", Given: "from which address",
	},
	{
		Name: "mfa", Kind: YesNo, Phrases: [2]string{"without a second factor", "with a second factor"},
		Flag: "with a second factor: `yes` or no", Given: "with a second factor or without",
		Condition: "the request was made with a second factor (`false`: without)",
	},
	{
		Name: "sign-in", Kind: Choice, Words: SignIns, Phrase: "signed in by",
		Flag: "`how` the subject signed in: " + strings.Join(SignIns, ", "), Given: "how the subject signed in",
		Condition: "the subject signed in this way",
	},
	{
		Name: "signed-in-within", Kind: Ago, Words: recently, Phrase: "signed in within",
		Flag: "how long `ago` the subject signed in, as a duration, or longer", Given: "how long ago the subject signed in",
		Condition: "the subject signed in no longer ago than this",
	},
	{
		Name: "reason", Kind: Carried, Phrases: [2]string{"without a reason", "with a reason"},
		Flag: "the `text` of the reason it carries; an empty one is none", Given: "with a reason or without",
		Condition: "it carries a reason (`false`: none)",
	},
	{
		Name: "ticket", Kind: Carried, Phrases: [2]string{"without a ticket", "with a ticket"},
		Flag: "the `text` of the ticket it carries; an empty one is none", Given: "with a ticket or without",
		Condition: "it carries a ticket (`false`: none)",
	},
}

// FactNamed finds a fact; nil where there is none of the name.
func FactNamed(name string) *Fact {
	for _, f := range Facts {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// requestKeys are the keys by which the context of a request is read; no attribute may have one.
var requestKeys = func() []string {
	out := []string{"time", "roles"}
	for _, f := range Facts {
		out = append(out, f.Name)
	}
	return out
}()

// CheckAttribute tells what is wrong with the name of a request's attribute.
func CheckAttribute(name string) error {
	if slices.Contains(requestKeys, name) {
		return fmt.Errorf("%q is a fact of every request and can't be an attribute", name)
	}
	if name == "" {
		return fmt.Errorf("an attribute's name may not be empty")
	}
	return nil
}

// RequestKeys lists the keys by which the context of a request is read, its own attributes apart.
func RequestKeys() []string { return slices.Clone(requestKeys) }

// YesOrNo writes what is said of a YesNo or a Carried.
func YesOrNo(yes bool) string {
	if yes {
		return Yes
	}
	return No
}

// Parse reads what a flag, or a text of a request, says of a fact. Of a Carried any text says that there is one, and ""
// that there is none.
func (f *Fact) Parse(text string) (string, error) {
	switch f.Kind {
	case Carried:
		return YesOrNo(text != ""), nil
	case YesNo:
		if text != Yes && text != No {
			return "", fmt.Errorf("%q is neither yes nor no; write yes or no", text)
		}
	case Choice:
		if !slices.Contains(f.Words, text) {
			return "", fmt.Errorf("%q is none of %s", text, strings.Join(f.Words, ", "))
		}
	case Ago:
		return f.within(text)
	case FromNetwork:
		a, err := ParseAddr(text)
		return a.String(), err
	}
	return text, nil
}

// Say tells a value of the fact in words.
func (f *Fact) Say(value string) string {
	switch f.Kind {
	case YesNo, Carried:
		if value == Yes {
			return f.Phrases[1]
		}
		return f.Phrases[0]
	}
	if value == Longer {
		return "signed in longer ago than " + f.Words[len(f.Words)-2]
	}
	return f.Phrase + " " + value
}

// within gives the shortest time of an Ago that is no shorter than a duration.
func (f *Fact) within(text string) (string, error) {
	if text == Longer {
		return Longer, nil
	}
	ago, err := ParseDuration(text)
	if err != nil {
		return "", fmt.Errorf("%w, or %s", err, Longer)
	}
	for _, word := range f.Words[:len(f.Words)-1] {
		if time, err := ParseDuration(word); err == nil && ago <= time {
			return word, nil
		}
	}
	return Longer, nil
}

// FactTerm is what a condition asks of a fact: one of these values.
type FactTerm struct {
	Fact   string
	Values []string
}

// FactValue is what a request says of a fact.
type FactValue struct{ Fact, Value string }

// FactsSaid are what a request says of facts, each once, in the order of Facts. What it does not name is open.
type FactsSaid []FactValue

// Of gives what is said of a fact, "" where it is open.
func (s FactsSaid) Of(name string) string {
	for _, v := range s {
		if v.Fact == name {
			return v.Value
		}
	}
	return ""
}

// With says one thing more, or otherwise.
func (s FactsSaid) With(name, value string) FactsSaid {
	var out FactsSaid
	for _, f := range Facts {
		said := s.Of(f.Name)
		if f.Name == name {
			said = value
		}
		if said != "" {
			out = append(out, FactValue{f.Name, said})
		}
	}
	return out
}
