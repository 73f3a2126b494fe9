package main

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"hiddengate/internal/shape"
)

// longest is how long a command may take before it is stopped.
const longest = 2 * time.Minute

// steepest is the exponent with which a command may grow at most.
const steepest = 1.15

// measureCommands measures whole commands, warm, on hard shapes of some sizes: their processor time, most memory and
// output, and the exponent with which the time grows from the smallest size to the largest. It tells how many grow
// faster than they may, or do not end.
func measureCommands(how measuring, sizes, only string) (steep int) {
	var people []int
	for text := range strings.SplitSeq(sizes, ",") {
		n, err := strconv.Atoi(text)
		must(err)
		people = append(people, n)
	}
	if how.keep == "" {
		folder, err := os.MkdirTemp("", "hard-")
		must(err)
		defer os.RemoveAll(folder)
		how.keep = folder
	}
	fmt.Printf("%-28s  %-62s  %s\n", "shape", "command", "seconds, MiB and kB of output, by size; exponent")
	for i, s := range shape.Hard(people[0]) {
		if !strings.Contains(s.Name, only) {
			continue
		}
		var workspaces []workspace
		for _, n := range people {
			workspaces = append(workspaces, prepare(how, shape.Hard(n)[i], n))
		}
		for k, command := range workspaces[0].commands() {
			said := strings.ReplaceAll(strings.Join(command, " "), workspaces[0].beside("")+"/", "")
			line := fmt.Sprintf("%-28s  %-62s", s.Name, said)
			var all []ran
			for j := range workspaces {
				all = append(all, workspaces[j].run(workspaces[j].commands()[k]))
				line += "  " + all[j].String()
			}
			grows, fine := growth(people, all)
			if !fine {
				steep++
				grows += "  too steep"
			}
			fmt.Println(line + "  " + grows)
		}
	}
	return steep
}

// growth gives the exponent with which a command's time grows, and whether it may. What a process takes of itself, and
// what cannot be told from noise, is left out of account: times below a twentieth of a second count as that.
func growth(people []int, all []ran) (exponent string, fine bool) {
	first, last := all[0], all[len(all)-1]
	switch {
	case last.stopped:
		return "", false
	case last.refused || len(all) == 1:
		return "", true
	}
	grows := float64(people[len(people)-1]) / float64(people[0])
	x := math.Log(max(last.seconds, least)/max(first.seconds, least)) / math.Log(grows)
	return fmt.Sprintf("%.2f", x), x <= steepest
}

const least = 0.05 // seconds

// workspace is one of a shape, with where the program keeps what it knows of it.
type workspace struct {
	shape.Shape
	dir, cache, program string
}

func prepare(how measuring, s shape.Shape, people int) workspace {
	dir := filepath.Join(how.keep, strings.ReplaceAll(s.Name, " ", "-")+"-"+strconv.Itoa(people))
	dir, err := filepath.Abs(dir)
	must(err)
	w := workspace{s, filepath.Join(dir, "files"), filepath.Join(dir, "cache"), how.program}
	if _, err := os.Stat(w.cache); err != nil {
		say("%s, %d people: writing", s.Name, people)
		must(os.MkdirAll(w.dir, 0o755))
		must(os.MkdirAll(w.cache, 0o700))
		must(s.Write(w.dir))
		time.Sleep(time.Second) // so that no file is so new that nobody may rely on it
	}
	if _, err := os.Stat(w.beside("actions.csv")); err != nil {
		w.writeBeside()
	}
	w.run([]string{"list", "systems"}) // which keeps what the others take
	return w
}

