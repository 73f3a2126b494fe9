package auditing

import "hiddengate/internal/gate/differing"

// borne tells where nobody lacks what an operation needs, whoever has what: each grant there that gives the operation
// gives what is needed whenever it does, and each block there that denies what is needed denies the operation. Where a
// session limits roles it is so as well, since what may be done in some session is held against what may be in some.
type borne struct {
	blocks [][]uint32 // of each block, by number, the needs that it takes away from an operation that it leaves
	at     [][]uint32 // of each pile, the blocks that take away some
	not    []bool     // of each need, that this is not so on the pile at hand
}

func newBorne(c *differing.Cells, needs []need) borne {
	b := borne{at: make([][]uint32, c.Numbers()), not: make([]bool, len(needs))}
	e := c.Estate()
	for n, block := range c.CompiledBlocks() {
		var takes []uint32
		for i, need := range needs {
			if block.Deny.Fit(e.Operations[need.names[1]], e.Edition) &&
				!block.Deny.Fit(e.Operations[need.names[0]], e.Edition) {
				takes = append(takes, uint32(i))
			}
		}
		if b.blocks = append(b.blocks, takes); takes == nil {
			continue
		}
		for _, pile := range c.Covered(block.List) {
			b.at[pile] = append(b.at[pile], uint32(n))
		}
	}
	return b
}

// begin begins with a pile and the grants there.
func (b *borne) begin(pile uint32, all []givingGrant, at []uint32) {
	clear(b.not)
	for _, n := range at {
		for _, given := range all[n].gives {
			b.not[given.need] = b.not[given.need] || !given.bears
		}
	}
	for _, n := range b.at[pile] {
		for _, need := range b.blocks[n] {
			b.not[need] = true
		}
	}
}

// has says whether nobody lacks a need, judged on the pile itself.
func (b *borne) has(pile uint32, j judgement) bool { return j.above == pile && !b.not[j.need] }
