package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"hiddengate/internal/estate"
)

// filter is what --where asks of an entry: that a key has a value, or one that is less or greater.
type filter struct {
	key, operator, value string
	length               time.Duration // of a value that is a duration
}

// parseFilter reads KEY=VALUE, KEY<VALUE and the like. now is the moment from which a duration counts where it is held
// against a date, as 30d is in thirty days and -30d was thirty days ago.
func parseFilter(text string, now time.Time) (filter, error) {
	at := strings.IndexAny(text, "=<>")
	if at <= 0 {
		return filter{}, fmt.Errorf("--where %s: write KEY=VALUE, KEY<VALUE or KEY>VALUE, as in --where tag.team=domes or "+
			"--where 'ends<30d'", text)
	}
	f := filter{key: text[:at], operator: text[at : at+1], value: text[at+1:]}
	if f.operator == "=" {
		return f, nil
	}
	f.value = strings.TrimPrefix(f.value, "=")
	if len(f.value) < len(text)-at-1 {
		f.operator += "="
	}
	if _, err := strconv.ParseFloat(f.value, 64); err == nil {
		return f, nil
	}
	if d, err := estate.ParseDuration(strings.TrimPrefix(f.value, "-")); err == nil {
		f.length = d
		if strings.HasPrefix(f.value, "-") {
			f.length = -d
		}
		f.value = now.Add(f.length).Format(time.DateOnly)
	}
	if !startsWithDay(f.value) {
		return filter{}, fmt.Errorf("--where %s: what is less or greater is a number, a date or a duration, as in "+
			"--where 'ends<2028-06-30' or --where 'ends<30d'", text)
	}
	return f, nil
}

// startsWithDay says whether a text is a date, or an instant.
func startsWithDay(text string) bool {
	if len(text) < len(time.DateOnly) {
		return false
	}
	_, err := time.Parse(time.DateOnly, text[:len(time.DateOnly)])
	return err == nil
}

// keeps says whether an entry is as the filter asks. What can't be held against the value is not kept.
func (f filter) keeps(e *entry) bool {
	text := e.text(f.key)
	if f.operator == "=" {
		return holdsValue(e, f.key, f.value)
	}
	order, comparable := f.order(text)
	return comparable && (strings.HasPrefix(f.operator, "<") && order < 0 ||
		strings.HasPrefix(f.operator, ">") && order > 0 || strings.HasSuffix(f.operator, "=") && order == 0)
}

// order compares a text with the filter's value, both as numbers, durations or dates. An instant is compared with a day
// by its day.
func (f filter) order(text string) (order int, comparable bool) {
	number, err := strconv.ParseFloat(text, 64)
	value, notNumber := strconv.ParseFloat(f.value, 64)
	if err == nil || notNumber == nil {
		return cmp.Compare(number, value), err == nil && notNumber == nil
	}
	if d, err := estate.ParseDuration(text); err == nil {
		return cmp.Compare(d, f.length), f.length != 0
	}
	return strings.Compare(text[:min(len(text), len(f.value))], f.value), startsWithDay(text)
}
