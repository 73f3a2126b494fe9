package placemap

import (
	"iter"
	"math/bits"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/lookup"
)

// Traits tells which of the lists that select by tags, types, owners and patterns cover a resource. Resources with
// the same class, the same patterns over them, and the same values of the tags and owners that any such list asks
// about have the same trait; it is worked out for the first of them. Trait 0 is that of none.
type Traits struct {
	Estate   *estate.Estate
	tree     *estate.Tree
	Complex  []estate.Resources // by bit, the lists that traits tell
	patterns []estate.Pattern   // that those lists name
	words    int                // of a trait's bits
	Bits     []uint64           // of each trait, the lists that cover it
	numbers  lookup.Table       // of traits by their bits; made once one is looked for
	known    map[traitKey]uint32
	machines []*Automaton // of each of the tree's systems that has been asked for; nil where no pattern fits it
	built    []bool       // which of them have been made
	sets     *lookup.Sequences
	keys     map[string]bool // of tags that lists ask about
	owners   map[estate.Principal]bool
	values   []uint32      // of each of the tree's tags, the number of those values that matter
	owner    []uint32      // of each of the tree's owners, its number if it matters, else 0
	terms    func() *terms // of those lists, taken apart once somebody asks
	judging  judging
	Classes  *opset.Classes  // of systems' types
	offers   []*estate.Offer // of each of the tree's systems
}

type traitKey struct{ class, values, owner, patterns uint32 }

func (t *Traits) init(p *Map, classes *opset.Classes) {
	t.Estate, t.tree = p.Estate, p.Estate.Tree
	t.words = (len(p.Complex) + 63) / 64
	t.Bits = make([]uint64, t.words)
	t.known = map[traitKey]uint32{}
	t.keys, t.owners = map[string]bool{}, map[estate.Principal]bool{}
	tree := p.Estate.Tree
	t.Classes = classes
	for _, s := range tree.Systems {
		offer := p.Estate.Offer(s.Kind.ID)
		t.offers = append(t.offers, offer)
		for _, name := range offer.Placed() {
			classes.Number(s.Kind.ID, name) // so that deciding adds none
		}
	}
	if len(p.Complex) == 0 {
		return
	}
	var patterns []estate.Pattern
	seen := map[string]uint32{}
	var gather func(l estate.Resources)
	gather = func(l estate.Resources) {
		for i := range l {
			term := &l[i]
			if term.Scope != "" {
				gather(p.Estate.Scopes[term.Scope].Resources)
			}
			for _, m := range term.Tags {
				t.keys[m.Key] = true
			}
			for _, o := range term.Owners {
				t.owners[o] = true
			}
			if term.In != nil {
				text := term.In.String()
				if _, ok := seen[text]; !ok {
					seen[text] = uint32(len(patterns))
					patterns = append(patterns, *term.In)
				}
			}
		}
	}
	for _, l := range p.Complex {
		gather(l)
	}
	t.patterns = patterns
	t.forgetMachines()
	t.number(tree)
	t.terms = sync.OnceValue(func() *terms { return newTerms(p.Estate, p.Complex, seen) })
}

// learn finds every listed resource's trait.
func (t *Traits) learn(p *Map) {
	if len(t.Complex) == 0 {
		return
	}
	tree := t.tree
	states := make([]uint32, tree.Len())
	var last traitKey
	var lastTrait uint32
	first := true
	for i, row := range tree.Rows {
		if !p.KnowsRow(i) {
			continue
		}
		key := traitKey{class: p.Spots[i].Class, values: t.values[row.Tags], owner: t.owner[row.Owner]}
		if a := t.machine(row.System); a != nil {
			if row.Parent == 0 {
				states[i] = a.Root()
			} else {
				above := tree.Address(int(row.Parent - 1))
				states[i] = a.Step(states[row.Parent-1], tree.Address(i)[len(above)+1:])
			}
			key.patterns = a.States[states[i]].set
		}
		if first || key != last {
			first, last = false, key
			var ok bool
			if lastTrait, ok = t.known[key]; !ok {
				lastTrait = t.judge(tree.At(i), key.patterns)
				t.known[key] = lastTrait
			}
		}
		p.Spots[i].Trait = lastTrait
	}
}

// forget lets go of what the automata have met on the way through all listed resources: on large estates that is
// hundreds of megabytes. The traits stay.
func (t *Traits) forget() {
	if len(t.Complex) > 0 {
		t.known = map[traitKey]uint32{} // its keys name sets that are numbered anew
		t.forgetMachines()
	}
}

// forgetMachines has the systems' automata made anew, each once it is asked for.
func (t *Traits) forgetMachines() {
	t.machines, t.built = make([]*Automaton, len(t.tree.Systems)), make([]bool, len(t.tree.Systems))
	t.sets = lookup.NewSequences()
}

// machine gives the automaton of a system; nil where no pattern fits the system.
func (t *Traits) machine(system uint32) *Automaton {
	if !t.built[system] {
		s := t.tree.Systems[system]
		if a := NewAutomaton(s, t.Estate.Folds(s), t.patterns, t.sets); len(a.Patterns) > 0 {
			t.machines[system] = a
		}
		t.built[system] = true
	}
	return t.machines[system]
}

