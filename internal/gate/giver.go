package gate

import (
	"encoding/binary"

	"hiddengate/internal/estate"
)

// Giver tells through which grants a subject may do what it may, in one context. Where the same grants and blocks meet
// resources that nothing else tells apart, it looks once.
type Giver struct {
	gate    *Gate
	who     estate.Principal
	context *Context
	known   map[string]map[string][]string // by what tells resources apart, and by operation
	key     []byte
	row     int // of the key
}

// Giver gives one for a subject, whom the estate must know.
func (g *Gate) Giver(p estate.Principal, c *Context) *Giver {
	return &Giver{gate: g, who: p, context: c, known: map[string]map[string][]string{}, row: -1}
}

// On names the grants that give an operation on the listed resource of a row, as an explanation names them: those that
// are met.
func (v *Giver) On(row int, operation string) ([]string, error) {
	if v.row != row {
		v.lookAt(row)
	}
	byOperation := v.known[string(v.key)]
	if byOperation == nil {
		byOperation = map[string][]string{}
		v.known[string(v.key)] = byOperation
	}
	ids, ok := byOperation[operation]
	if !ok {
		why, err := v.gate.Explain(Request{Subject: v.who, Operation: operation, Resource: v.gate.estate.Tree.Address(row),
			Context: v.context})
		if err != nil {
			return nil, err
		}
		ids = Met(why.Grants)
		byOperation[operation] = ids
	}
	return ids, nil
}

// lookAt gathers all by which resources can differ for the subject.
func (v *Giver) lookAt(row int) {
	g, at := v.gate, v.gate.Places.Spots[row]
	s := g.subject(v.who)
	v.row, v.key = row, binary.AppendUvarint(v.key[:0], uint64(at.Class))
	for _, gr := range g.grantsAt(s, at) {
		v.key = binary.AppendUvarint(v.key, uint64(gr.Number)+1)
	}
	v.key = append(v.key, 0)
	for _, b := range s.Blocks {
		if g.Places.Covers(b.List, at) {
			v.key = binary.AppendUvarint(v.key, uint64(b.Number)+1)
		}
	}
	v.key = append(v.key, 0)
	if len(g.lent) > 0 {
		v.key = binary.AppendUvarint(v.key, uint64(at.Mark))
	}
	r := &g.estate.Tree.Rows[row]
	if g.Facts.Fixed > 1 {
		v.key = binary.AppendUvarint(v.key, uint64(r.Tags))
	}
	if g.Facts.Owner {
		v.key = binary.AppendUvarint(v.key, uint64(r.Owner))
	}
}
