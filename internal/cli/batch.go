package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// maxBatchLine is how many bytes a request may have.
const maxBatchLine = 1 << 20

// evaluation is a request of OpenID AuthZEN 1.0, "Access Evaluation API".
type evaluation struct {
	Subject struct {
		Type string `json:"type"`
		ID   string `json:"id"`
	} `json:"subject"`
	Action struct {
		Name string `json:"name"`
	} `json:"action"`
	Resource struct {
		ID string `json:"id"`
	} `json:"resource"`
	Context map[string]json.RawMessage `json:"context"`
}

// evaluated is the answer to one.
type evaluated struct {
	Decision bool           `json:"decision"`
	Context  evaluatedAbout `json:"context"`
}

type evaluatedAbout struct {
	Outcome string    `json:"outcome"`
	Error   string    `json:"error,omitempty"`
	Grants  *[]string `json:"grants,omitempty"`
	Blocks  *[]string `json:"blocks,omitempty"`
}

// tryBatch answers requests line by line, in order, without keeping any. It goes on past a line that is wrong.
func (a *app) tryBatch(g *gate.Gate, name string, why bool) error {
	if a.format != "text" {
		return fmt.Errorf("--batch writes NDJSON; leave --format out")
	}
	now, open, err := a.instant(g.Estate().Zone)
	if err != nil {
		return err
	}
	in, err := a.open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	longRun()
	b := batch{gate: g, now: now, open: open, why: why, context: g.NewContext()}
	r, w := bufio.NewReaderSize(in, 64<<10), bufio.NewWriterSize(a.Out, 64<<10)
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	failed := false
	write := func(line []byte, err error) error {
		if outcome, ok := b.plain(line, err); ok {
			_, err := w.WriteString(plainAnswers[outcome])
			return err
		}
		answer := b.answer(line, err)
		failed = failed || answer.Context.Error != ""
		return out.Encode(answer)
	}
	for {
		line, err := readLine(r)
		if len(bytes.TrimSpace(line)) > 0 || errors.Is(err, errLong) {
			if err := write(line, err); err != nil {
				return outside{err}
			}
			if r.Buffered() == 0 { // whoever waits for this answer gets it before sending more
				if err := w.Flush(); err != nil {
					return outside{err}
				}
			}
		}
		if err != nil && !errors.Is(err, errLong) {
			if err != io.EOF {
				return outside{err}
			}
			break
		}
	}
	if err := w.Flush(); err != nil {
		return outside{err}
	}
	if failed {
		return answered(exitWrong)
	}
	return nil
}

var errLong = fmt.Errorf("the line has more than %d bytes", maxBatchLine)

// readLine reads a line of at most maxBatchLine bytes; a longer one is skipped and is errLong.
func readLine(r *bufio.Reader) ([]byte, error) {
	line, err := r.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, err
	}
	long := bytes.Clone(line)
	for errors.Is(err, bufio.ErrBufferFull) {
		line, err = r.ReadSlice('\n')
		if len(long) <= maxBatchLine {
			long = append(long, line...)
		}
	}
	if len(long) > maxBatchLine && err == nil {
		err = errLong
	}
	return long, err
}

type batch struct {
	gate    *gate.Gate
	now     clock.Instant
	open    bool // the time, where a request gives none
	why     bool
	context *gate.Context
}

func (b *batch) answer(line []byte, err error) evaluated {
	var out evaluated
	var req gate.Request
	if err == nil || err == io.EOF {
		req, err = b.request(line)
	}
	if err == nil && b.why {
		var why gate.Explanation
		if why, err = b.gate.Explain(req); err == nil {
			grants, blocks := met(why.Grants), met(why.Blocks)
			out.Decision, out.Context.Outcome = why.Outcome == gate.Allow, why.Outcome.String()
			out.Context.Grants, out.Context.Blocks = &grants, &blocks
		}
	} else if err == nil {
		var outcome gate.Outcome
		if outcome, err = b.gate.Decide(req); err == nil {
			out.Decision, out.Context.Outcome = outcome == gate.Allow, outcome.String()
		}
	}
	if err != nil {
		if _, bad := estate.ParseAddress(req.Resource); bad != nil && req.Resource != "" {
			err = fmt.Errorf("resource.id: %w", bad)
		}
		out.Context = evaluatedAbout{Outcome: "error", Error: err.Error()}
	}
	return out
}

