package directory

import (
	"bufio"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// entry is an entry of a directory: its name and its attributes, several values each. Attributes' names ignore case.
type entry struct {
	dn     string
	names  []string // as they are written, in their order
	values map[string][]string
}

func newEntry(dn string) *entry { return &entry{dn: dn, values: map[string][]string{}} }

func (e *entry) add(name string, values ...string) {
	key := strings.ToLower(name)
	if e.values[key] == nil {
		e.names = append(e.names, name)
	}
	e.values[key] = append(e.values[key], values...)
}

// all gives the values of an attribute.
func (e *entry) all(name string) []string { return e.values[strings.ToLower(name)] }

// first gives the first value of an attribute, "" if it has none.
func (e *entry) first(name string) string {
	if all := e.all(name); len(all) > 0 {
		return all[0]
	}
	return ""
}

// Limits of what is read from a directory.
const (
	MaxSource  = 512 << 20 // bytes of a file, and of all that a directory says
	MaxEntries = 2_000_000 // entries of it
	maxLDIF    = 16 << 20  // bytes of one line of LDIF, its continuations included
)

// parseLDIF reads content records of LDIF (RFC 2849): no changes, and no values that stand elsewhere.
func parseLDIF(in io.Reader) (out []*entry, err error) {
	lines := bufio.NewReaderSize(in, 64<<10)
	var now *entry
	number, started := 0, false
	for {
		line, first, next, err := foldedLine(lines, number)
		if err != nil && err != io.EOF {
			return nil, fmt.Errorf("%d:1: %w", next, err)
		}
		number = next
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("%d:1: this is not LDIF: %s", first, fmt.Sprintf(format, args...))
		}
		switch {
		case line == "":
			now = nil
		case line[0] == '#':
		default:
			name, value, bad := ldifLine(line)
			switch {
			case bad != nil:
				return nil, wrong("%s", bad)
			case strings.EqualFold(name, "version") && !started && now == nil:
				if value != "1" {
					return nil, wrong("its version is %q, and 1 is read", value)
				}
			case strings.EqualFold(name, "dn"):
				if now != nil {
					return nil, wrong("a blank line stands before the next dn")
				}
				if len(out) == MaxEntries {
					return nil, wrong("there are more than %d entries", MaxEntries)
				}
				now, started = newEntry(value), true
				out = append(out, now)
			case now == nil:
				return nil, wrong("an entry begins with dn")
			case strings.EqualFold(name, "changetype") || strings.EqualFold(name, "control"):
				return nil, wrong("it describes changes, and entries are read")
			default:
				now.add(name, value)
			}
		}
		if err == io.EOF {
			return out, nil
		}
	}
}

// foldedLine reads a line with those that continue it, which begin with a blank; and says which is its first and which
// the last that was read.
func foldedLine(r *bufio.Reader, before int) (line string, first, last int, err error) {
	var b strings.Builder
	first, last = before+1, before
	for {
		text, err := r.ReadSlice('\n')
		for errors.Is(err, bufio.ErrBufferFull) {
			b.Write(text)
			if b.Len() > maxLDIF {
				return "", first, last + 1, fmt.Errorf("a line has more than %d bytes", maxLDIF)
			}
			text, err = r.ReadSlice('\n')
		}
		last++
		b.WriteString(strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r"))
		if b.Len() > maxLDIF {
			return "", first, last, fmt.Errorf("a line has more than %d bytes", maxLDIF)
		}
		if err != nil {
			return b.String(), first, last, err
		}
		if next, _ := r.Peek(1); len(next) == 0 || next[0] != ' ' || b.Len() == 0 {
			return b.String(), first, last, nil
		}
		_, _ = r.Discard(1)
	}
}

// ldifLine takes a line apart: a name, and a value that is plain or in base64. Options of the name (`;lang-pt`) stay.
func ldifLine(line string) (name, value string, err error) {
	name, rest, ok := strings.Cut(line, ":")
	switch {
	case !ok || name == "":
		return "", "", errors.New("a line is NAME: VALUE")
	case strings.ContainsFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(".;-_", r))
	}):
		return "", "", fmt.Errorf("%q is no name of an attribute", name)
	case strings.HasPrefix(rest, "<"):
		return "", "", fmt.Errorf("the value of %s stands elsewhere (:<), and is not fetched", name)
	case strings.HasPrefix(rest, ":"):
		text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest[1:]))
		if err != nil {
			return "", "", fmt.Errorf("the value of %s is not base64", name)
		}
		value = string(text)
	default:
		value = strings.TrimLeft(rest, " ")
	}
	if !utf8.ValidString(value) {
		value = "" // a picture or a password: nothing that is asked for
	}
	return name, value, nil
}

// writeLDIF writes entries, lines of at most 76 characters.
func writeLDIF(out io.Writer, entries []*entry) error {
	w := bufio.NewWriter(out)
	_, _ = w.WriteString("version: 1\n")
	for _, e := range entries {
		_, _ = w.WriteString("\n")
		writeLDIFLine(w, "dn", e.dn)
		for _, name := range e.names {
			for _, value := range e.all(name) {
				writeLDIFLine(w, name, value)
			}
		}
	}
	return w.Flush()
}

func writeLDIFLine(w *bufio.Writer, name, value string) {
	line := name + ": " + value
	if !safeLDIF(value) {
		line = name + ":: " + base64.StdEncoding.EncodeToString([]byte(value))
	}
	const wide = 76
	for at, room := 0, wide; at < len(line); room = wide - 1 {
		end := min(len(line), at+room)
		if at > 0 {
			_ = w.WriteByte(' ')
		}
		_, _ = w.WriteString(line[at:end] + "\n")
		at = end
	}
}

// safeLDIF says whether a value may stand plainly: SAFE-STRING of RFC 2849, and no blank at its end.
func safeLDIF(value string) bool {
	unsafe := func(c byte) bool { return c == 0 || c == '\n' || c == '\r' || c >= 0x7f }
	return value == "" || !strings.ContainsRune(" :<", rune(value[0])) && value[len(value)-1] != ' ' &&
		!slices.ContainsFunc([]byte(value), unsafe)
}
