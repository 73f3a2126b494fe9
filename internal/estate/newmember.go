package estate

// WithNewMember gives the estate as it would be with one more person, who is in the group and nothing else, and
// that person. The group must exist. The rest is shared with e.
func (e *Estate) WithNewMember(group string) (*Estate, Principal) {
	who := &Subject{Object: Object{ID: "a new member of group:" + group}, Status: Statuses[0]} // no id can be like that
	g := *e.Groups[group]
	g.Members = append(g.Members[:len(g.Members):len(g.Members)], SubjectTerm{Principal: who.Principal()})
	return e.With(Put("people", who), Put("groups", &g)), who.Principal()
}
