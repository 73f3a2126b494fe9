// Package cli is the command line: one file for each command, which parses, calls and prints.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hiddengate/internal/cache"
	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/journal"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/private"
	"hiddengate/internal/view"
)

// Exit codes, as every command gives them.
const (
	exitYes     = 0 // yes: allowed, passed, nothing wrong
	exitNo      = 1 // no: denied or depends, nobody, failed
	exitWrong   = 2 // the question or the files are wrong; nothing was done
	exitOutside = 3 // something outside failed
)

// Streams is where a command reads and writes, and who runs it on which machine: "" for what the operating system says.
type Streams struct {
	In         io.Reader
	Out        io.Writer
	Err        io.Writer
	User, Host string
}

// app is one run of the program.
type app struct {
	Streams
	ctx    context.Context // ends when the program is to end
	held   sync.Mutex      // while files are put in place
	now    func() time.Time
	dir    string
	format string
	at     string
	color  string
	// command is the one at hand, without its values
	command string

	uncached bool // the cache is left alone
	// withoutLent says that no loan counts; lent are those that do
	withoutLent bool
	lent        []*lending.Request
	shown       int64 // the request for the certificate that somebody shows; 0 for none
	// plain are the gates without what certificates say, by the estates with it
	plain   map[*estate.Estate]*gate.Gate
	release func() // lets others edit the workspace that is being read
}

// answered ends a command with an exit code and nothing more to say.
type answered int

func (a answered) Error() string { return fmt.Sprintf("exit %d", int(a)) }

// outside is an error of the world around the program.
type outside struct{ error }

// Unwrap gives what it was, so that an interruption is told as one.
func (o outside) Unwrap() error { return o.error }

// Run runs the program and gives its exit code. It ends soon after the context does. now is the clock. If the cache
// goes away while it is read, the command begins anew without one.
func Run(ctx context.Context, args []string, streams Streams, now func() time.Time) int {
	a := &app{Streams: streams, ctx: ctx, now: now}
	in, isFile := streams.In.(*os.File)
	read := &source{Reader: streams.In}
	if !isFile || !term.IsTerminal(int(in.Fd())) { // a terminal is asked as one
		a.In = read
	}
	out := &stream{Writer: streams.Out}
	a.Out = out
	code, again := a.attended(args, out)
	if again && !read.begun && !out.begun {
		a = &app{Streams: Streams{a.In, out, streams.Err, streams.User, streams.Host}, ctx: ctx, now: now, uncached: true}
		code, again = a.attended(args, out)
	}
	if again {
		a.page(a.Err).Line("hgate: the cache went away while it was read; run the command again")
	}
	return code
}

// toEnd is how long a command has to come to its end once it is interrupted; then it is left behind.
const toEnd = time.Second

// attended runs the program once, until it ends or is interrupted. What works for long ends with the context; reading
// and compiling a workspace do not look at it, and are left behind. An edit is not cut off where it puts files in
// place, and nothing else leaves anything behind.
func (a *app) attended(args []string, out *stream) (code int, again bool) {
	type ended struct {
		code  int
		again bool
	}
	end := make(chan ended, 1)
	go func() {
		code, again := a.run(args, out)
		end <- ended{code, again}
	}()
	select {
	case e := <-end:
		return e.code, e.again
	case <-a.ctx.Done():
	}
	select {
	case e := <-end:
		return e.code, e.again
	case <-time.After(toEnd):
	}
	a.held.Lock()
	a.page(a.Err).Line("hgate: interrupted")
	return exitOutside, false
}

// run runs the program once. again says that memory went away on the way.
func (a *app) run(args []string, out *stream) (code int, again bool) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if fault := recover(); fault != nil {
			if code, again = exitOutside, lost(fault); !again {
				a.page(a.Err).Line("hgate: this is a fault of the program, not of your files: %v", fault)
				if os.Getenv("HGATE_DEBUG") != "" {
					complain(a.page(a.Err), string(stackOf(fault)))
				}
			}
		}
	}()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(a.ctx)
	if out.failed != nil {
		a.page(a.Err).Line("hgate: the answer could not be written: %s", out.failed)
		return exitOutside, false
	}
	return a.told(err), false
}

