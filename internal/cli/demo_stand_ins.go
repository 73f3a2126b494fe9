package cli

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"hiddengate/internal/sshreach"
	"hiddengate/internal/standin"
	"hiddengate/internal/standin/starting"
	"hiddengate/internal/target"
	"hiddengate/internal/target/simulated"
	"hiddengate/internal/view"
)

// standsInFor are the systems of the demo for which stand-ins are started, by kind of stand-in.
var standsInFor = map[string]string{
	"cloud":       "archive",
	"cluster":     "reduce",
	"network":     "ridge-net",
	"device":      "north-dish",
	"application": "proposals",
}

// visited is the system to which people sign in.
const visited = "ridge-net"

// visitors sign in there, each with what they try.
var visitors = []struct {
	id, about string
	lines     []string
}{
	{"sela.tuiasau", "runs the summit's network", []string{"places", "add route at summit: 10.40.9.0/24 by relay",
		"see routes at summit", "add route at base: 10.40.9.0/24 by relay"}},
	{
		"joao.ferraz",
		"runs the base's",
		[]string{"see routes at summit", "restart device at summit", "restart device at base"},
	},
}

// simulations are stand-ins of the demo that run.
type simulations struct {
	*app
	p       *view.Page
	dir     string // of the workspace
	folder  string // of what is gone afterwards
	number  int    // of the step that comes next
	running map[string]*starting.Running
	first   map[string]map[string]string // by system: the first passwords
}

// walkStandIns starts stand-ins, carries the policy to them, and stops them.
func (a *app) walkStandIns(p *view.Page, dir string, number int) error {
	folder, err := os.MkdirTemp("", "hgate-demo-")
	if err != nil {
		return outside{err}
	}
	defer os.RemoveAll(folder)
	// What stands in the user's own settings stays as it is.
	was, given := os.LookupEnv(settingsVariable)
	if err := os.Setenv(settingsVariable, filepath.Join(folder, "settings.yaml")); err != nil {
		return outside{err}
	}
	defer func() {
		if os.Unsetenv(settingsVariable); given {
			os.Setenv(settingsVariable, was)
		}
	}()
	w := &simulations{app: a, p: p, dir: dir, folder: folder, number: number, running: map[string]*starting.Running{},
		first: map[string]map[string]string{}}
	defer w.stop()
	for _, do := range []func() error{w.start, w.push, w.probe, w.signIn, w.drift} {
		if err := do(); err != nil {
			return err
		}
	}
	return nil
}

func (w *simulations) stop() {
	for _, r := range w.running {
		r.Close()
		<-r.Done()
	}
}

func (w *simulations) heading(words string) {
	w.p.Line("\n%s", w.p.Paint(view.Heading, fmt.Sprintf("%d. %s", w.number, words)))
	w.number++
}

// start starts the stand-ins, and says in settings of the demo's own how each is reached.
func (w *simulations) start() error {
	w.heading("What cannot be had on a desk, hgate has as small simulations. Five start on this machine.")
	g, err := w.within().compiled()
	if err != nil {
		return err
	}
	for _, k := range starting.Kinds {
		id := standsInFor[k.Name]
		places, err := placesLike(g, id, k)
		if err != nil {
			return err
		}
		r, err := k.Start(
			w.ctx,
			standin.Options{Data: filepath.Join(w.folder, k.Name), Places: places, Idle: 10 * time.Minute,
				Now: time.Now},
			"127.0.0.1:0",
			false,
		)
		if err != nil {
			return outside{err}
		}
		w.running[id] = r
		if err := w.quietly("connect", id, "--driver", "stand-in-"+k.Name, "--at", r.Address, "--secret-file", r.SecretFile,
			"--accounts", "create"); err != nil {
			return err
		}
	}
	return w.step(w.p, w.dir, step{args: []string{"connect"}})
}

// within is the program in the demo's folder.
func (w *simulations) within() *app {
	return &app{Streams: w.Streams, ctx: w.ctx, now: w.now, dir: w.dir, color: w.color, format: "text"}
}

// quietly runs a command whose answer is not shown, unless it fails.
func (w *simulations) quietly(args ...string) error {
	var said bytes.Buffer
	streams := w.Streams
	streams.Out, streams.Err = &said, &said
	if code := Run(w.ctx, append([]string{"-C", w.dir}, args...), streams, w.now); code > exitNo {
		return outside{errors.New(said.String())}
	}
	return nil
}

// push tells each what it has to give: the network's console in full view.
func (w *simulations) push() error {
	w.heading("What has to be told to the network's console, grant by grant?")
	if err := w.step(w.p, w.dir, step{args: []string{"push", visited, "--dry-run"}}); err != nil {
		return err
	}
	w.heading("It is told, and so are the others. New accounts get a first password.")
	w.p.Line("")
	for _, k := range starting.Kinds {
		id := standsInFor[k.Name]
		if err := w.tell(id); err != nil {
			return err
		}
		w.p.Line("$ hgate push %s --yes\n  %s was told, and %s made.", id, id, count(len(w.first[id]), "account"))
	}
	return nil
}

