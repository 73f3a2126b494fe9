package cli

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/splice"
	"hiddengate/internal/tabular"
	"hiddengate/internal/target"
	"hiddengate/internal/view"
)

func (a *app) pullCommand() *cobra.Command {
	var e editing
	match, propose := "id", false
	c := &cobra.Command{
		Use: "pull SYSTEM", Short: "Write into the policy what a real system has, and who may do what there",
		Long: `Reads the system, and writes what the policy does not list yet into an inventory of its own: places,
and accounts with the people whom they fit. Until hgate has told the system anything, it writes the
system's roles, memberships and rights too, as groups, roles and grants in a file of their own, so that
the system can be compared, tested and proved before anything is changed. What no operation stands for,
and whose account fits nobody, is told. A later pull writes both files again. With --propose it looks
for a structure in what it found: few groups that together have exactly the same.`,
		Example: "  hgate pull obsdb --dry-run\n  hgate pull obsdb --match email\n  hgate pull obsdb --propose --dry-run",
		Args:    takes(1, 1),
	}
	a.systemArg(c)
	c.Flags().StringVar(&match, "match", "id", "`how` accounts fit people: by their id, their email, or a CSV file with "+
		"the columns account and owner")
	c.Flags().BoolVar(&propose, "propose", false, "propose groups that have exactly what is there, with fewer grants")
	a.editFlags(c, &e)
	c.RunE = func(_ *cobra.Command, args []string) error { return a.pull(args[0], match, propose, e) }
	return c
}

func (a *app) pull(id, match string, propose bool, e editing) error {
	c, err := a.carried(id, "")
	if err != nil {
		return err
	}
	owner, err := a.matching(c, match)
	if err != nil {
		return err
	}
	s, snap, err := a.openSystem(c)
	if err != nil {
		return err
	}
	s.Close()
	p := a.page(a.Err)
	found := snap.Found()
	var adopted *target.Adopted
	var proposal *target.Proposal
	switch {
	case !found.Told && propose:
		proposal = target.Propose(id, &c.driver.Carries, snap.State(), found, owner, likeOf(c.gate))
		adopted = proposal.Adopted
	case !found.Told:
		adopted = target.Adopt(id, &c.driver.Carries, snap.State(), found, owner)
	default:
		p.Line("hgate: %s was told by hgate already, so its rights stay as the policy has them; `hgate probe %s` tells "+
			"where they differ", id, id)
	}
	told := false
	tell := func(fresh int) { // what there is comes before what that does to the policy
		if told {
			return
		}
		told = true
		p.Line("hgate: %s has %s and %s; the inventory lists %d that nothing else does", id,
			count(len(snap.State().Places), "place"), count(len(snap.State().Accounts), "account"), fresh)
		if adopted != nil {
			adoptedText(p, adopted, proposal)
		}
		for _, text := range append(found.Left, snap.State().Unnamed...) {
			p.Line("hgate: not written: %s", text)
		}
		p.Line("")
	}
	return a.edit(e, func(d *draft.Draft, old *estate.Estate) error {
		text, fresh, err := inventoryOf(d.FS(), old, id, snap.State(), owner)
		if err != nil {
			return err
		}
		if fresh > 0 {
			if err := d.Replace(foundFile(id, ".csv"), text); err != nil {
				return err
			}
			if err := listInventory(d, foundFile(id, ".csv")); err != nil {
				return err
			}
		}
		if adopted != nil {
			if err := d.Replace(foundFile(id, ".yaml"), adopted.File(id, snap.State())); err != nil {
				return err
			}
		}
		tell(fresh)
		return nil
	})
}

// adoptedText tells what stands for what a system gives.
func adoptedText(p *view.Page, adopted *target.Adopted, proposal *target.Proposal) {
	p.Line("hgate: %s, %s and %s stand for what it gives", count(len(adopted.Groups), "group"),
		count(len(adopted.Roles), "role"), count(len(adopted.Grants), "grant"))
	if proposal != nil {
		proposalText(p, proposal)
	}
	if len(adopted.Unfit) > 0 {
		p.Line("hgate: these accounts have something and fit nobody: %s", someTexts(adopted.Unfit))
	}
}

// foundFile names a file of what was found in a system.
func foundFile(id, end string) string { return "found-" + id + end }

