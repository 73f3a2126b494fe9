package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/signature"
	"hiddengate/internal/view"
)

func (a *app) logHeadCommand() *cobra.Command {
	return &cobra.Command{
		Use: "head", Short: "Print the number and hash of the newest event, to keep elsewhere",
		Long: `Prints NUMBER:HASH of the newest event. Whoever keeps that elsewhere can tell with 'log verify --head'
whether anything up to it was changed or cut off since.`,
		Example: "  hgate log head",
		Args:    takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			return a.inLedger(func(r *store.Reader) error {
				head, err := r.Head()
				if err == nil && head.Number > 0 {
					a.page(a.Out).Line("%s", head.String())
				}
				return err
			})
		},
	}
}

// inLedger lets do read the workspace's ledger; it is an error if there is none.
func (a *app) inLedger(do func(*store.Reader) error) error {
	dir, err := a.folder()
	if err != nil {
		return err
	}
	s, err := a.ledger(dir, false)
	if err != nil {
		return err
	}
	if s == nil {
		a.page(a.Err).Line("The workspace has no log yet: it begins with the first edit or request.")
		return answered(exitNo)
	}
	defer s.Close()
	if err := s.View(a.ctx, do); err != nil {
		return outside{err}
	}
	return nil
}

func (a *app) logVerifyCommand() *cobra.Command {
	var head string
	var each bool
	c := &cobra.Command{
		Use: "verify", Short: "See that no event was changed, removed, moved or put in",
		Long: `Follows the chain of hashes from the first event to the newest, and tells of each event that somebody
has to sign by whom it is signed. With --head it sees too that the log still holds an event that
'log head' printed once, so that a cut-off end is found. It exits with 1 if anything is wrong.`,
		Example: "  hgate log verify\n" +
			"  hgate log verify --head 4:bb6e1f6f1d0c2f8b3c7b7e6a6d1c8f0a5e4d3c2b1a09f8e7d6c5b4a392817060",
		Args: takes(0, 0),
	}
	c.Flags().StringVar(&head, "head", "", "`NUMBER:HASH` as log head printed it once")
	c.Flags().BoolVar(&each, "each", false, "tell of each event by which key it is signed, or that it is not")
	c.RunE = func(*cobra.Command, []string) error {
		var kept *ledger.Head
		if head != "" {
			h, err := ledger.ParseHead(head)
			if err != nil {
				return fmt.Errorf("--head: %w", err)
			}
			kept = &h
		}
		g, err := a.compiled()
		if err != nil {
			return err
		}
		v := verified{each: each}
		if err := a.inLedger(func(r *store.Reader) error {
			return v.follow(r, g, kept)
		}); err != nil {
			return err
		}
		return a.verifiedText(g, v)
	}
	a.formats(c, "text", "json")
	return c
}

// verified is what following a ledger came to.
type verified struct {
	events   int64
	each     bool       // lines are wanted
	lines    [][]string // of each event its number, kind, author, and by which key it is signed
	head     ledger.Head
	wrong    []string
	signed   map[string]int // of who made them, how many events are signed by their keys
	unsigned []string       // events that ought to be signed by a key of the policy, and are not
}

// mostWrong bounds how many faults are kept.
const mostWrong = 1000

func (v *verified) fault(format string, args ...any) {
	if len(v.wrong) < mostWrong {
		v.wrong = append(v.wrong, fmt.Sprintf(format, args...))
	}
}

// follow follows a ledger.
func (v *verified) follow(r *store.Reader, g *gate.Gate, kept *ledger.Head) error {
	v.signed = map[string]int{}
	b := book{Book: lending.Book{Gate: g}}
	if err := b.know(r); err != nil {
		return err
	}
	var chain ledger.Chain
	found := false
	err := r.Opened(func(o store.Opened) bool {
		number, e := o.Number, o.Event
		v.events++
		if o.Wrong != nil {
			v.fault("event %d: %s", number, o.Wrong)
			chain.Head = ledger.Head{Number: number}
			return true
		}
		if err := chain.Follow(number, e, o.Hash); err != nil {
			v.fault("%s", err)
		}
		if kept != nil && number == kept.Number {
			if found = true; e.Hash != kept.Hash {
				v.fault("event %d is not the one of --head: what it says, or something before it, is another", number)
			}
		}
		if number == 1 && (e.Kind != ledger.Began || e.Ledger != b.id) {
			v.fault("event 1 does not begin this ledger")
		}
		v.sign(&b, e)
		return true
	})
	if err != nil {
		return err
	}
	v.head = chain.Head
	if kept != nil && !found {
		v.fault("event %d of --head is not there: the log was cut off after event %d", kept.Number, v.head.Number)
	}
	stale, err := r.Stale()
	for _, n := range stale {
		v.fault("what is kept beside the events about request %d does not follow from them", n)
	}
	return err
}

