package change

// Alone says that an entry has another id, and that nothing else was looked at.
func (e *Effect) Alone() bool { return e.alone != nil }

// TakeForTheSame takes an entry by its old and its new id for the same, from what is told of both.
func (e *Effect) TakeForTheSame(r Renaming) { e.renamed(r) }
