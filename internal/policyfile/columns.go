package policyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/lookup"
	"hiddengate/internal/parallel"
	"hiddengate/internal/plainjson"
)

// An inventory of resources can have millions of lines, and nearly all of them say no more than an address, a type,
// tags and an owner, in plain letters. Such lines are read straight into columns, block by block on all cores; what a
// type, an owner or a set of tags means is asked of the ordinary reader, once for each text. Every other line, each
// wrong one among them, goes to the ordinary reader as it stands.

const blockSize = 1 << 20

// block is some whole lines of an inventory.
type block struct {
	line int // of the first
	text []byte
}

// part is what became of a block.
type part struct {
	listing *estate.Listing
	other   []otherLine
}

// otherLine is a line for the ordinary reader.
type otherLine struct {
	number int
	text   []byte
}

// readResources reads NDJSON.
func (r *reader) readResources(in io.Reader, take func(*yaml.Node)) {
	free := make(chan []byte, 2*parallel.Workers()+2)
	var parts []*part
	var lines int
	var err error
	parallel.Ordered(func(yield func(block) bool) {
		lines, err = cutBlocks(in, yield, free)
	}, func(int) func(block) *part {
		c := &columnReader{probe: r.scratch(), vocabulary: estate.NewVocabulary(), types: map[string]uint32{},
			tags: map[string]uint32{}, owners: map[string]uint32{}}
		return func(b block) *part {
			p := &part{listing: estate.NewListing(r.file, c.vocabulary, len(b.text))}
			c.read(b, p)
			select {
			case free <- b.text[:0]:
			default: // there are enough
			}
			return p
		}
	}, func(p *part) bool {
		parts = append(parts, p)
		return true
	})
	for _, p := range parts {
		r.estate.Listings = append(r.estate.Listings, p.listing)
		for _, l := range p.other {
			if len(r.errors) < MaxErrors {
				r.readLine(l.text, l.number, take)
			}
		}
	}
	if err != nil && !errors.Is(err, errHidden) {
		help := ""
		if errors.Is(err, errLongLine) {
			help = fmt.Sprintf("a line has at most %d bytes", MaxLine)
		}
		r.fail(diagnostic.Position{File: r.file, Line: lines + 1, Column: 1}, help, "the inventory can't be read: %s",
			reason(err))
	}
}

var errLongLine = errors.New("the line is too long")

// cutBlocks gives blocks of whole lines until the input ends, and counts the lines.
func cutBlocks(in io.Reader, yield func(block) bool, free <-chan []byte) (lines int, err error) {
	var rest []byte
	for {
		var text []byte
		select {
		case text = <-free:
		default:
			text = make([]byte, 0, blockSize+4096)
		}
		text = append(text, rest...)
		for len(text) < blockSize && err == nil {
			text = slices.Grow(text, blockSize-len(text))
			var n int
			n, err = in.Read(text[len(text):cap(text)])
			text = text[:len(text)+n]
		}
		end := bytes.LastIndexByte(text, '\n') + 1
		if err == io.EOF {
			end = len(text)
		} else if err != nil {
			return lines, err
		}
		if end == 0 && len(text) > 0 {
			return lines, errLongLine // a block has room for the longest
		}
		rest = append(rest[:0], text[end:]...)
		b := block{lines + 1, text[:end]}
		lines += bytes.Count(b.text, []byte("\n"))
		if !yield(b) || err == io.EOF {
			return lines, nil
		}
	}
}

// scratch is a reader whose errors nobody sees.
func (r *reader) scratch() *reader {
	return &reader{loader: &loader{estate: r.estate, zone: r.zone}, file: r.file, bad: map[*yaml.Node]bool{}}
}

// columnReader reads blocks into columns that share its vocabulary.
type columnReader struct {
	probe               *reader
	listing             *estate.Listing
	vocabulary          *estate.Vocabulary
	types, tags, owners map[string]uint32 // numbers by the JSON of a value
	values              values
}

// values are the parts of a line, as they stand: the address without its quotes, the others with them.
type values struct{ at, typ, tags, owner []byte }

