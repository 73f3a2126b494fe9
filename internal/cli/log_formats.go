package cli

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/logbook"
	"hiddengate/internal/tabular"
	"hiddengate/internal/visible"
)

// logWriter writes events in a format.
type logWriter struct {
	app     *app
	zone    *clock.Zone
	csv     *tabular.Writer
	written int
	objects []object // of json, which is one document
}

func (a *app) logWriter(e *estate.Estate) *logWriter {
	w := &logWriter{app: a, zone: e.Zone}
	if a.format == "csv" {
		w.csv = tabular.NewWriter(a.Out)
		w.csv.Write([]string{"number", "time", "actor", "user", "host", "command", "kind", "about", "what", "signed", "hash"})
	}
	return w
}

func (w *logWriter) any() bool { return w.written > 0 }

func (w *logWriter) write(t *logbook.Entry) error {
	w.written++
	switch w.app.format {
	case "text":
		logText(w.app.page(w.app.Out), w.zone, t)
		return nil
	case "csv":
		about := ""
		if t.About > 0 {
			about = strconv.FormatInt(t.About, 10)
		}
		w.csv.Write([]string{strconv.FormatInt(t.Number, 10), t.Time.String(), t.Actor, t.User, t.Host,
			t.Command, string(t.Kind), about, t.Sentence(w.zone), strconv.FormatBool(t.Signature != ""), t.Hash})
		return nil
	case "json":
		w.objects = append(w.objects, eventObject(t))
		return nil
	case "syslog":
		_, err := fmt.Fprintln(w.app.Out, syslogLine(w.zone, t))
		return err
	case "cloudevents":
		text, err := json.Marshal(cloudEvent(t))
		if err == nil {
			_, err = fmt.Fprintf(w.app.Out, "%s\n", visible.JSON(text))
		}
		return err
	}
	text, err := t.Shown().Encode()
	if err == nil {
		_, err = fmt.Fprintf(w.app.Out, "%s\n", text)
	}
	return err
}

// flush writes what is still held back.
func (w *logWriter) flush() error {
	if w.csv != nil {
		return w.csv.Flush()
	}
	return nil
}

// end ends what is one document.
func (w *logWriter) end() error {
	if w.app.format == "json" {
		return w.app.json(object{{"rows", append([]object{}, w.objects...)}})
	}
	return w.flush()
}

// eventObject writes an event as JSON.
func eventObject(t *logbook.Entry) object {
	out := object{{"number", t.Number}, {"at", t.Time.String()}, {"actor", t.Actor}, {"kind", string(t.Kind)},
		{"body", t.Shown().Body}, {"hash", t.Hash}, {"user", t.User}, {"host", t.Host}, {"command", t.Command}}
	if t.About > 0 {
		out = append(out, member{"about", t.About})
	}
	return append(out, member{"signed", t.Signature != ""})
}

// What the log's lines are to a system log (RFC 5424): of the facility "log audit", a notice; the enterprise number is
// the one for documentation (RFC 5612), as the program has none of its own.
const (
	syslogPriority = 13*8 + 5
	syslogElement  = "hgate@32473"
)

// syslogLine writes an event as a line of a system log (RFC 5424).
func syslogLine(zone *clock.Zone, t *logbook.Entry) string {
	field := func(text string, most int) string {
		text = strings.Map(func(r rune) rune {
			if r <= ' ' || r > '~' {
				return -1
			}
			return r
		}, text)
		if text == "" {
			return "-"
		}
		return text[:min(len(text), most)]
	}
	escape := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`, "\n", " ", "\r", " ")
	data := ""
	for _, pair := range [][2]string{{"number", strconv.FormatInt(t.Number, 10)}, {"actor", t.Actor}, {"user", t.User},
		{"command", t.Command}, {"hash", t.Hash}} {
		data += fmt.Sprintf(` %s="%s"`, pair[0], escape.Replace(visible.Clean(pair[1])))
	}
	text := visible.Clean(strings.ReplaceAll(t.Sentence(zone), "\n", " "))
	return fmt.Sprintf("<%d>1 %s %s hgate - %s [%s%s] \ufeff%s", syslogPriority, t.Time, field(t.Host, 255),
		field(string(t.Kind), 32), syslogElement, data, text)
}

// cloudEvent gives an event as a CloudEvent (CloudEvents 1.0, JSON format).
func cloudEvent(t *logbook.Entry) object {
	out := object{{"specversion", "1.0"}, {"id", t.Hash}, {"source", "urn:hgate:" + t.Ledger},
		{"type", "hgate." + string(t.Kind)}, {"time", t.Time.String()}, {"datacontenttype", "application/json"}}
	if t.About > 0 {
		out = append(out, member{"subject", fmt.Sprintf("request/%d", t.About)})
	} else if t.Request != nil {
		out = append(out, member{"subject", fmt.Sprintf("request/%d", t.Number)})
	}
	return append(out, member{"data", t.Shown()})
}
