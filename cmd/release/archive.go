package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// carried are the files of the repository that go into every archive.
var carried = []string{"README.md", "CHANGELOG.md", "SECURITY.md", "docs/catalogs.md", "docs/files.md", "docs/guide.md",
	"docs/meaning.md", "docs/stand-ins.md"}

// member is a file of an archive.
type member struct {
	name, from string
	mode       fs.FileMode
}

// archive writes the program with its papers as one file: .zip for windows, .tar.gz for all others.
func (r *release) archive(p platform, program string) error {
	base := fmt.Sprintf("hgate-%s-%s-%s", r.version, p.system, p.processor)
	members := []member{{path.Join(base, filepath.Base(program)), program, 0o755}}
	for _, name := range carried {
		members = append(members, member{path.Join(base, name), name, 0o644})
	}
	for _, dir := range []string{"man", "completions"} {
		entries, err := os.ReadDir(filepath.Join(r.work, dir))
		if err != nil {
			return err
		}
		for _, e := range entries {
			members = append(members, member{path.Join(base, dir, e.Name()), filepath.Join(r.work, dir, e.Name()), 0o644})
		}
	}
	slices.SortFunc(members, func(a, b member) int { return strings.Compare(a.name, b.name) })
	write, ending := writeTar, ".tar.gz"
	if p.system == "windows" {
		write, ending = writeZip, ".zip"
	}
	f, err := os.Create(filepath.Join(r.to, base+ending))
	if err != nil {
		return err
	}
	defer f.Close()
	if err := write(f, members, r.at); err != nil {
		return err
	}
	return f.Close()
}

func writeTar(f *os.File, members []member, at time.Time) error {
	packed, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err != nil {
		return err
	}
	out := tar.NewWriter(packed)
	for _, m := range members {
		text, err := os.ReadFile(m.from)
		if err != nil {
			return err
		}
		if err := out.WriteHeader(&tar.Header{Name: m.name, Mode: int64(m.mode), Size: int64(len(text)), ModTime: at,
			Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := out.Write(text); err != nil {
			return err
		}
	}
	if err := out.Close(); err != nil {
		return err
	}
	return packed.Close()
}

func writeZip(f *os.File, members []member, at time.Time) error {
	out := zip.NewWriter(f)
	for _, m := range members {
		text, err := os.ReadFile(m.from)
		if err != nil {
			return err
		}
		header := &zip.FileHeader{Name: m.name, Method: zip.Deflate, Modified: at}
		header.SetMode(m.mode)
		w, err := out.CreateHeader(header)
		if err != nil {
			return err
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	return out.Close()
}

// checksums writes the SHA-256 of every file, in the form that sha256sum -c reads.
func (r *release) checksums() error {
	entries, err := os.ReadDir(r.to)
	if err != nil {
		return err
	}
	var out strings.Builder
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(r.to, e.Name()))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(text)
		fmt.Fprintf(&out, "%s  %s\n", hex.EncodeToString(sum[:]), e.Name())
	}
	return os.WriteFile(filepath.Join(r.to, "SHA256SUMS"), []byte(out.String()), 0o644)
}
