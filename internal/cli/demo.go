package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hiddengate/internal/ledger/store"
	"hiddengate/internal/starter"
	"hiddengate/internal/view"
)

// step is a stop on the walk through the demo: a few words and a command.
type step struct {
	words string
	args  []string
	later time.Duration // how long after the others it would be
}

// askedFor stands for the number of the demo's request.
const askedFor = "REQUEST"

// by is the flags with which somebody of the demo acts, from its folder.
func by(who string) []string { return []string{"--by", who, "--key", starter.KeysFolder + "/" + who} }

var walk = []step{
	{"What is there? Each system has a kind, and each kind offers operations of four levels:\nview < use < change < " +
		"govern. These are a camera's.", []string{"show", "kind", "device-console"}, 0},
	{"A role names some of them. This is the role of the night shift, and what it comes to.",
		[]string{"show", "role", "night-operator"}, 0},
	{"Are the files sound, and is there a slip in them? There is one: a grant to a person.",
		[]string{"check", "--at", "2027-12-01T22:00"}, 0},
	{
		"What does the junior database administrator reach?",
		[]string{"reach", "lucas.amarel", "--at", "2027-12-01T10:00"},
		0,
	},
	{"A visitor reads the frames she observed, if she signs in with a second factor.",
		[]string{
			"try",
			"pia.lindqvist",
			"table.read",
			"obsdb:sky/frames-0411",
			"--mfa",
			"yes",
			"--at",
			"2027-12-01T22:00",
		}, 0},
	{"Nobody else's, though. The answer names what each grant lacks.",
		[]string{
			"try",
			"pia.lindqvist",
			"table.read",
			"obsdb:sky/frames-0388",
			"--mfa",
			"yes",
			"--at",
			"2027-12-01T22:00",
		}, 0},
	{"Facts that a request does not state are not assumed: without a second factor stated, it depends.",
		[]string{"try", "pia.lindqvist", "table.read", "obsdb:sky/frames-0411", "--at", "2027-12-01T22:00"}, 0},
	{"Who may change anything on the mast between the two sites?",
		[]string{"holders", "from change", "ridge-net:relay", "--at", "2027-12-01T22:00"}, 0},
	{"The tests: examples of what must be allowed and what denied.", []string{"test"}, 0},
	{"Strong access is lent, not owned. A dish is stuck, and who drives it may not move it past its limits.",
		[]string{"try", "marek.dvorin", "control.override", "north-dish"}, 0},
	{"He asks for it, for an hour and one dish, and says why. His key signs that.",
		append([]string{"request", "drivers-past-the-limits", "--where", "north-dish", "--for", "1h", "--reason",
			"The dish is stuck"}, by("marek.dvorin")...), 0},
	{"Nobody approves what they asked for.", append([]string{"approve", askedFor}, by("marek.dvorin")...), 0},
	{"Somebody else does.", append([]string{"approve", askedFor}, by("ines.okafor")...), 0},
	{"Now he may, on this dish,", []string{"try", "marek.dvorin", "control.override", "north-dish"}, 0},
	{"and on no other.", []string{"try", "marek.dvorin", "control.override", "south-dish"}, 0},
	{"An hour later it is over, and nobody had to remember.",
		[]string{"try", "marek.dvorin", "control.override", "north-dish"}, time.Hour},
	{"Last, the log: who did what, and when.", []string{"log"}, 0},
}

func (a *app) demoCommand() *cobra.Command {
	var with string
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Write an example workspace and walk through it",
		Long: `Writes the example of the Ternhollow Observatory to a new folder (./ternhollow, where left out)
and walks through it: show, check, reach, try, test, and access that is lent for an hour. Then it starts
simulated systems on this machine, carries the policy to them, lets you sign in as two of its people,
finds and undoes what somebody changes by hand, and stops them. With an empty database of PostgreSQL it
does so there first, with made-up tables.`,
		Example: `  hgate demo
  hgate demo example
  hgate demo --with postgres://owner@127.0.0.1/empty`,
		Args: takes(0, 1),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		dir, err := demoFolder(args)
		if err != nil {
			return err
		}
		if err := writeDemo(dir); err != nil {
			return err
		}
		return a.walk(dir, with)
	}
	c.Flags().StringVar(&with, "with", "", "the `address` of an empty database of PostgreSQL to go on with")
	return c
}

// demoFolder gives the folder that was named, or the first of ternhollow, ternhollow-2, … that is free.
func demoFolder(args []string) (string, error) {
	if len(args) > 0 {
		return args[0], nil
	}
	for n := 1; n < 1000; n++ {
		dir := "ternhollow"
		if n > 1 {
			dir = fmt.Sprint("ternhollow-", n)
		}
		if _, err := os.Lstat(dir); os.IsNotExist(err) {
			return dir, nil
		}
	}
	return "", fmt.Errorf("ternhollow and its like are taken; name a folder")
}

// step runs a stop of the walk.
func (a *app) step(p *view.Page, dir string, s step) error {
	var words, args []string
	for i, w := range s.args {
		if w == askedFor {
			number, err := a.newestRequest(dir)
			if err != nil {
				return err
			}
			w = strconv.FormatInt(number, 10)
		}
		words = append(words, quoted(w))
		if i > 0 && s.args[i-1] == "--key" {
			w = filepath.Join(dir, w)
		}
		args = append(args, w)
	}
	p.Line("\n$ hgate %s\n", strings.Join(words, " "))
	inner := append([]string{"-C", dir, "--color", a.color}, args...)
	if p.Color {
		inner[3] = "always"
	}
	now := a.now
	if s.later > 0 {
		now = func() time.Time { return a.now().Add(s.later) }
	}
	code := Run(a.ctx, inner, a.Streams, now)
	if code > exitNo && !slices.Contains(s.args, askedFor) { // one of those is refused
		return answered(code)
	}
	return nil
}

// newestRequest gives the number of the request that was made last in the demo.
func (a *app) newestRequest(dir string) (number int64, err error) {
	s, err := a.ledger(dir, false)
	if s == nil || err != nil {
		return 0, err
	}
	defer s.Close()
	err = s.View(a.ctx, func(r *store.Reader) error {
		numbers, err := r.Mattering(a.present())
		if err == nil && len(numbers) > 0 {
			number = numbers[len(numbers)-1]
		}
		return err
	})
	return number, err
}

func (a *app) walk(dir, with string) error {
	p := a.page(a.Out)
	p.Line("The Ternhollow Observatory has two dishes, a camera, servers, a database, a cluster, a network,")
	p.Line("an archive in the cloud and an application. Its policy is now in the folder %s.", dir)
	for i, s := range walk {
		p.Line("\n%s", p.Paint(view.Heading, fmt.Sprintf("%d. %s", i+1, s.words)))
		if err := a.step(p, dir, s); err != nil {
			return err
		}
	}
	next := len(walk) + 1
	if with != "" {
		if err := a.walkReal(p, dir, with); err != nil {
			return err
		}
		next += len(realWalk)
	}
	if err := a.walkStandIns(p, dir, next); err != nil {
		return err
	}
	p.Line("\n%s", p.Paint(view.Heading, "The workspace is in "+dir+". Try next:"))
	p.Line("  cd %s", quoted(dir))
	p.Line("  hgate reach marek.dvorin --network 10.40.3.7    what a dish driver may do")
	p.Line("  hgate list grants                               all grants at a glance")
	p.Line("  take out a line of access.yaml marked `key to …`, and run `hgate test`")
	return nil
}
