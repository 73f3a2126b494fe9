package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
)

// TestScripts runs the program as it is built, in a folder of its own for each script.
func TestScripts(t *testing.T) {
	bin := t.TempDir()
	build := exec.Command("go", "build", "-o", filepath.Join(bin, "hgate"), ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("building hgate: %v\n%s", err, out)
	}
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(env *testscript.Env) error {
			env.Setenv("PATH", bin+string(os.PathListSeparator)+env.Getenv("PATH"))
			env.Setenv("ZONEINFO", "/nowhere") // the host's zones must not matter
			env.Setenv("TZ", "Asia/Tokyo")
			return nil
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}
