// Command release builds what users install, from the commit that is checked out: the program for every system, with
// manual pages and completions, packages for Debian and for systems that use RPM, and the checksums of all. The same
// commit gives the same bytes with the same Go.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// platform is a system for which the program is built, as Go names it.
type platform struct{ system, processor string }

var platforms = []platform{
	{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"},
	{"windows", "arm64"},
}

// release is one that is being built.
type release struct {
	to      string // the folder for what users fetch
	work    string // the folder for what goes into it
	version string
	at      time.Time // when the commit was made: the time of every file
}

func main() {
	to := flag.String("to", "dist", "the `folder` to write to, which must be empty or not there")
	systems := flag.String("systems", "", "the `systems` to build for, as linux/amd64,windows/arm64; all by default")
	flag.Parse()
	if err := build(*to, *systems); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func build(to, systems string) error {
	chosen, err := platformsOf(systems)
	if err != nil {
		return err
	}
	r, err := begin(to)
	if err != nil {
		return err
	}
	defer os.RemoveAll(r.work)
	if err := r.papers(); err != nil {
		return err
	}
	for _, p := range chosen {
		fmt.Println("building for", p.system, p.processor)
		program := filepath.Join(r.work, p.system+"-"+p.processor, "hgate")
		if p.system == "windows" {
			program += ".exe"
		}
		if err := r.compile(p, program); err != nil {
			return err
		}
		if err := r.archive(p, program); err != nil {
			return err
		}
		if p.system == "linux" {
			if err := r.packages(p, program); err != nil {
				return err
			}
		}
	}
	return r.checksums()
}

// platformsOf reads the systems that are asked for; no text stands for all of them.
func platformsOf(systems string) ([]platform, error) {
	if systems == "" {
		return platforms, nil
	}
	var out []platform
	for name := range strings.SplitSeq(systems, ",") {
		system, processor, _ := strings.Cut(name, "/")
		p := platform{system, processor}
		if !slices.Contains(platforms, p) {
			return nil, fmt.Errorf("%s is none of the systems that a release is for: %v", name, platforms)
		}
		out = append(out, p)
	}
	return out, nil
}

// begin sees that the commit is what stands in the folder, and makes room.
func begin(to string) (*release, error) {
	changed, err := said("git", "status", "--porcelain")
	if err != nil {
		return nil, err
	}
	if changed != "" {
		return nil, fmt.Errorf("a release is of a commit, and these files differ from it:\n%s", changed)
	}
	seconds, err := said("git", "show", "--no-patch", "--format=%ct", "HEAD")
	if err != nil {
		return nil, err
	}
	at, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s is not empty", to)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return nil, err
	}
	work, err := os.MkdirTemp("", "hgate-release")
	if err != nil {
		return nil, err
	}
	r := &release{to: to, work: work, at: time.Unix(at, 0).UTC()}
	r.version, err = r.versionOf()
	return r, err
}

// versionOf asks the program, built for this machine, for its version.
func (r *release) versionOf() (string, error) {
	program := filepath.Join(r.work, "here")
	if err := r.compile(platform{}, program); err != nil {
		return "", err
	}
	text, err := said(program, "version")
	if err != nil {
		return "", err
	}
	version, _, _ := strings.Cut(strings.TrimPrefix(text, "hgate "), ",")
	return version, nil
}

// compile builds the program, for this machine where no platform is named.
func (r *release) compile(p platform, to string) error {
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=true", "-ldflags", "-s -w -buildid=", "-o", to, "./cmd/hgate")
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=", "GOAMD64=v1", "GOARM64=v8.0")
	if p.system != "" {
		c.Env = append(c.Env, "GOOS="+p.system, "GOARCH="+p.processor)
	}
	c.Stderr = os.Stderr
	return c.Run()
}

// said gives what a command writes, without the last line break.
func said(name string, args ...string) (string, error) {
	c := exec.Command(name, args...)
	c.Stderr = os.Stderr
	out, err := c.Output()
	if err != nil {
		return "", fmt.Errorf("%s: %w", name, err)
	}
	return strings.TrimRight(string(out), "\n"), nil
}