func (b *batch) request(line []byte) (gate.Request, error) {
	var e evaluation
	req := gate.Request{Context: b.context}
	if err := json.Unmarshal(line, &e); err != nil {
		return req, fmt.Errorf("this is no request: %w", err)
	}
	switch e.Subject.Type {
	case "person":
		req.Subject = estate.Principal{Kind: estate.IsPerson, ID: e.Subject.ID}
	case "service":
		req.Subject = estate.Principal{Kind: estate.IsService, ID: e.Subject.ID}
	case "anonymous":
		req.Subject = estate.Principal{Kind: estate.IsAnonymous}
	default:
		return req, fmt.Errorf("subject.type is %q; it is person, service or anonymous", e.Subject.Type)
	}
	if req.Operation = e.Action.Name; req.Operation == "" {
		return req, fmt.Errorf("action.name is missing")
	}
	req.Resource = e.Resource.ID // the gate reads it, and sees whether it is an address
	b.context.Reset()
	if !b.open {
		b.context.Time(b.now)
	}
	for key, raw := range e.Context {
		if string(raw) == "null" {
			continue // the same as left out
		}
		if err := b.say(key, raw); err != nil {
			return req, fmt.Errorf("context.%s: %w", key, err)
		}
	}
	return req, nil
}

// say puts one thing of a request's context into ours.
func (b *batch) say(key string, raw json.RawMessage) error {
	switch key {
	case "time", "network", "sign-in":
		text, err := jsonText(raw)
		if err != nil {
			return err
		}
		switch key {
		case "time":
			at, err := b.gate.Estate().Zone.ParseTime(text)
			if err != nil {
				return err
			}
			b.context.Time(at)
		case "network":
			addr, err := estate.ParseAddr(text)
			if err != nil {
				return err
			}
			b.context.Network(addr)
		default:
			if !slices.Contains(estate.SignIns, text) {
				return fmt.Errorf("%q is none of %s", text, strings.Join(estate.SignIns, ", "))
			}
			b.context.SignIn(text)
		}
	case "mfa":
		if string(raw) != "true" && string(raw) != "false" {
			return fmt.Errorf("it is true or false")
		}
		b.context.MFA(string(raw) == "true")
	case "reason", "ticket":
		given := string(raw) == "true"
		if raw[0] == '"' {
			text, err := jsonText(raw)
			if err != nil {
				return err
			}
			given = text != ""
		} else if !given && string(raw) != "false" {
			return fmt.Errorf("it is a text, true or false")
		}
		if key == "reason" {
			b.context.Reason(given)
		} else {
			b.context.Ticket(given)
		}
	case "roles":
		var roles []string
		if err := json.Unmarshal(raw, &roles); err != nil {
			return fmt.Errorf("it is a list of roles")
		}
		b.context.Roles = roles
	default:
		switch raw[0] {
		case '"':
			text, err := jsonText(raw)
			if err != nil {
				return err
			}
			b.context.Attribute(key, text)
		case '{', '[':
			return fmt.Errorf("an attribute is a text, a number or a truth value")
		default:
			b.context.Attribute(key, string(raw))
		}
	}
	return nil
}

// jsonText reads a JSON string; one without escapes without a decoder.
func jsonText(raw json.RawMessage) (string, error) {
	if len(raw) < 2 || raw[0] != '"' {
		return "", fmt.Errorf("it is a text in quotes")
	}
	if !bytes.ContainsRune(raw, '\\') {
		return string(raw[1 : len(raw)-1]), nil
	}
	var text string
	err := json.Unmarshal(raw, &text)
	return text, err
}
