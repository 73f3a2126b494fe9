package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/directory"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
	"hiddengate/internal/survey"
	"hiddengate/internal/tabular"
	"hiddengate/internal/view"
)

func many() []string {
	var out []string
	for _, l := range listings {
		out = append(out, l.many)
	}
	return out
}

// choice is what of a list is shown, and in which order.
type choice struct {
	where   []string
	search  string
	sort    string
	columns []string
	base    string
	overlap bool
	all     bool
	now     time.Time // from which durations count
}

func (a *app) listCommand() *cobra.Command {
	var ch choice
	c := &cobra.Command{
		Use:   "list WHAT",
		Short: "List people, roles, grants, kinds of system, operations, …",
		Long: `Lists one of ` + strings.Join(many(), ", ") + `.
Kinds, operations, templates and findings are there without a workspace too.

--where keeps those with a value, as tag.team=domes or status=suspended, or with one that is less or
greater, as 'ends<30d' (within thirty days) or 'last-seen<-90d'; * stands for any run of characters,
and an empty value for none. Several must hold together. People are written as LDIF and SCIM too,
as 'hgate import' reads them.`,
		Example: `  hgate list grants
  hgate list people --where tag.team=domes --sort ends
  hgate list people --where 'ends<30d'
  hgate list people --format csv > people.csv`,
		ValidArgs: many(),
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return fmt.Errorf("list takes one of %s", strings.Join(many(), ", "))
			}
			return nil
		},
	}
	c.Flags().StringArrayVar(&ch.where, "where", nil, "`key=value` that those shown have")
	_ = c.RegisterFlagCompletionFunc("where", a.completeFilter)
	c.Flags().StringVar(&ch.search, "search", "", "`text` that those shown have anywhere, in small or capital letters")
	c.Flags().StringVar(&ch.sort, "sort", "", "`key` to sort by; with - before it the other way round")
	c.Flags().StringSliceVar(&ch.columns, "columns", nil, "`keys` to show, in this order")
	_ = c.RegisterFlagCompletionFunc("sort", a.completeKeys)
	_ = c.RegisterFlagCompletionFunc("columns", a.completeKeys)
	c.Flags().StringVar(&ch.base, "base", "dc=ternhollow,dc=example", "`DN` below which LDIF places people and groups")
	c.Flags().BoolVar(&ch.all, "all", false, "as text: show all, however many there are")
	c.Flags().BoolVar(&ch.overlap, "overlap", false, "of scopes: which share something")
	c.RunE = func(_ *cobra.Command, args []string) error {
		for _, l := range listings {
			if l.many == args[0] || l.one == args[0] {
				g, err := a.compiledOrBare(l.many)
				if err != nil {
					return err
				}
				if ch.overlap {
					if l.many != "scopes" {
						return fmt.Errorf("--overlap goes with scopes, as in: hgate list scopes --overlap")
					}
					return a.overlaps(g)
				}
				return a.list(g, l, ch)
			}
		}
		return unknown("listing", args[0], many())
	}
	a.formats(c, "text", "json", "csv", "md", "ldif", "scim")
	return c
}

// compiledOrBare reads the workspace; what is built in can be looked at without one.
func (a *app) compiledOrBare(many string) (*gate.Gate, error) {
	if many == "kinds" || many == "operations" || many == "findings" || many == "templates" {
		if _, err := a.folder(); err != nil && a.dir == "" {
			return bare()
		}
	}
	return a.compiled()
}

// entry is one of a list.
type entry struct {
	id       string
	describe func(string) []pair
	pairs    []pair            // what is said of it; nil until it is asked for
	texts    map[string]string // those that were asked for
}

// said gives what is said of it.
func (e *entry) said() []pair {
	if e.pairs == nil {
		e.pairs = e.describe(e.id)
	}
	return e.pairs
}

func (e *entry) text(key string) string {
	if tag, ok := strings.CutPrefix(key, "tag."); ok {
		for kv := range strings.SplitSeq(e.text("tags"), ", ") {
			if k, v, _ := strings.Cut(kv, "="); k == tag {
				return v
			}
		}
		return ""
	}
	text, known := e.texts[key]
	if !known {
		for _, kv := range e.said() {
			if kv.key == key {
				text = kv.text()
			}
		}
		if e.texts == nil {
			e.texts = map[string]string{}
		}
		e.texts[key] = text
	}
	return text
}

// brief is the text of a key, cut short.
func (e *entry) brief(key string) string {
	if _, known := e.texts[key]; !known {
		for _, kv := range e.said() {
			if kv.key == key {
				return kv.brief()
			}
		}
	}
	return short(e.text(key))
}

