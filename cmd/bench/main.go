// Command bench measures hgate on workspaces of many shapes, each figure beside a yardstick in the same run.
package main

import (
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"time"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

func allocations(do func()) float64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	return float64(after.Mallocs - before.Mallocs)
}

func main() {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(576 << 20)
	dir := "/tmp/shapes/" + os.Args[1]
	var s shape.Shape
	for _, one := range shape.Shapes() {
		if one.Name == os.Args[1] {
			s = one
		}
	}
	if _, err := os.Stat(dir); err != nil {
		os.MkdirAll(dir, 0o777)
		if err := s.Write(dir); err != nil {
			panic(err)
		}
	}
	prof := func(name string) func() {
		f, _ := os.Create("/tmp/" + name + ".prof")
		pprof.StartCPUProfile(f)
		return func() { pprof.StopCPUProfile(); f.Close() }
	}
	stop := prof("load")
	start := time.Now()
	e, err := policyfile.Load(os.DirFS(dir))
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	loaded := time.Since(start)
	start = time.Now()
	g, err := gate.Compile(e, nil)
	if err != nil {
		panic(err)
	}
	compiled := time.Since(start)
	stop()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	fmt.Println("load", loaded, "compile", compiled, "heap", m.HeapAlloc>>20, "gcs", m.NumGC, peak())
	stop = prof("read")
	fmt.Println("bare reading", bareReading(dir))
	stop()
	stop = prof("decide")
	fmt.Printf("%+v\n", measureDeciding(s, e, g, 15))
	stop()
	stop = prof("whole")
	fmt.Printf("%+v\n", measureWhole(g))
	stop()
}

func init() {
	if os.Getenv("SMAPS") != "" {
		go func() {
			for {
				time.Sleep(3 * time.Second)
				b, _ := os.ReadFile("/proc/self/smaps_rollup")
				fmt.Println(string(b))
			}
		}()
	}
}