// tell carries the policy to a stand-in, and takes the first passwords out of the user's folder.
func (w *simulations) tell(id string) error {
	var said, wrong bytes.Buffer
	streams := w.Streams
	streams.Out, streams.Err = &said, &wrong
	if Run(w.ctx, []string{"-C", w.dir, "push", id, "--yes", "--format", "json"}, streams, w.now) != exitYes {
		return outside{errors.New(wrong.String())}
	}
	name, err := passwordsNamed(said.Bytes())
	if err != nil || name == "" {
		return err
	}
	defer os.Remove(name)
	f, err := os.Open(name)
	if err != nil {
		return outside{err}
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return outside{err}
	}
	w.first[id] = map[string]string{}
	for _, row := range rows[1:] {
		w.first[id][row[0]] = row[1]
	}
	return nil
}

func (w *simulations) probe() error {
	w.heading("Each is asked, as each of its accounts.")
	for _, k := range starting.Kinds {
		if err := w.step(w.p, w.dir, step{args: []string{"probe", standsInFor[k.Name]}}); err != nil {
			return err
		}
	}
	return nil
}

// signIn lets the reader sign in as two people; where nobody is there, it does so itself.
func (w *simulations) signIn() error {
	r := w.running[visited]
	w.heading("Sign in to the network's console as two of the people.")
	for _, v := range visitors {
		w.p.Line("\n%s %s; the first password is %s", v.id, v.about, w.first[visited][v.id])
		fmt.Fprintf(w.p, "  %s\n", strings.ReplaceAll(r.SignIn[0], "NAME", v.id)) // as one line, which can be copied
		for _, line := range v.lines {
			w.p.Line("    %s", line)
		}
	}
	if in, isFile := w.In.(*os.File); isFile && term.IsTerminal(int(in.Fd())) {
		w.p.Line("\nTry it from another terminal, and press Enter here to go on.")
		_, err := w.answer()
		return err
	}
	w.p.Line("\nNobody is at a terminal, so the demo does it:")
	for _, v := range visitors {
		if err := w.visit(v.id, v.lines); err != nil {
			return outside{err}
		}
	}
	return nil
}

// visit signs in as a person and sends some lines.
func (w *simulations) visit(account string, lines []string) error {
	r := w.running[visited]
	at, err := sshreach.Read(strings.Replace(r.Address, standin.Keeper+"@", account+"@", 1))
	if err != nil {
		return err
	}
	c, err := sshreach.Dial(w.ctx, at, w.first[visited][account])
	if err != nil {
		return err
	}
	defer c.Close()
	own := standin.RandomPassword()
	if _, err := say(c, "password", own+"\n"+own+"\n"); err != nil {
		return err
	}
	w.p.Line("")
	for _, line := range lines {
		said, err := say(c, line, "")
		if refused := new(ssh.ExitError); err != nil && !errors.As(err, &refused) {
			return err
		}
		w.p.Line("%s> %s", account, line)
		for answer := range strings.Lines(said) {
			w.p.Line("  %s", strings.TrimRight(answer, "\r\n"))
		}
	}
	return nil
}

// say sends one command, and gives what is said.
func say(c *ssh.Client, line, body string) (string, error) {
	s, err := c.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	s.Stdin = strings.NewReader(body)
	out, err := s.Output(line)
	return string(out), err
}

// drift changes the console by hand, and finds and undoes that.
func (w *simulations) drift() error {
	w.heading("Somebody changes the console by hand: everybody may change routes at the base.")
	r := w.running[visited]
	secret, err := os.ReadFile(r.SecretFile)
	if err != nil {
		return outside{err}
	}
	s, err := simulated.Named("network").Connect(w.ctx, target.Connection{System: visited, At: r.Address,
		Secret: strings.TrimSpace(string(secret))})
	if err != nil {
		return outside{err}
	}
	defer s.Close()
	if err := simulated.ByHand(w.ctx, s, func(x *standin.Access) {
		x.Everybody = standin.Permits{"base": {"change-routes"}}
	}); err != nil {
		return outside{err}
	}
	for _, one := range []step{
		{words: "That is found, with its cause,", args: []string{"probe", visited}},
		{words: "undone,", args: []string{"push", visited, "--yes"}},
		{words: "and gone.", args: []string{"probe", visited}},
	} {
		w.heading(one.words)
		if err := w.step(w.p, w.dir, one); err != nil {
			return err
		}
	}
	w.heading("The simulations stop, and nothing of them is left.")
	return nil
}