// is says whether an entry is as a choice asks.
func (ch *choice) is(e *entry, filters []filter) bool {
	if slices.ContainsFunc(filters, func(f filter) bool { return !f.keeps(e) }) {
		return false
	}
	want := strings.ToLower(ch.search)
	return want == "" || slices.ContainsFunc(e.said(), func(kv pair) bool {
		return strings.Contains(strings.ToLower(e.text(kv.key)), want)
	})
}

// chosen gives the entries of a list that are wanted, in order.
func (l listed) chosen(g *gate.Gate, ch choice) ([]entry, error) {
	describe := l.describe
	if l.bulk != nil {
		describe = l.bulk(g)
	}
	var filters []filter
	sortKey, down := strings.CutPrefix(ch.sort, "-")
	asked := append(slices.Clone(ch.columns), sortKey)
	for _, text := range ch.where {
		f, err := parseFilter(text, ch.now)
		if err != nil {
			return nil, err
		}
		filters, asked = append(filters, f), append(asked, f.key)
	}
	all, of := l.ids(g), func(id string) []pair { return describe(g, id) }
	if err := known(asked, all, of); err != nil {
		return nil, err
	}
	var out []entry
	for _, id := range all {
		e := entry{id: id, describe: of}
		if !ch.is(&e, filters) {
			continue
		}
		if sortKey != "" {
			e.text(sortKey)
		}
		e.pairs = nil // few of them may be shown
		out = append(out, e)
	}
	if sortKey != "" {
		slices.SortStableFunc(out, func(a, b entry) int {
			if down {
				a, b = b, a
			}
			return strings.Compare(a.text(sortKey), b.text(sortKey))
		})
	}
	return out, nil
}

// known checks that keys are such as something is said of, if there is any entry.
func known(asked, ids []string, describe func(string) []pair) error {
	open := slices.DeleteFunc(asked, func(key string) bool { return key == "" || strings.HasPrefix(key, "tag.") })
	held := map[string]bool{}
	for _, id := range ids {
		if len(open) == 0 {
			return nil
		}
		for _, kv := range describe(id) {
			held[kv.key] = true
		}
		open = slices.DeleteFunc(open, func(key string) bool { return held[key] })
	}
	if len(open) == 0 || len(ids) == 0 {
		return nil
	}
	return unknown("key", open[0], keys(held))
}

// holdsValue says whether a key of an entry has a value, or one of several.
func holdsValue(e *entry, key, value string) bool {
	all := []string{e.text(key)}
	for _, kv := range e.said() {
		if kv.key == key {
			if list, ok := kv.get().([]string); ok {
				all = list
			}
		}
	}
	if value == "" {
		return len(all) == 0 || all[0] == ""
	}
	return slices.ContainsFunc(all, func(v string) bool { return estate.Glob(value, v) })
}

// mostListed is how many entries a list shows as text, unless it is asked for all: as many as a person reads.
const mostListed = 300

func (a *app) list(g *gate.Gate, l listed, ch choice) error {
	done := a.progress("gathering the list")
	ch.now = a.now()
	entries, err := l.chosen(g, ch)
	done()
	if err != nil {
		return err
	}
	columns := l.columns
	if len(ch.columns) > 0 {
		columns = ch.columns
		if columns[0] != "id" {
			columns = append([]string{"id"}, columns...)
		}
	}
	switch a.format {
	case "json":
		return a.jsonRows(eachAs(entries, func(e entry) map[string]any { return said(e.said()) }))
	case "ldif", "scim":
		return a.listDirectory(g, l, entries, ch)
	case "csv":
		if l.many == "people" && len(ch.columns) == 0 {
			return directory.WriteCSV(a.exact(), directoryOf(g, entries))
		}
		w := tabular.NewWriter(a.exact())
		w.Write(columns)
		for _, e := range entries {
			w.Write(e.cells(columns))
		}
		return w.Flush()
	case "md":
		page := a.page(a.Out)
		fmt.Fprintf(page, "| %s |\n|%s\n", strings.Join(columns, " | "), strings.Repeat("---|", len(columns)))
		for _, e := range entries {
			cells := e.cells(columns)
			for i := range cells {
				cells[i] = strings.NewReplacer("|", "\\|", "\n", " ").Replace(cells[i])
			}
			fmt.Fprintf(page, "| %s |\n", strings.Join(cells, " | "))
		}
		return nil
	}
	p := a.page(a.Out)
	total := len(entries)
	if !ch.all && total > mostListed {
		entries = entries[:mostListed]
		p.Line("There are %d %s. Here are the first %d: narrow them with --where, or see --all.", total, l.many,
			mostListed)
		p.Line("")
	}
	var cells [][]view.Cell
	for _, e := range entries {
		var row []string
		for _, c := range columns {
			row = append(row, e.brief(c))
		}
		cells = append(cells, view.Row(row...))
	}
	if len(cells) == 0 {
		if len(ch.where) > 0 || ch.search != "" {
			p.Line("There are no such %s.", l.many)
			return nil
		}
		p.Line("There are no %s.", l.many)
		return nil
	}
	p.Table(0, columns, cells)
	p.Line("%s", p.Paint(view.Faint, fmt.Sprintf("%d; `hgate show %s ID` tells more", total, l.one)))
	return nil
}

