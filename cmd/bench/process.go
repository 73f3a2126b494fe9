package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"time"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

// loaded is what a process of its own says of reading and compiling a workspace: memory is best measured where
// nothing else was done.
type loaded struct {
	Load, Compile   time.Duration
	Resident        int // KiB, at the most
	Estate, Gate    int // bytes in use, after the estate is read and the gate made
	People, Grants  int
	Resources, Size int
}

const child = "HGATE_BENCH_CHILD"

// asChild does what the parent asked for, and exits, if this is a child.
func asChild() {
	dir := os.Getenv(child)
	if dir == "" {
		return
	}
	var l loaded
	start := time.Now()
	e, err := policyfile.Load(os.DirFS(dir))
	must(err)
	l.Load = time.Since(start)
	start = time.Now()
	g, err := gate.Compile(e, nil)
	must(err)
	l.Compile = time.Since(start)
	l.Resident = resident()
	l.Gate = inUse()
	l.People, l.Grants, l.Resources = len(e.People), len(e.Grants), e.Tree.Len()
	runtime.KeepAlive(g)
	runtime.KeepAlive(e)
	must(json.NewEncoder(os.Stdout).Encode(l))
	os.Exit(0)
}

func inUse() int {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int(m.HeapAlloc)
}

// inChild loads a workspace in a process of its own.
func inChild(dir string) (l loaded) {
	self, err := os.Executable()
	must(err)
	c := exec.Command(self)
	c.Env = append(os.Environ(), child+"="+dir)
	c.Stderr = os.Stderr
	out, err := c.Output()
	must(err)
	must(json.Unmarshal(out, &l))
	return l
}

// run runs the program and tells how long it took as a whole process.
func run(program, cache, dir string, args ...string) time.Duration {
	c := exec.Command(program, append([]string{"-C", dir}, args...)...)
	c.Env = append(os.Environ(), "HGATE_CACHE="+cache)
	start := time.Now()
	err := c.Run()
	took := time.Since(start)
	if exit, ok := err.(*exec.ExitError); ok && exit.ExitCode() == 1 {
		err = nil // the answer is no
	}
	if err != nil {
		panic(fmt.Sprint(program, args, err))
	}
	return took
}

// measureStart measures a whole process that answers one request: cold, without a cache, and warm.
func measureStart(t *table, s shape.Shape, dir string, how measuring) {
	program, pairs := how.program, how.pairs
	if _, err := os.Stat(program); err != nil {
		say("there is no %s: starts are not measured", program)
		return
	}
	cache, err := os.MkdirTemp("", "cache-")
	must(err)
	defer os.RemoveAll(cache)
	ask := s.Asks(2)[1]
	args := []string{"try", ask.Who, ask.What, ask.Where}
	time.Sleep(time.Second) // so that no file is so new that nobody may rely on it
	first := run(program, cache, dir, args...)
	var cold, warm, ratios []float64
	for range pairs {
		one, two := run(program, "off", dir, args...), run(program, cache, dir, args...)
		cold, warm, ratios = append(cold, float64(one)), append(warm, float64(two)), append(ratios, float64(two)/float64(one))
	}
	t.line(figure{t.shape, "try as a process, warm", took(warm), "cold", took(cold), ratio(ratios)})
	t.line(figure{t.shape, "try, the first, with keeping", short(first), "", "", ""})
}