// mostErrors is how many errors of files are told, each with its line: whoever mends these runs the command again.
const mostErrors = 100

// told says what is wrong, and gives the exit code for it.
func (a *app) told(err error) (code int) {
	var answer answered
	var list diagnostic.List
	var world outside
	var missing *gate.UnknownError
	var refused *draft.Error
	page := a.page(a.Err)
	switch {
	case err == nil:
		return exitYes
	case errors.As(err, &answer):
		return int(answer)
	case errors.Is(err, context.Canceled):
		page.Line("hgate: interrupted; nothing was done")
		return exitOutside
	case errors.As(err, &world):
		complain(page, world.Error())
		return exitOutside
	case errors.As(err, &list):
		diagnostic.Print(page, list[:min(len(list), mostErrors)], page.Severity)
		if more := len(list) - mostErrors; more > 0 {
			page.Line("and %d more", more)
		}
		page.Line("%s; nothing was done", count(list.Count(diagnostic.Error), "error"))
	case errors.As(err, &refused):
		complain(page, refused.Message)
		if refused.Help != "" {
			page.Line("  do: %s", refused.Help)
		}
	case errors.As(err, &missing) && missing.Nearest() != "":
		page.Line("hgate: %s; did you mean %s?", err, missing.Nearest())
	default:
		complain(page, err.Error())
	}
	return exitWrong
}

// complain writes what is wrong. What is said over several lines is indented, so that it looks like no other answer.
func complain(p *view.Page, text string) {
	for i, line := range strings.Split(text, "\n") {
		switch {
		case i == 0:
			line = "hgate: " + line
		case line != "" && !strings.HasPrefix(line, "  "):
			line = "  " + line
		}
		p.Line("%s", line)
	}
}

// count writes "1 error" or "3 errors".
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Command gives the whole command line, for its manual pages and completions.
func Command() *cobra.Command {
	root := (&app{}).root()
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	return root
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:     "hgate",
		Version: Version(),
		Short:   "Decide who may do what, and prove it",
		Long: `Hidden Gate reads roles and access policy from files, tells what results, and tests it.

Begin with 'hgate demo', which writes an example to a new folder and walks through it,
or with 'hgate new', which starts a workspace of your own.`,
		Example: `  hgate demo
  hgate reach lucas.amarel
  hgate test`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          ownCommands,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			a.command = strings.TrimPrefix(c.CommandPath(), "hgate ")
			if !slices.Contains([]string{"auto", "always", "never"}, a.color) {
				return fmt.Errorf("--color %s is not one of auto, always, never", a.color)
			}
			return nil
		},
	}
	for _, g := range []cobra.Group{
		{ID: "write", Title: "Write the policy:"},
		{ID: "look", Title: "Look at what results:"},
		{ID: "hold", Title: "Hold it to what must be:"},
		{ID: "lend", Title: "Lend access, and see who did what:"},
		{ID: "carry", Title: "Carry it to real systems:"},
		{ID: "other", Title: "Other:"},
	} {
		root.AddGroup(&g)
	}
	root.PersistentFlags().StringVarP(&a.dir, "workspace", "C", "",
		"`folder` of the workspace (found upward from the current one)")
	root.PersistentFlags().StringVar(&a.color, "color", "auto",
		"`when` to colour: auto, always or never; NO_COLOR is heeded")
	_ = root.RegisterFlagCompletionFunc("color",
		cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp))
	cobra.EnableCommandSorting = false // they come in the order in which people work
	for _, in := range []struct {
		group    string
		commands []*cobra.Command
	}{
		{"write", []*cobra.Command{a.newCommand(), a.addCommand(), a.setCommand(), a.copyCommand(), a.renameCommand(),
			a.removeCommand(),
			a.suspendCommand(), a.resumeCommand(), a.importCommand(), a.tidyCommand(),
			a.listCommand(), a.showCommand()}},
		{"look", []*cobra.Command{a.tryCommand(), a.reachCommand(), a.holdersCommand(), a.gridCommand(), a.coverCommand(),
			a.contestCommand(), a.trimCommand()}},
		{"hold", []*cobra.Command{a.checkCommand(), a.testCommand(), a.proveCommand(), a.compareCommand()}},
		{"lend", a.lendCommands()},
		{"carry", []*cobra.Command{a.connectCommand(), a.pullCommand(), a.compileCommand(), a.pushCommand(),
			a.probeCommand(), a.standInCommand()}},
		{"other", []*cobra.Command{a.demoCommand(), a.schemaCommand(), a.versionCommand()}},
	} {
		for _, c := range in.commands {
			c.GroupID = in.group
			root.AddCommand(c)
		}
	}
	root.SetVersionTemplate(versionText())
	root.SetCompletionCommandGroupID("other")
	root.CompletionOptions.SetDefaultShellCompDirective(cobra.ShellCompDirectiveNoFileComp)
	a.completions(root)
	helps(root)
	return root
}

