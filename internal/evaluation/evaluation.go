// Package evaluation reads access evaluation requests of OpenID AuthZEN 1.0, "Access Evaluation API", a line of JSON
// each, asks a gate, and writes the answers. It does no I/O.
package evaluation

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/visible"
)

// Request is a request of OpenID AuthZEN 1.0, "Access Evaluation API".
type Request struct {
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

// Answer is the answer to one.
type Answer struct {
	Decision bool  `json:"decision"`
	Context  About `json:"context"`
}

// About is what an answer says beside yes or no. Grants and Blocks are told where Options.Why asks for them.
type About struct {
	Outcome string    `json:"outcome"`
	Error   string    `json:"error,omitempty"`
	Grants  *[]string `json:"grants,omitempty"`
	Blocks  *[]string `json:"blocks,omitempty"`
}

// Options say how requests are answered.
type Options struct {
	Now  clock.Instant // the time of a request that gives none
	Open bool          // it is open instead
	Why  bool          // answers name grants and blocks
}

// Batch answers requests one after another. Nothing that it or the gate keeps shares memory with a line, which may
// stand in a buffer that is written over as soon as the answer is there. It is not safe for concurrent use.
type Batch struct {
	Options
	gate    *gate.Gate
	context *gate.Context
}

// New gives a batch that asks a gate.
func New(g *gate.Gate, o Options) *Batch { return &Batch{o, g, g.NewContext()} }

// Append appends the answer to a line, a line itself, and says whether it is an error. An error in reading the line
// is answered in its place, io.EOF apart.
func (b *Batch) Append(out, line []byte, bad error) (_ []byte, failed bool) {
	if bad == io.EOF {
		bad = nil
	}
	if outcome, ok := b.plain(line, bad); ok {
		return append(out, plainAnswers[outcome]...), false
	}
	answer := b.answer(line, bad)
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(answer); err != nil { // it holds texts and truth values alone
		panic(err)
	}
	return append(out, visible.JSON(text.Bytes())...), answer.Context.Error != ""
}

func (b *Batch) answer(line []byte, err error) Answer {
	var out Answer
	var req gate.Request
	if err == nil {
		req, err = b.request(line)
	}
	if err == nil && b.Why {
		var why gate.Explanation
		if why, err = b.gate.Explain(req); err == nil {
			grants, blocks := gate.Met(why.Grants), gate.Met(why.Blocks)
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
		out.Context = About{Outcome: "error", Error: err.Error()}
	}
	return out
}

func (b *Batch) request(line []byte) (gate.Request, error) {
	var e Request
	req := gate.Request{Context: b.context}
	if err := json.Unmarshal(line, &e); err != nil {
		return req, fmt.Errorf("this is no request: %w", err)
	}
	if err := onceEach(line); err != nil {
		return req, err
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
	if !b.Open {
		b.context.Time(b.Now)
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
func (b *Batch) say(key string, raw json.RawMessage) error {
	if fact := estate.FactNamed(key); fact != nil {
		return b.sayFact(fact, raw)
	}
	switch key {
	case "time":
		text, err := jsonText(raw)
		if err != nil {
			return err
		}
		at, err := b.gate.Estate().Zone.ParseTime(text)
		if err != nil {
			return err
		}
		b.context.Time(at)
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

// sayFact puts a fact of a request's context into ours.
func (b *Batch) sayFact(fact *estate.Fact, raw json.RawMessage) error {
	isFlag := string(raw) == "true" || string(raw) == "false"
	switch {
	case fact.Kind == estate.YesNo && !isFlag:
		return fmt.Errorf("it is true or false")
	case fact.Kind == estate.Carried && !isFlag && raw[0] != '"':
		return fmt.Errorf("it is a text, true or false")
	case isFlag && (fact.Kind == estate.YesNo || fact.Kind == estate.Carried):
		b.context.Flag(fact, string(raw) == "true")
		return nil
	}
	text, err := jsonText(raw)
	if err != nil {
		return err
	}
	value, err := fact.Parse(text)
	if err == nil {
		b.context.Say(fact, value)
	}
	return err
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