func (c *columnReader) read(b block, p *part) {
	c.listing = p.listing
	text := b.text
	for number := b.line; len(text) > 0; number++ {
		line := text
		if end := bytes.IndexByte(text, '\n'); end >= 0 {
			line, text = text[:end], text[end+1:]
		} else {
			text = nil
		}
		if !c.line(line, number) && len(bytes.TrimSpace(line)) > 0 {
			p.other = append(p.other, otherLine{number, bytes.Clone(line)})
		}
	}
}

// line reads a plain line; false if it is none, and then nothing has happened.
func (c *columnReader) line(line []byte, number int) bool {
	v := &c.values
	*v = values{}
	if !v.split(line) {
		return false
	}
	address, ok := estate.PlainAddress(lookup.Text(v.at))
	if !ok || address.Path == "" {
		return false
	}
	typ, known := c.types[string(v.typ)]
	tags, knownTags := c.tags[string(v.tags)]
	owner, knownOwner := c.owner(v.owner)
	if !known || !knownTags || !knownOwner {
		if !c.learn(line, number) {
			return false
		}
		typ, tags = c.types[string(v.typ)], c.tags[string(v.tags)]
		if owner, knownOwner = c.owner(v.owner); !knownOwner {
			return false
		}
	}
	c.listing.Add(v.at, len(address.System), estate.Listed{Line: number, Type: typ, Tags: tags, Owner: owner})
	return true
}

// owner gives the number of an owner. There can be as many as people, so what is plainly one is not asked about.
func (c *columnReader) owner(text []byte) (uint32, bool) {
	if text == nil {
		return estate.NoneSaid, true
	}
	if n, known := c.owners[string(text)]; known {
		return n, true
	}
	if p, err := estate.ParsePrincipal(string(text[1 : len(text)-1])); err == nil && p.Kind <= estate.IsGroup {
		note(c.owners, text, &c.vocabulary.Owners, &p)
		return c.owners[string(text)], true
	}
	return 0, false
}

// learn has the ordinary reader read a line, and notes what its values come to.
func (c *columnReader) learn(line []byte, number int) bool {
	r := c.probe
	r.errors = r.errors[:0]
	n, err := r.jsonLine(line, number)
	if err != nil || len(r.errors) > 0 {
		return false
	}
	e := &listedResource{}
	if !r.fields(inventoryResourceFields, e, n, owner{"a resource", r.at(n)}) || len(r.errors) > 0 {
		return false
	}
	v, l := &c.values, c.vocabulary
	if len(l.Types) > MaxTypes {
		return false // there are not so many
	}
	note(c.types, v.typ, &l.Types, e.Type)
	note(c.tags, v.tags, &l.Tags, e.Tags)
	if e.NoOwner {
		c.owners[string(v.owner)] = estate.Cleared
	}
	return true
}

// note keeps what a text means under the next number; no text means what the first number does.
func note[T any](numbers map[string]uint32, text []byte, list *[]T, means T) {
	if _, known := numbers[string(text)]; known {
		return
	}
	if text == nil {
		numbers[""] = 0
		return
	}
	numbers[string(text)] = uint32(len(*list))
	*list = append(*list, means)
}

// split finds the values of a plain line: an object of at, type, tags and owner, each once at most.
func (v *values) split(b []byte) bool {
	end := plainjson.Object(b, plainjson.Blank(b, 0), func(key []byte, i int) int {
		var to *[]byte
		end := -1
		switch string(key) {
		case "at":
			to, end = &v.at, plainjson.Text(b, i)
		case "type":
			to, end = &v.typ, plainjson.Text(b, i)
		case "owner":
			to, end = &v.owner, plainjson.Text(b, i)
		case "tags":
			to, end = &v.tags, plainjson.Object(b, i, func(_ []byte, i int) int { return plainjson.Text(b, i) })
		}
		if end < 0 || *to != nil {
			return -1
		}
		*to = b[i:end]
		return end
	})
	if end < 0 || plainjson.Blank(b, end) < len(b) || v.at == nil {
		return false
	}
	v.at = plainjson.Inner(v.at)
	return true
}