// number gives tags and owners that no list tells apart the same number.
func (t *Traits) number(tree *estate.Tree) {
	byValues := map[string]uint32{"": 0}
	for _, tags := range tree.Tags {
		key := tags.Name(func(key string) bool { return t.keys[key] })
		n, ok := byValues[key]
		if !ok {
			n = uint32(len(byValues))
			byValues[key] = n
		}
		t.values = append(t.values, n)
	}
	for i, o := range tree.Owners {
		n := uint32(0)
		if o != nil && t.owners[*o] {
			n = uint32(i)
		}
		t.owner = append(t.owner, n)
	}
}

// numberOf gives the number of the trait with these bits.
func (t *Traits) numberOf(bits []uint64) uint32 {
	if !slices.ContainsFunc(bits, func(word uint64) bool { return word != 0 }) {
		return 0
	}
	count := len(t.Bits) / t.words
	if 2*(count+1) > len(t.numbers.Slots) {
		t.numbers = lookup.New(rand.Uint64(), 2*count+2)
		for n := 1; n < count; n++ {
			t.numbers.Add(lookup.HashWords(t.numbers.Seed, t.bitsOf(n)), n)
		}
	}
	h := lookup.HashWords(t.numbers.Seed, bits)
	for i := h; ; {
		var n int
		if n, i = t.numbers.Probe(h, i); n < 0 {
			break
		} else if slices.Equal(t.bitsOf(n), bits) {
			return uint32(n)
		}
	}
	t.numbers.Add(h, count)
	t.Bits = append(t.Bits, bits...)
	return uint32(count)
}

// bitsOf gives the bits of a trait.
func (t *Traits) bitsOf(trait int) []uint64 { return t.Bits[trait*t.words : (trait+1)*t.words] }

// Has says whether a list, by its bit, covers what has the trait.
func (t *Traits) Has(trait uint32, bit int) bool {
	return t.Bits[int(trait)*t.words+bit/64]&(1<<(bit%64)) != 0
}

// Lists gives the lists, by their bits, that cover what has the trait.
func (t *Traits) Lists(trait uint32) iter.Seq[int] {
	return func(yield func(int) bool) {
		if trait == 0 {
			return
		}
		for i, word := range t.Bits[int(trait)*t.words : int(trait+1)*t.words] {
			for ; word != 0; word &= word - 1 {
				if !yield(64*i + bits.TrailingZeros64(word)) {
					return
				}
			}
		}
	}
}

// classBelow gives the class of what stands below a row, of some depth, by the rest of its path.
func (p *Map) classBelow(above estate.Row, depth int, left string) uint32 {
	offer, typ := p.offers[above.System], p.Estate.Tree.Types[above.Type]
	for left != "" {
		name, rest, _ := strings.Cut(left, "/")
		depth++
		typ, left = offer.TypeOf(depth, name, typ), rest
	}
	return p.Classes.Number(offer.Kind.ID, typ)
}

// maxKnown bounds how many ways of unlisted addresses are kept.
const maxKnown = 1 << 20

// Unlisted gives the spot of an address in no inventory, and the listed row nearest above it; the address is canonical
// and its system is listed. It keeps what it learns, so a second address like the first costs no memory.
func (p *Map) Unlisted(address string) (at Spot, row int) {
	tree := p.Estate.Tree
	mark, found, depth, left := uint32(0), false, 0, address
	colon := strings.IndexByte(address, ':')
	for text := address; ; depth++ {
		hash := lookup.Hash(tree.Names.Table.Seed, text) // both tables have the seed
		if !found && len(p.phantom) > 0 {
			if i := p.phantoms.FindHash(hash, text); i >= 0 {
				mark, found = p.phantom[i], true
			}
		}
		if depth > 0 { // the address itself is not listed
			if row = tree.Names.FindHash(hash, text); row >= 0 {
				left = strings.TrimLeft(address[len(text):], ":/")
				break
			}
		}
		if len(text) <= colon || colon < 0 {
			return Spot{}, -1
		}
		text = text[:max(colon, strings.LastIndexByte(text, '/'))]
	}
	depth = 0
	for r := row; tree.Rows[r].Parent > 0; r = int(tree.Rows[r].Parent - 1) {
		depth++
	}
	above := tree.Rows[row]
	if !found {
		mark = p.Spots[row].Mark
	}
	at = Spot{Mark: mark, Class: p.classBelow(above, depth, left)}
	if len(p.Complex) == 0 {
		return at, row
	}
	key := traitKey{class: at.Class, values: p.values[above.Tags], owner: p.owner[above.Owner]}
	if a := p.machine(above.System); a != nil {
		system := tree.Systems[above.System].ID
		key.patterns = a.walk(address[len(system)+1:])
	}
	trait, ok := p.known[key]
	if !ok {
		a, err := estate.ParseAddress(address)
		if err != nil {
			panic("gate: no canonical address: " + address)
		}
		if len(p.known) >= maxKnown {
			clear(p.known)
		}
		trait = p.judge(p.Estate.Unlisted(a), key.patterns)
		p.known[key] = trait
	}
	at.Trait = trait
	return at, row
}