// takes says how many arguments a command has, in words and with its first example.
func takes(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) >= least && len(args) <= most {
			return nil
		}
		example, _, _ := strings.Cut(strings.TrimSpace(c.Example), "\n")
		return fmt.Errorf("this is written `%s %s`, as in: %s", c.Parent().CommandPath(), c.Use, strings.TrimSpace(example))
	}
}

// formats gives a command its --format.
func (a *app) formats(c *cobra.Command, names ...string) {
	a.formatFlag(c, names)
	run := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if err := a.formatIn(names); err != nil {
			return err
		}
		return run(cmd, args)
	}
}

// formatFlag gives a command its --format alone.
func (a *app) formatFlag(c *cobra.Command, names []string) {
	c.Flags().StringVar(&a.format, "format", "text", "`how` to write the answer: "+strings.Join(names, ", "))
	_ = c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(names, cobra.ShellCompDirectiveNoFileComp))
}

// formatIn sees that --format is one of some names.
func (a *app) formatIn(names []string) error {
	if !slices.Contains(names, a.format) {
		return fmt.Errorf("--format %s is not one of %s", a.format, strings.Join(names, ", "))
	}
	return nil
}

// moment gives a command its --at.
func (a *app) moment(c *cobra.Command) {
	c.Flags().StringVar(&a.at, "at", "",
		"the `time` of the request and of the state, such as 2027-12-01T22:00, or any (now, where left out)")
	_ = c.RegisterFlagCompletionFunc("at", cobra.FixedCompletions([]string{"any"}, cobra.ShellCompDirectiveNoFileComp))
}

// narrowest is the least width in columns that answers are laid out for.
const narrowest = 30

// page gives a stream its width and colour.
func (a *app) page(w io.Writer) *view.Page {
	p := &view.Page{Writer: w, Width: 100}
	f, isFile := fileOf(w)
	terminal := isFile && term.IsTerminal(int(f.Fd()))
	if terminal {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width >= narrowest {
			p.Width = min(width, 160)
		}
	}
	p.Color = a.color == "always" || a.color == "auto" && terminal && os.Getenv("NO_COLOR") == "" &&
		os.Getenv("TERM") != "dumb"
	p.Whole = w == a.Err && !terminal // programs look for what errors say
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); !terminal && err == nil && columns >= narrowest {
		p.Width = min(columns, 160)
	}
	return p
}

// exact gives where machine-readable answers go, byte by byte; before a terminal they are cleaned as all else.
func (a *app) exact() io.Writer {
	if f, isFile := fileOf(a.Out); isFile && term.IsTerminal(int(f.Fd())) {
		return a.page(a.Out)
	}
	return a.Out
}

// folder finds the workspace.
func (a *app) folder() (string, error) {
	if a.dir != "" {
		if _, err := os.Stat(filepath.Join(a.dir, policyfile.SettingsFile)); err != nil {
			return "", fmt.Errorf("%s is no workspace: it has no %s; `hgate new %s` makes one", a.dir, policyfile.SettingsFile,
				a.dir)
		}
		return a.dir, nil
	}
	here, err := os.Getwd()
	if err != nil {
		return "", outside{err}
	}
	var foreign []string
	for dir := here; ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return "", outside{err}
		}
		if !private.Trusted(info) {
			foreign = append(foreign, dir)
		}
		if settings, err := os.Stat(filepath.Join(dir, policyfile.SettingsFile)); err == nil {
			return dir, trusted(dir, info, settings, foreign)
		}
		if dir == filepath.Dir(dir) {
			return "",
				fmt.Errorf("there is no %s here or in a folder above; name a workspace with -C, or make one with `hgate new`",
					policyfile.SettingsFile)
		}
	}
}

