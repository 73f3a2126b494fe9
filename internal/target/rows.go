package target

import (
	"reflect"
	"slices"
	"strings"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/newplace"
)

// RowClass is those rows of a table that have the same in the columns by which the policy tells rows apart. Where the
// system can be told of them, it stands in the state as a place inside the table.
type RowClass struct {
	Table   int // the place of the table
	Columns []Column
	row     *estate.Resource // such a row; where its owner is whoever asks, without one
	own     bool
}

// Column is a column of a table with what stands in it.
type Column struct {
	Name  string
	Sort  ColumnSort
	Value string   // of Text
	Told  []string // the texts that are told from others in it, in order
}

// ColumnSort says what stands in a column.
type ColumnSort int

// What stands in a column: nothing (NULL), a text that the policy tells from others, the name of the account that asks,
// or any other text.
const (
	Silent ColumnSort = iota
	Text
	Own
	Other
)

// Is says whether a column is another, with the same in it.
func (c Column) Is(other Column) bool {
	return c.Name == other.Name && c.Sort == other.Sort && c.Value == other.Value
}

// String says what stands in the column.
func (c Column) String() string {
	switch c.Sort {
	case Silent:
		return c.Name + " says nothing"
	case Own:
		return c.Name + " is the account"
	case Other:
		return c.Name + " is another"
	}
	return c.Name + ` is "` + c.Value + `"`
}

// mostClasses is into how many classes the rows of a table are told apart at most. Of a table with more, nothing is
// given that reads or changes rows.
const mostClasses = 512

// tableRows is the rows of a table, told apart.
type tableRows struct {
	place   int
	many    bool // more classes than are told apart; none is listed then
	classes []*RowClass
	told    []int // the places of the classes, where the system can be told of them
}

// nobody owns what is another's, and other is the value of a tag that the policy does not name.
var nobody, other = estate.Principal{ID: "\x00"}, "\x00"

// tellRows finds the tables of which the policy tells rows apart. The classes become places of a copy of the state.
func (w *Wanted) tellRows() {
	e := w.Gate.Estate()
	own := *w.State
	own.Places = slices.Clone(own.Places)
	onRows := w.Carries.onRows()
	for place, row := range w.rows {
		if row < 0 {
			continue
		}
		table, entry := e.Tree.At(row), e.Tree.Entry(row)
		if entry == nil || entry.Rows == nil {
			continue
		}
		if w.values == nil {
			w.tellValues()
		}
		t := &tableRows{place: place}
		w.classes(t, table, *entry.Rows)
		w.tables = append(w.tables, t)
		if onRows == 0 || t.many || !reflect.DeepEqual(own.Places[place].Rows, entry.Rows) {
			continue
		}
		own.Places[place].Lacks |= onRows // which is had on the classes
		for _, c := range t.classes {
			var says []string
			for _, column := range c.Columns {
				says = append(says, column.String())
			}
			t.told = append(t.told, len(own.Places))
			own.Places = append(own.Places, Place{Path: own.Places[place].Path + "/[" + strings.Join(says, ", ") + "]",
				Type: table.Type, Lacks: ^onRows, Class: c})
		}
	}
	w.State = &own
	for len(w.rows) < len(own.Places) {
		w.rows, w.judged = append(w.rows, -1), append(w.judged, true)
	}
}

// onRows lists the natives that are had on some rows of a table, as a mask.
func (c *Carries) onRows() (out Mask) {
	for k := range c.Natives {
		if c.Natives[k].OnRows {
			out |= 1 << k
		}
	}
	return out
}

// rowValues is what the policy tells apart in columns.
type rowValues struct {
	accounts map[string]estate.Principal // whose each account is
	owners   []string                    // the accounts that it tells from others
	tags     map[string][]string         // by key
}

