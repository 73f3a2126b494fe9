package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/starter"
	"hiddengate/internal/view"
)

// step is a stop on the walk through the demo: a few words and a command.
type step struct {
	words string
	args  []string
}

var walk = []step{
	{"What is there? Each system has a kind, and each kind offers operations of four levels:\nview < use < change < " +
		"govern. These are a camera's.", []string{"show", "kind", "device-console"}},
	{"A role names some of them. This is the role of the night shift, and what it comes to.",
		[]string{"show", "role", "night-operator"}},
	{"Are the files sound, and is there a slip in them? There is one: a grant to a person.",
		[]string{"check", "--at", "2027-12-01T22:00"}},
	{"What does the junior database administrator reach?", []string{"reach", "lucas.amarel", "--at", "2027-12-01T10:00"}},
	{"A visitor reads the frames she observed, if she signs in with a second factor.",
		[]string{"try", "pia.lindqvist", "table.read", "obsdb:sky/frames-0411", "--mfa", "yes", "--at", "2027-12-01T22:00"}},
	{"Nobody else's, though. The answer names what each grant lacks.",
		[]string{"try", "pia.lindqvist", "table.read", "obsdb:sky/frames-0388", "--mfa", "yes", "--at", "2027-12-01T22:00"}},
	{"Facts that a request does not state are not assumed: without a second factor stated, it depends.",
		[]string{"try", "pia.lindqvist", "table.read", "obsdb:sky/frames-0411", "--at", "2027-12-01T22:00"}},
	{"Who may change anything on the mast between the two sites?",
		[]string{"holders", "from change", "ridge-net:relay", "--at", "2027-12-01T22:00"}},
	{"Last, the tests: examples of what must be allowed and what denied.", []string{"test"}},
}

func (a *app) demoCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Write an example workspace and walk through it",
		Long: `Writes the example of the Ternhollow Observatory to a new folder (./ternhollow, where left out)
and walks through it: show, check, reach, try and test.`,
		Example: `  hgate demo
  hgate demo example`,
		Args: takes(0, 1),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		dir, err := demoFolder(args)
		if err != nil {
			return err
		}
		if err := write(starter.Demo(), dir); err != nil {
			return err
		}
		return a.walk(dir)
	}
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

func (a *app) walk(dir string) error {
	p := a.page(a.Out)
	p.Line("The Ternhollow Observatory has two dishes, a camera, servers, a database, a cluster, a network,")
	p.Line("an archive in the cloud and an application. Its policy is now in the folder %s.", dir)
	for i, s := range walk {
		p.Line("\n%s", p.Paint(view.Heading, fmt.Sprintf("%d. %s", i+1, s.words)))
		var words []string
		for _, w := range s.args {
			words = append(words, quoted(w))
		}
		p.Line("\n$ hgate %s\n", strings.Join(words, " "))
		inner := append([]string{"-C", dir, "--color", a.color}, s.args...)
		if p.Color {
			inner[3] = "always"
		}
		if code := Run(a.ctx, inner, a.Streams, a.now); code > exitNo {
			return answered(code)
		}
	}
	p.Line("\n%s", p.Paint(view.Heading, "The workspace is in "+dir+". Try next:"))
	p.Line("  cd %s", quoted(dir))
	p.Line("  hgate reach marek.dvorin --network 10.40.3.7    what a dish driver may do")
	p.Line("  hgate list grants                               all grants at a glance")
	p.Line("  take out a line of access.yaml marked `key to …`, and run `hgate test`")
	return nil
}