// trusted says whether a workspace that was found, and not named, is one that nobody but the user and root can have put
// there: its folder, its settings and the folders on the way to it are theirs, and not everybody may write into it.
func trusted(dir string, info, settings fs.FileInfo, foreign []string) error {
	why := ""
	switch {
	case len(foreign) > 0:
		why = fmt.Sprintf("the folder %s belongs to somebody else", foreign[0])
	case !private.Trusted(settings):
		why = fmt.Sprintf("its %s belongs to somebody else", policyfile.SettingsFile)
	case runtime.GOOS != "windows" && info.Mode().Perm()&0o002 != 0:
		why = "everybody may write into it"
	default:
		return nil
	}
	return fmt.Errorf("there is a workspace in %s, but %s, so it is not taken unasked: name it with -C %s if you mean it",
		dir, why, dir)
}

// workspace opens the workspace's folder, out of which nothing is read. Nobody edits it until release is called.
func (a *app) workspace() (*os.Root, string, error) {
	dir, err := a.folder()
	if err != nil {
		return nil, "", err
	}
	if err := cache.CheckVariable(); err != nil {
		return nil, "", err
	}
	release, completed, err := journal.Settle(a.ctx, dir)
	if err != nil {
		return nil, "", outside{err}
	}
	if completed {
		a.page(a.Err).Line("hgate: an edit of yours that had been cut off was completed or undone")
	}
	a.release = release
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, "", outside{err}
	}
	return root, dir, nil
}

// compiled gives the workspace's gate: from the cache if the files are as they were, else from the files.
func (a *app) compiled() (*gate.Gate, error) {
	defer a.progress("reading the workspace")()
	root, dir, err := a.workspace()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	g, err := a.compiledIn(root, dir)
	a.release()
	if err != nil {
		return nil, err
	}
	return a.certifiedGate(g)
}

// estateIn gives the estate of a workspace: from the cache, with its gate, or, if it is small or there is none, from
// the files.
func (a *app) estateIn(root *os.Root, dir string) (*estate.Estate, *gate.Gate, error) {
	if g, ok := a.cache(dir).Open(root.FS()); ok {
		return g.Estate(), g, nil
	}
	e, err := policyfile.Load(root.FS())
	return e, nil, err
}

// cache gives the workspace's cache; nil if it is left alone.
func (a *app) cache(dir string) *cache.Cache {
	if a.uncached {
		return nil
	}
	return cache.Of(dir)
}

func (a *app) compiledIn(root *os.Root, dir string) (*gate.Gate, error) {
	kept := a.cache(dir)
	if g, ok := kept.Open(root.FS()); ok {
		return g, nil
	}
	recording := kept.Begin()
	e, err := policyfile.Load(root.FS())
	if err != nil {
		return nil, err
	}
	g, err := gate.Compile(e, nil)
	if err != nil {
		return nil, err
	}
	recording.Keep(root.FS(), g)
	return g, nil
}

// present is the time, in whole seconds: decisions and events have the same.
func (a *app) present() clock.Instant { return clock.Of(a.now().Truncate(time.Second)) }

// instant is what --at says; open tells that it says any, and then the instant is now.
func (a *app) instant(zone *clock.Zone) (at clock.Instant, open bool, err error) {
	now := a.present()
	switch a.at {
	case "":
		return now, false, nil
	case "any":
		return now, true, nil
	}
	at, err = zone.ParseTime(a.at)
	if err != nil {
		err = fmt.Errorf("--at: %w", err)
	}
	return at, false, err
}

// day is what --at says to commands that ask about one moment, at which any has no meaning.
func (a *app) day(zone *clock.Zone) (clock.Instant, error) {
	at, open, err := a.instant(zone)
	if open {
		err = fmt.Errorf("--at any goes with try, reach and holders; name a time here, or leave it out for now")
	}
	return at, err
}