// matching tells who has an account: its owner by the policy, else whom it fits.
func (a *app) matching(c *carrying, match string) (func(string) (estate.Principal, bool), error) {
	e := c.gate.Estate()
	known := map[string]estate.Principal{}
	switch match {
	case "id":
		for id := range e.People {
			known[id] = estate.Principal{ID: id}
		}
		for id := range e.Services {
			if e.People[id] == nil {
				known[id] = estate.Principal{Kind: estate.IsService, ID: id}
			}
		}
	case "email":
		byEmail(e, known)
	default:
		if err := a.matchFile(match, e, known); err != nil {
			return nil, err
		}
	}
	return func(account string) (estate.Principal, bool) {
		segment, ok := target.Escaped(account)
		if ok {
			at := e.Canonical(estate.Address{System: c.id, Path: target.AccountsIn + "/" + segment})
			if row := e.Tree.Find(at.String()); row >= 0 {
				if o := e.Tree.Owners[e.Tree.Rows[row].Owner]; o != nil && o.Kind != estate.IsGroup {
					return *o, true
				}
			}
		}
		who, ok := known[account]
		return who, ok
	}, nil
}

// byEmail adds people by their email and by what stands before its @, where that is one person's alone.
func byEmail(e *estate.Estate, known map[string]estate.Principal) {
	several := map[string]bool{}
	for id, s := range e.People {
		name, _, ok := strings.Cut(s.Email, "@")
		if !ok {
			continue
		}
		for _, text := range []string{s.Email, name} {
			_, taken := known[text]
			several[text] = several[text] || taken
			known[text] = estate.Principal{ID: id}
		}
	}
	for text := range several {
		if several[text] {
			delete(known, text)
		}
	}
}

// matchFile reads who has which account.
func (a *app) matchFile(name string, e *estate.Estate, known map[string]estate.Principal) error {
	file, err := a.open(name)
	if err != nil {
		return outside{fmt.Errorf("--match is id, email or a file: %w", err)}
	}
	defer file.Close()
	rows := csv.NewReader(io.LimitReader(file, maxAnswers))
	heading, err := rows.Read()
	if err != nil || len(heading) != 2 || strings.TrimPrefix(heading[0], "\ufeff") != "account" || heading[1] != "owner" {
		return fmt.Errorf("%s:1:1: its columns are account and owner", name)
	}
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		line, _ := rows.FieldPos(0)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		who, err := estate.ParsePrincipal(tabular.Value(row[1]))
		if err == nil && e.Subject(who) == nil {
			err = fmt.Errorf("there is no %s", who)
		}
		if err != nil {
			return fmt.Errorf("%s:%d:1: %w", name, line, err)
		}
		known[tabular.Value(row[0])] = who
	}
}

// inventoryOf lists what is in a system and in no other file of the workspace, and tells how much that is.
func inventoryOf(files fs.FS, e *estate.Estate, id string, s *target.State,
	owner func(string) (estate.Principal, bool)) (text []byte, lines int, err error) {
	own := map[string]bool{} // what the file of the last pull lists
	if before, err := fs.ReadFile(files, foundFile(id, ".csv")); err == nil {
		rows := csv.NewReader(bytes.NewReader(before))
		for row, err := rows.Read(); err == nil; row, err = rows.Read() {
			own[row[0]] = true
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, 0, err
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.Write([]string{"at", "type", "owner"})
	add := func(path, typ, owner string) {
		at := estate.Address{System: id, Path: path}.String()
		if path != "" && (own[at] || e.Tree.Find(e.Canonical(estate.Address{System: id, Path: path}).String()) < 0) {
			w.Write([]string{at, typ, owner})
			lines++
		}
	}
	for _, p := range s.Places {
		add(p.Path, p.Type, "")
	}
	add(target.AccountsIn, "accounts", "")
	for _, account := range s.Accounts {
		segment, ok := target.Escaped(account.Name)
		who, fits := owner(account.Name)
		if ok && fits && !account.Reserved {
			add(target.AccountsIn+"/"+segment, "account", who.String())
		}
	}
	w.Flush()
	return out.Bytes(), lines, w.Error()
}

// listInventory names an inventory in the settings, unless they do.
func listInventory(d *draft.Draft, name string) error {
	one := splice.Map(splice.Scalar("resources"), splice.Scalar(name))
	return d.ChangeSetting("inventories", draft.Items{Add: []*yaml.Node{one}})
}
