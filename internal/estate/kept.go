package estate

// Kept is an estate as it can be kept: the entries, and the tree as columns. What follows from them is worked out
// again.
type Kept struct {
	Estate  *Estate
	Columns Columns
	Types   []string
	Tags    []Tags
	Owners  []*Principal
	Files   []string
	Entries []*Entry
}

// Keep gives the estate as it can be kept; it shares all with the estate.
func (e *Estate) Keep() *Kept {
	t := e.Tree
	return &Kept{e, t.Columns, t.Types, t.Tags, t.Owners, t.Files, t.Entries}
}

// Take gives the estate that was kept.
func (k *Kept) Take() *Estate {
	e := k.Estate
	e.IndexKinds()
	for _, s := range e.Systems {
		e.folding = e.folding || e.Folds(s)
	}
	e.Tree = &Tree{Columns: k.Columns, Systems: Sorted(e.Systems), Types: k.Types, Tags: k.Tags, Owners: k.Owners,
		Files: k.Files, Entries: k.Entries}
	e.Tree.makeRoom()
	return e
}