// tellValues gathers by which owners and tags the policy tells resources apart: what lists and conditions name, what
// subjects have of a tag that is compared with theirs, and all accounts of whoever has several.
func (w *Wanted) tellValues() {
	e := w.Gate.Estate()
	v := &rowValues{accounts: map[string]estate.Principal{}, tags: map[string][]string{}}
	var lists []estate.Resources
	for _, g := range estate.Sorted(e.Grants) {
		lists = append(lists, g.On)
	}
	for _, b := range estate.Sorted(e.Blocks) {
		lists = append(lists, b.On)
	}
	named := map[estate.Principal]bool{}
	for _, t := range newplace.Terms(e, lists) {
		for _, m := range t.Tags {
			v.tags[m.Key] = append(v.tags[m.Key], m.Values...)
		}
		for _, o := range t.Owners {
			named[o] = true
		}
	}
	facts := factspace.Gather(e)
	for key, values := range factspace.ResourceValues(e) {
		v.tags[key] = append(v.tags[key], values...)
	}
	for key := range facts.Same {
		for _, p := range w.Gate.Subjects() {
			if s := e.Subject(p); s != nil {
				v.tags[key] = append(v.tags[key], s.Tags.Get(key))
			}
		}
	}
	count := map[estate.Principal]int{}
	for _, h := range w.Holders {
		v.accounts[h.Account] = h.Subject
		count[h.Subject]++
	}
	for account, p := range w.reserved {
		v.accounts[account] = p
		count[p]++
	}
	for account, p := range v.accounts {
		if named[p] || count[p] > 1 {
			v.owners = append(v.owners, account)
		}
	}
	for key, texts := range v.tags {
		v.tags[key] = eachOnce(texts)
	}
	v.owners = eachOnce(v.owners)
	w.values = v
}

// eachOnce puts texts in order, the empty one among them.
func eachOnce(texts []string) []string {
	return slices.Compact(slices.Sorted(slices.Values(append(texts, ""))))
}

// classes makes the classes of a table's rows: whatever can stand in one column with whatever can in the others.
func (w *Wanted) classes(t *tableRows, table *estate.Resource, by estate.Rows) {
	count := 1
	if by.Owner != "" {
		count = len(w.values.owners) + 3
	}
	for _, tag := range by.Tags {
		if count *= len(w.tagTexts(tag.Key)) + 2; count > mostClasses {
			break
		}
	}
	if t.many = count > mostClasses; t.many {
		return
	}
	silent := &estate.Resource{System: table.System, Parent: table, Type: table.Type, Tags: table.Tags,
		Owner: table.Owner, Index: -1,
		Address: estate.Address{System: table.Address.System, Path: table.Address.Path + "/row"}}
	all := []*RowClass{{Table: t.place, row: silent}}
	cross := func(columns []Column, set func(one *RowClass, c Column)) {
		var out []*RowClass
		for _, before := range all {
			for _, c := range columns {
				row := *before.row
				one := &RowClass{Table: t.place, Columns: append(slices.Clone(before.Columns), c), row: &row, own: before.own}
				set(one, c)
				out = append(out, one)
			}
		}
		all = out
	}
	if by.Owner != "" {
		cross(append(columnsOf(by.Owner, w.values.owners), Column{Name: by.Owner, Sort: Own}), func(one *RowClass, c Column) {
			switch {
			case c.Sort == Silent:
			case c.Sort == Text && c.Value != "":
				owner := w.values.accounts[c.Value]
				one.row.Owner = &owner
			case c.Sort == Other:
				one.row.Owner = &nobody
			default:
				one.row.Owner, one.own = nil, c.Sort == Own
			}
		})
	}
	for _, tag := range by.Tags {
		cross(columnsOf(tag.Value, w.tagTexts(tag.Key)), func(one *RowClass, c Column) {
			if c.Sort == Silent {
				return
			}
			one.row.Tags = slices.DeleteFunc(slices.Clone(one.row.Tags), func(t estate.Tag) bool { return t.Key == tag.Key })
			if c.Sort == Other {
				one.row.Tags = append(one.row.Tags, estate.Tag{Key: tag.Key, Value: other})
			} else if c.Value != "" {
				one.row.Tags = append(one.row.Tags, estate.Tag{Key: tag.Key, Value: c.Value})
			}
		})
	}
	t.classes = all
}

