// Command platforms sees that a tree, its tests too, compiles for systems other than the one it runs on. It checks types
// from the source alone and compiles nothing, which takes seconds where compiling takes minutes for each system.
//
// The first word is the tree's folder; each further one is a system and a processor, as in windows/amd64.
package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/tools/go/packages"
)

func main() {
	if len(os.Args) < 3 {
		fmt.Fprintln(os.Stderr, "usage: platforms FOLDER SYSTEM/PROCESSOR...")
		os.Exit(2)
	}
	folder, err := filepath.Abs(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	for _, platform := range os.Args[2:] {
		fmt.Println("checking types for", platform)
		if !checks(folder, platform) {
			os.Exit(1)
		}
	}
}

// checks says whether every package below a folder is free of errors on a platform, and prints those that there are.
func checks(folder, platform string) bool {
	system, processor, _ := strings.Cut(platform, "/")
	pkgs, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports |
			packages.NeedDeps | packages.NeedTypes | packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedTypesSizes,
		Dir:   folder,
		Env:   append(os.Environ(), "GOOS="+system, "GOARCH="+processor, "CGO_ENABLED=0"),
		Tests: true,
		ParseFile: func(set *token.FileSet, name string, text []byte) (*ast.File, error) {
			file, err := parser.ParseFile(set, name, text, parser.SkipObjectResolution)
			if file != nil && !strings.HasPrefix(name, folder+string(filepath.Separator)) {
				withoutBodies(file)
			}
			return file, err
		},
	}, "./...")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return false
	}
	if len(pkgs) == 0 {
		fmt.Fprintln(os.Stderr, "there are no packages in", folder)
		return false
	}
	sound := true
	for _, p := range pkgs {
		if strings.HasSuffix(p.ID, ".test") { // the program around tests, which Go makes and keeps elsewhere
			continue
		}
		for _, e := range p.Errors {
			fmt.Fprintln(os.Stderr, e)
			sound = false
		}
	}
	return sound
}

// withoutBodies leaves of a library's functions what others see of them.
func withoutBodies(file *ast.File) {
	for _, d := range file.Decls {
		if f, ok := d.(*ast.FuncDecl); ok {
			f.Body = nil
		}
	}
}