// sign takes down by whom an event is signed.
func (v *verified) sign(b *book, e ledger.Event) {
	key, err := b.Signed(e)
	if v.each {
		if key = signature.Fingerprint(key); err != nil {
			key = "not signed"
			if e.Signature != "" {
				key = err.Error()
			}
		}
		v.lines = append(v.lines, []string{fmt.Sprint(e.Number), string(e.Kind), e.Actor, key})
	}
	if !e.Kind.NeedsSignature() {
		return
	}
	switch {
	case err == nil:
		v.signed[e.Actor]++
	case e.Signature != "" || b.Gate.Estate().SigningRequired:
		v.unsigned = append(v.unsigned, fmt.Sprintf("event %d, %s by %s, %s", e.Number, e.Kind, e.Actor, err))
	}
}

func (a *app) verifiedText(g *gate.Gate, v verified) error {
	bad := len(v.wrong) > 0 || len(v.unsigned) > 0 && g.Estate().SigningRequired
	if a.format == "json" {
		if err := a.json(object{{"events", v.events}, {"head", v.head.String()}, {"holds", !bad},
			{"wrong", append([]string{}, v.wrong...)}, {"signed", v.signed},
			{"not_signed", append([]string{}, v.unsigned...)}, {"each", append([][]string{}, v.lines...)}}); err != nil {
			return err
		}
	} else {
		p := a.page(a.Out)
		var rows [][]view.Cell
		for _, line := range v.lines {
			rows = append(rows, view.Row(line...))
		}
		if rows != nil {
			p.Table(0, []string{"", "kind", "who", "signed by"}, rows)
			p.Line("")
		}
		if len(v.wrong) == 0 {
			p.Line("%s", p.Paint(view.Yes, fmt.Sprintf("%s hold together; the newest is %s", count(int(v.events), "event"),
				v.head)))
		} else {
			p.Line("%s", p.Paint(view.No, fmt.Sprintf("%s, and %s wrong:", count(int(v.events), "event"),
				count(len(v.wrong), "thing")+map[bool]string{true: " is", false: " are"}[len(v.wrong) == 1])))
			for _, text := range v.wrong {
				p.Line("  %s", text)
			}
		}
		for _, who := range slices.Sorted(maps.Keys(v.signed)) {
			p.Line("  signed by %s: %s", who, count(v.signed[who], "event"))
		}
		if len(v.unsigned) > 0 {
			p.Line("%s", p.Paint(view.Maybe, "Not signed by a key that the policy lists, so that they count for nothing where "+
				"signing is required:"))
			for _, text := range v.unsigned {
				p.Line("  %s", text)
			}
		}
	}
	if bad {
		return answered(exitNo)
	}
	return nil
}

func (a *app) logStatementCommand() *cobra.Command {
	var sig bool
	c := &cobra.Command{
		Use: "statement EVENT", Short: "Print what the author of an event signed, or the signature",
		Long: `Prints the bytes that the author of an event signed, so that other programs can check the signature:
'ssh-keygen -Y verify -n hgate' takes them on its standard input.`,
		Example: "  hgate log statement 4 > statement\n  hgate log statement 4 --signature > statement.sig",
		Args:    takes(1, 1),
	}
	c.Flags().BoolVar(&sig, "signature", false, "the signature, and not what is signed")
	c.RunE = func(_ *cobra.Command, args []string) error {
		var number int64
		if _, err := fmt.Sscanf(args[0], "%d", &number); err != nil || number < 1 || fmt.Sprint(number) != args[0] {
			return fmt.Errorf("%q is no number of an event: `hgate log` lists them", args[0])
		}
		return a.inLedger(func(r *store.Reader) error {
			e, ok, err := r.Event(number)
			if err != nil {
				return err
			}
			switch {
			case !ok:
				return fmt.Errorf("there is no event %d", number)
			case sig && e.Signature == "":
				return fmt.Errorf("event %d is not signed", number)
			case sig:
				_, err = fmt.Fprint(a.Out, e.Signature)
				return err
			}
			text, err := e.Signed()
			if err == nil {
				_, err = a.Out.Write(text)
			}
			return err
		})
	}
	return c
}
