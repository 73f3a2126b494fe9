package standin

import (
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Command is one of the commands of a stand-in: it is done at a place of some type by whoever has the right there.
type Command struct {
	Words string   // that it begins with
	Right string   // that it needs
	On    []string // the types of places
	Topic string   // the lines of the place that it is about
	Does  Effect
}

// NewCommand makes a command: its words, the right that it needs, the types of places, the topic of its lines, and what
// it does to them.
func NewCommand(words, right string, on []string, topic string, does Effect) Command {
	return Command{Words: words, Right: right, On: on, Topic: topic, Does: does}
}

// Effect is what a command does to the lines of a place.
type Effect int

// What commands do.
const (
	Shows Effect = iota // prints them
	Adds                // adds one
	Takes               // takes one away
	Notes               // changes nothing but the log of the place
)

// RightsOf lists the rights that commands need.
func RightsOf(commands []Command) (out []string) {
	for _, c := range commands {
		if !slices.Contains(out, c.Right) {
			out = append(out, c.Right)
		}
	}
	return out
}

// Order is a line that somebody wrote, read.
type Order struct {
	Command *Command
	Place   string
	Value   string
}

// ReadLine reads a line as WORDS at PLACE, with ": VALUE" behind it where the command takes one. A place with a blank
// or a colon stands in double quotes. What is wrong is said in a sentence.
func ReadLine(commands []Command, line string) (o Order, wrong string) {
	for i := range commands {
		rest, fits := strings.CutPrefix(line, commands[i].Words)
		if fits && (rest == "" || strings.HasPrefix(rest, " ")) {
			o.Command, line = &commands[i], strings.TrimSpace(rest)
		}
	}
	if o.Command == nil {
		return o, "There is no such command. Write help to see those that you may use."
	}
	line, fits := strings.CutPrefix(line, "at ")
	if !fits {
		return o, "Say where: " + o.Command.Words + " at PLACE. Write places to see those that you have."
	}
	line = strings.TrimSpace(line)
	if strings.HasPrefix(line, `"`) {
		quoted, err := strconv.QuotedPrefix(line)
		if err != nil {
			return o, "The place has one quotation mark and lacks the other."
		}
		o.Place, _ = strconv.Unquote(quoted)
		line = line[len(quoted):]
	} else {
		end := strings.IndexAny(line, " :")
		if end < 0 {
			end = len(line)
		}
		o.Place, line = line[:end], line[end:]
	}
	value, given := strings.CutPrefix(strings.TrimSpace(line), ":")
	o.Value = strings.TrimSpace(value)
	switch {
	case !given && value != "":
		return o, "Behind the place comes a colon with what the command takes, and nothing else."
	case o.Value == "" && o.Command.Takes():
		return o, "Say what: " + o.Command.Words + " at PLACE: TEXT"
	case strings.ContainsFunc(o.Place+o.Value, func(c rune) bool { return c < ' ' || c == 0x7f }):
		return o, "The line has characters that cannot be seen."
	}
	return o, ""
}

// Line writes a command at a place, as ReadLine takes it.
func (c *Command) Line(place, value string) string {
	if strings.ContainsAny(place, `:"\`) || strings.ContainsFunc(place, unicode.IsSpace) || place == "" {
		place = strconv.Quote(place)
	}
	out := c.Words + " at " + place
	if value != "" {
		out += ": " + value
	}
	return out
}

// Takes says whether a text belongs to a command.
func (c *Command) Takes() bool { return c.Does == Adds || c.Does == Takes }