func (e *entry) cells(columns []string) []string {
	var out []string
	for _, c := range columns {
		out = append(out, e.text(c))
	}
	return out
}

// directoryOf gives some people, with their groups, as a directory.
func directoryOf(g *gate.Gate, entries []entry) *directory.People {
	all := directory.Of(g.Estate(), func(id string) []estate.Principal {
		return g.Group(id)
	})
	in := map[string]bool{}
	for _, e := range entries {
		in[e.id] = true
	}
	all.People = slices.DeleteFunc(all.People, func(p directory.Person) bool { return !in[p.ID] })
	for i := range all.Groups {
		all.Groups[i].Members = slices.DeleteFunc(all.Groups[i].Members, func(id string) bool { return !in[id] })
	}
	return all
}

func (a *app) listDirectory(g *gate.Gate, l listed, entries []entry, ch choice) error {
	if l.many != "people" {
		return fmt.Errorf("--format %s goes with people; %s are written as text, json, csv and md", a.format, l.many)
	}
	if a.format == "ldif" {
		return directory.WriteLDIF(a.exact(), directoryOf(g, entries), ch.base)
	}
	return directory.WriteSCIM(a.exact(), directoryOf(g, entries))
}

// short cuts a cell that would fill a page.
func short(text string) string {
	count := 0
	for i := range text {
		if count++; count > mostBrief {
			return strings.TrimRight(text[:i], " ,") + "…"
		}
	}
	return text
}

// said gives pairs as a JSON object, without the empty ones.
func said(pairs []pair) map[string]any {
	out := map[string]any{}
	for _, p := range pairs {
		if !p.empty() {
			out[p.key] = p.get()
		}
	}
	return out
}

// bare is the gate of an estate with nothing but what is built in.
func bare() (*gate.Gate, error) {
	e, err := policyfile.Load(starter.Empty())
	if err != nil {
		return nil, err
	}
	return gate.Compile(e, nil)
}

// overlaps lists the scopes that share something.
func (a *app) overlaps(g *gate.Gate) error {
	all, err := survey.Overlaps(g.Estate())
	if err != nil {
		return err
	}
	type row struct {
		One       string `json:"one"`
		Other     string `json:"other"`
		Both      int    `json:"both"`
		OneOnly   int    `json:"one_only"`
		OtherOnly int    `json:"other_only"`
		First     string `json:"first"`
		How       string `json:"how"`
	}
	how := func(o survey.Overlap) string {
		switch {
		case o.Rest == 0 && o.Others == 0:
			return "the same"
		case o.Others == 0:
			return o.Other + " is inside " + o.One
		}
		return "they overlap"
	}
	switch a.format {
	case "text":
	case "json":
		rows := []row{}
		for _, o := range all {
			rows = append(rows, row{o.One, o.Other, o.Both, o.Rest, o.Others, o.First, how(o)})
		}
		return a.json(map[string]any{"rows": rows})
	default:
		return fmt.Errorf("--overlap is written as text and json")
	}
	p := a.page(a.Out)
	if len(all) == 0 {
		p.Line("No two scopes share anything that is listed.")
		return nil
	}
	var rows [][]view.Cell
	for _, o := range all {
		rows = append(rows, []view.Cell{
			{Text: "scope:" + o.One}, {Text: "scope:" + o.Other}, {Text: how(o)}, {Text: fmt.Sprint(o.Both)},
			{Text: fmt.Sprintf("%d and %d", o.Rest, o.Others)}, {Text: o.First, Style: view.Faint},
		})
	}
	p.Table(0, []string{"one", "other", "", "shared", "alone", "as"}, rows)
	return nil
}