// tagTexts lists the values of a tag that are told apart, the empty one among them.
func (w *Wanted) tagTexts(key string) []string {
	if texts := w.values.tags[key]; texts != nil {
		return texts
	}
	return []string{""}
}

// columnsOf lists what can stand in a column of which some texts are told from others.
func columnsOf(name string, texts []string) []Column {
	out := []Column{{Name: name, Sort: Silent, Told: texts}}
	for _, text := range texts {
		out = append(out, Column{name, Text, text, texts})
	}
	return append(out, Column{Name: name, Sort: Other, Told: texts})
}

// onRowsOf asks the policy what somebody may do on each class of each table's rows. What a table gives is then what all
// of its rows do, where the system cannot be told of them.
func (w *Wanted) onRowsOf(p *profile, who estate.Principal, asked *gate.Context, known map[string]int32) error {
	for _, t := range w.tables {
		operations := w.Gate.Estate().Offer(w.Gate.Estate().Systems[w.System].Kind.ID).On(w.State.Places[t.place].Type)
		if t.many {
			w.withhold(p, t.place, w.givesOf(operations))
			continue
		}
		var sets []int32
		for i, c := range t.classes {
			r := c.row
			if c.own {
				mine := *r
				mine.Owner = &who
				r = &mine
			}
			one := &gate.OperationOutcomes{Operations: operations}
			for _, o := range operations {
				outcome, err := w.Gate.DecideAs(who, o.Name, r, asked)
				if err != nil {
					return err
				}
				one.Outcomes = append(one.Outcomes, outcome)
			}
			n := w.setOf(one, r.Type, known)
			sets = append(sets, n)
			if t.told != nil {
				p.sets[t.told[i]] = n
			} else {
				w.withhold(p, t.place, ^w.sets[n].mask)
			}
		}
		if p.onRows == nil {
			p.onRows = map[int][]int32{}
		}
		p.onRows[t.place] = sets
	}
	return nil
}

// withhold takes natives from what somebody has to have on a place.
func (w *Wanted) withhold(p *profile, place int, natives Mask) {
	if natives &= w.mask(p, place); natives == 0 {
		return
	}
	if p.without == nil {
		p.without = map[int]Mask{}
	}
	p.without[place] |= natives
}

// givesOf lists the natives that give any of some operations, as a mask.
func (w *Wanted) givesOf(operations []*estate.Operation) (out Mask) {
	for k, native := range w.Carries.Natives {
		if slices.ContainsFunc(operations, func(o *estate.Operation) bool { return slices.Contains(native.Gives, o.Name) }) {
			out |= 1 << k
		}
	}
	return out
}

// allowsRows says whether the policy lets somebody do what counts on all rows of a table.
func (w *Wanted) allowsRows(p *profile, place int, counts func(*estate.Operation) bool) bool {
	if slices.ContainsFunc(w.tables, func(t *tableRows) bool { return t.place == place && t.many }) {
		return false
	}
	for _, n := range p.onRows[place] {
		for i, o := range w.sets[n].Operations {
			if w.sets[n].Outcomes[i] != gate.Allow && counts(o) {
				return false
			}
		}
	}
	return true
}

// OnAllRows gives the natives that a holder has to have on all rows of a table of which rows are told apart; on any
// other place it is Mask.
func (w *Wanted) OnAllRows(h *Holder, place int) Mask {
	out := w.Mask(h, place)
	for _, t := range w.tables {
		if t.place != place || t.told == nil {
			continue
		}
		rows := w.Carries.onRows()
		for _, n := range t.told {
			rows &= w.Mask(h, n)
		}
		out |= rows
	}
	return out
}
