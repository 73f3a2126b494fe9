// Command bench measures hgate on workspaces of many shapes, each figure beside a yardstick in the same run. It prints
// one table; docs/performance.md explains it.
package main

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"hiddengate/internal/cli"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

func main() {
	cli.ShortRun()
	asChild()
	short := flag.Bool("short", false, "small shapes and few pairs: sees that everything runs and agrees")
	only := flag.String("shapes", "", "measure only shapes with this in their name")
	pairs := flag.Int("pairs", 11, "how many pairs of a figure and its yardstick")
	keep := flag.String("keep", "", "a folder to keep the workspaces in, for another run")
	program := flag.String("hgate", "bin/hgate", "the program, for what is measured as a whole process")
	ledgers := flag.Bool("ledgers", false, "measure only ledgers")
	credentials := flag.Bool("credentials", false, "measure only credentials")
	commands := flag.String("commands", "", "measure whole commands on hard shapes of `sizes` in people, as 1000,10000")
	flag.BoolVar(&startOnly, "starts", false, "measure only what takes a whole process")
	flag.Parse()
	shapes := shape.Shapes()
	if *short {
		*pairs = 3
		for i := range shapes {
			shapes[i] = shapes[i].Small()
		}
	}
	t := &table{}
	if *commands != "" {
		if steep := measureCommands(measuring{*pairs, *keep, *program}, *commands, *only); steep > 0 {
			say("%d commands grow faster than with an exponent of %.2f, or do not end", steep, steepest)
			os.Exit(1)
		}
		return
	}
	t.line(figure{"shape", "figure", "", "yardstick", "", "ratio"})
	if *ledgers {
		measureLedgers(t, measuring{*pairs, *keep, *program}, *short)
		return
	}
	if *credentials {
		measureCredentials(t, measuring{*pairs, *keep, *program}, *short)
		return
	}
	for _, s := range shapes {
		if strings.Contains(s.Name, *only) {
			measure(t, s, measuring{*pairs, *keep, *program})
		}
	}
	if *only == "" && !startOnly {
		sizes(t, *short)
		measureLedgers(t, measuring{*pairs, *keep, *program}, *short)
		measureCredentials(t, measuring{*pairs, *keep, *program}, *short)
	}
	if t.wrong {
		os.Exit(1)
	}
}

var startOnly bool

// measuring says how shapes are measured.
type measuring struct {
	pairs         int
	keep, program string // a folder for the workspaces; the program, for whole processes
}

// measure measures one shape.
func measure(t *table, s shape.Shape, how measuring) {
	pairs := how.pairs
	dir := filepath.Join(how.keep, strings.ReplaceAll(strings.ReplaceAll(s.Name, " ", "-"), ",", ""))
	if how.keep == "" {
		temporary, err := os.MkdirTemp("", "shape-")
		must(err)
		defer os.RemoveAll(temporary)
		dir = temporary
	}
	if _, err := os.Stat(filepath.Join(dir, policyfile.SettingsFile)); err != nil {
		say("%s: writing", s.Name)
		must(os.MkdirAll(dir, 0o755))
		must(s.Write(dir))
	}
	t.shape = s.Name
	one := inChild(dir)
	t.line(figure{t.shape, "size", fmt.Sprintf("%d people, %d resources, %d grants, %.1f MB", one.People, one.Resources,
		one.Grants, float64(folderSize(dir))/1e6), "", "", ""})
	t.line(figure{t.shape, "most memory, load and compile", fmt.Sprintf("%d MiB", one.Resident>>10), "", "", ""})
	if startOnly {
		measureStart(t, s, dir, how)
		return
	}
	say("%s: loading", s.Name)
	var loads, compiles, reads, ratios []float64
	for range pairs {
		runtime.GC()
		reading := bareReading(dir)
		runtime.GC()
		start := time.Now()
		e, err := policyfile.Load(os.DirFS(dir))
		must(err)
		load := time.Since(start)
		start = time.Now()
		_, err = gate.Compile(e, nil)
		must(err)
		compile := time.Since(start)
		loads, compiles, reads = append(loads, float64(load)), append(compiles, float64(compile)),
			append(reads, float64(reading))
		ratios = append(ratios, float64(load+compile)/float64(reading))
	}
	t.line(figure{t.shape, "load", took(loads), "bare reading", took(reads), ""})
	t.line(figure{t.shape, "load and compile", took(loads) + " + " + took(compiles), "bare reading", took(reads),
		ratio(ratios)})
	e, err := policyfile.Load(os.DirFS(dir))
	must(err)
	g, err := gate.Compile(e, nil)
	must(err)
	say("%s: deciding", s.Name)
	measureDeciding(t, s, g, pairs)
	say("%s: whole estate", s.Name)
	measureWhole(t, s, g, pairs)
	measureStart(t, s, dir, how)
}

func say(format string, args ...any) { fmt.Fprintf(os.Stderr, format+"\n", args...) }

func folderSize(dir string) (n int64) {
	files, err := os.ReadDir(dir)
	must(err)
	for _, f := range files {
		info, err := f.Info()
		must(err)
		n += info.Size()
	}
	return n
}

// sizes tells how many bytes a person, a resource and a grant take, as the difference that twice as many make.
func sizes(t *table, short bool) {
	base := shape.Shape{People: 10_000, GroupsEach: 3, Groups: 500, Roles: 500, Grants: 5000, Resources: 200_000,
		Systems: 20, Depth: 1, Conditional: 10, Tagged: 5, Scattered: 1}
	if short {
		base = base.Small()
	}
	in := func(change func(*shape.Shape)) loaded {
		s := base
		change(&s)
		dir, err := os.MkdirTemp("", "shape-")
		must(err)
		defer os.RemoveAll(dir)
		must(s.Write(dir))
		return inChild(dir)
	}
	before := in(func(*shape.Shape) {})
	for _, one := range []struct {
		name   string
		change func(*shape.Shape)
		count  func(loaded) int
	}{
		{"a person", func(s *shape.Shape) { s.People *= 2 }, func(l loaded) int { return l.People }},
		{"a resource", func(s *shape.Shape) { s.Resources *= 2 }, func(l loaded) int { return l.Resources }},
		{"a grant", func(s *shape.Shape) { s.Grants *= 2 }, func(l loaded) int { return l.Grants }},
	} {
		after := in(one.change)
		t.line(figure{"10,000 to 20,000 and so on", "bytes for " + one.name,
			fmt.Sprint((after.Gate - before.Gate) / (one.count(after) - one.count(before))), "", "", ""})
	}
}