// commands lists what is measured.
func (w *workspace) commands() (out [][]string) {
	ask := w.Asks(1)[0]
	place := ask.Where[:strings.LastIndexAny(ask.Where, "/:")]
	system, _, _ := strings.Cut(ask.Where, ":")
	for _, line := range []string{
		"list people", "list groups", "list roles", "list grants", "list scopes", "list resources",
		"show person " + ask.Who, "show group team-0001", "show role role-0001", "show grant grant-00000",
		"show resource " + place,
		"try " + ask.Who + " " + ask.What + " " + ask.Where, "try " + ask.Who + " " + ask.What + " " + ask.Where + " --fix",
		"reach " + ask.Who, "holders " + ask.What + " " + place, "holders " + ask.What + " everything",
		"holders " + ask.What + " everything --eventual",
		"grid --where " + place, "grid --members-of team-0001 --format csv",
		"cover --what " + ask.What, "cover --where " + place, "cover",
		"test", "check", "prove",
		"set group team-0001 --title Again --dry-run", "set person " + ask.Who + " --status suspended --dry-run",
		"set grant grant-00001 --when mfa=true --dry-run", "suspend " + ask.Who + " --dry-run",
		"add person one.more --dry-run",
		"add grant one-more --to group:team-0001 --role role-0001 --on " + place + " --dry-run",
		"copy role role-0001 role-again --dry-run", "rename group team-0001 team-again --dry-run",
		"rename role role-0001 role-again --dry-run", "rename system " + system + " store-again --dry-run",
		"add block one-more --to group:team-0001 --deny " + ask.What + " --on " + place + " --dry-run",
		"add scope one-more --resources " + place + " --dry-run", "remove person " + ask.Who + " --with-references --dry-run",
		"copy person " + ask.Who + " one.more --dry-run", "set resource " + ask.Where + " --tags env=prod --dry-run",
		"remove resource " + ask.Where + " --dry-run", "add resource " + system + ":one/more --dry-run",
		"set system " + system + " --title Again --dry-run", "add system one-more --kind database --dry-run",
		"set system " + system + " --tags env=prod --dry-run",
		"remove system " + system + " --with-references --dry-run",
		"remove block nobody-drops-on-sunday --dry-run", "remove grant grant-00002 --dry-run",
		"set grant grant-00001 --to group:team-0001 --dry-run",
		"remove group team-0002 --with-references --dry-run", "remove role role-0001 --with-references --dry-run",
		"add separation one-more --roles role-0001,role-0002 --within person --dry-run",
		"requests", "log", "credential list", "tidy --check", "compile " + system, "show system " + system,
		"compare group:team-0001 group:team-0002", "compare person:person-000001 person:person-000002",
		"list kinds", "show kind database", "import " + w.beside("people.csv") + " --source here --dry-run",
		"compare " + w.beside("other"), "trim " + w.beside("actions.csv"),
	} {
		out = append(out, strings.Fields(line))
	}
	return append(out, []string{"prove", "--that", "at-least 1 may " + ask.What + " on everything"})
}

// beside is where something stands that commands are given beside the workspace.
func (w *workspace) beside(name string) string { return filepath.Join(filepath.Dir(w.dir), name) }

// writeBeside writes what commands are given: the people once more, a log of two actions for each, and the workspace
// with another role in one grant.
func (w *workspace) writeBeside() {
	other := w.beside("other")
	must(os.CopyFS(other, os.DirFS(w.dir)))
	must(os.Rename(filepath.Join(other, "people.csv"), w.beside("people.csv")))
	must(os.Link(w.beside("people.csv"), filepath.Join(other, "people.csv")))
	file := filepath.Join(other, "grants-0.yaml")
	grants, err := os.ReadFile(file)
	must(err)
	role := regexp.MustCompile("role: role-[0-9]+").FindIndex(grants)
	must(os.WriteFile(file, slices.Concat(grants[:role[0]], []byte("role: role-0001"), grants[role[1]:]), 0o644))
	var log bytes.Buffer
	log.WriteString("time,subject,operation,resource\n")
	for _, ask := range w.Asks(2 * w.People) {
		fmt.Fprintf(&log, "2026-11-11T12:00,%s,%s,%s\n", ask.Who, ask.What, ask.Where)
	}
	must(os.WriteFile(w.beside("actions.csv"), log.Bytes(), 0o644))
}

// ran is what a command took.
type ran struct {
	seconds       float64 // of the processor
	most, written int     // MiB; bytes
	stopped       bool
	refused       bool // the answer would be too much
}

func (r ran) String() string {
	switch {
	case r.stopped:
		return fmt.Sprintf(">%6.2f %5d %7s", r.seconds, r.most, "stopped")
	case r.refused:
		return fmt.Sprintf("%7.2f %5d %7s", r.seconds, r.most, "refused")
	}
	return fmt.Sprintf("%7.2f %5d %7.1f", r.seconds, r.most, float64(r.written)/1000)
}

func (w *workspace) run(args []string) ran {
	ctx, stop := context.WithTimeout(context.Background(), longest)
	defer stop()
	c := exec.CommandContext(ctx, w.program, append([]string{"-C", w.dir}, args...)...)
	c.Env = append(os.Environ(), "HGATE_CACHE="+w.cache, "XDG_STATE_HOME="+filepath.Join(filepath.Dir(w.dir), "state"))
	var out counter
	c.Stdout = &out
	must(c.Start())
	most := watchPeak(c.Process.Pid)
	err := c.Wait()
	r := ran{seconds: c.ProcessState.UserTime().Seconds() + c.ProcessState.SystemTime().Seconds(),
		most: most(), written: int(out), stopped: ctx.Err() != nil}
	if exit, ok := err.(*exec.ExitError); err != nil && !r.stopped {
		if !ok || exit.ExitCode() > 2 {
			panic(fmt.Sprint(args, err))
		}
		r.refused = exit.ExitCode() == 2
	}
	return r
}

// counter counts what is written.
type counter int

func (c *counter) Write(b []byte) (int, error) {
	*c += counter(len(b))
	return len(b), nil
}
