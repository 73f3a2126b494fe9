package main

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"
)

// bareReading merely reads a workspace's files, on one goroutine, with the readers anyone would take: JSON into a
// struct, CSV into rows, YAML into nodes.
func bareReading(dir string) time.Duration {
	start := time.Now()
	files, err := os.ReadDir(dir)
	must(err)
	for _, f := range files {
		in, err := os.Open(filepath.Join(dir, f.Name()))
		must(err)
		switch filepath.Ext(f.Name()) {
		case ".ndjson":
			readJSON(in)
		case ".csv":
			readCSV(in)
		case ".yaml":
			readYAML(in)
		}
		must(in.Close())
	}
	return time.Since(start)
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

func readJSON(in io.Reader) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var line struct {
			At    string            `json:"at"`
			Type  string            `json:"type"`
			Tags  map[string]string `json:"tags"`
			Owner string            `json:"owner"`
		}
		must(json.Unmarshal(lines.Bytes(), &line))
	}
	must(lines.Err())
}

func readCSV(in io.Reader) {
	rows := csv.NewReader(bufio.NewReader(in))
	for {
		if _, err := rows.Read(); err == io.EOF {
			return
		} else {
			must(err)
		}
	}
}

func readYAML(in io.Reader) {
	text, err := io.ReadAll(in)
	must(err)
	loader, err := yaml.NewLoader(bytes.NewReader(text))
	must(err)
	for {
		var root yaml.Node
		if err := loader.Load(&root); err == io.EOF {
			return
		} else {
			must(err)
		}
	}
}

// resident is the most memory that was resident, in KiB, as the kernel says.
func resident() (kib int) {
	text, err := os.ReadFile("/proc/self/status")
	must(err)
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	_, err = fmt.Sscan(rest, &kib)
	must(err)
	return kib
}
