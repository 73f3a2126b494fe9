// Package cache keeps what has been worked out of a workspace, the estate and its gate, in the user's own cache folder,
// so that the next run maps it into memory instead of reading and compiling the files again.
//
// A cache must never change an answer. It is taken only if the same program wrote it, for the same folder, and every
// file that was read is the same: by size, times and inode, and by its content where it is small or the times are so
// recent that a change could hide behind them; and if no file was added. It is taken only if it lies in a folder, and
// is a file, that nobody but the user can write, and is whole by its checksum. In every other case it is as if there
// were none.
package cache

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/parallel"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/private"
	"hiddengate/internal/snapshot"
)

// Variable is the environment variable that names another folder, or turns the cache off with `off`.
const Variable = "HGATE_CACHE"

const (
	magic   = "hgatekept\x001\n" // and a version; 12 bytes
	headers = 64                 // bytes before the snapshots
)

// Cache is the place of one workspace's cache.
type Cache struct {
	workspace string // an absolute path without links
	program   string // what identifies the program
	path      string
}

// Of gives the cache of a workspace; nil if there can be none.
func Of(workspace string) *Cache {
	place := os.Getenv(Variable)
	if place == "off" {
		return nil
	}
	real, err := filepath.Abs(workspace)
	if err == nil {
		real, err = filepath.EvalSymlinks(real)
	}
	program, errProgram := identity()
	if err != nil || errProgram != nil {
		return nil
	}
	if place == "" {
		user, err := os.UserCacheDir()
		if err != nil {
			return nil
		}
		place = filepath.Join(user, private.Program)
	}
	if err := ownFolder(place); err != nil {
		return nil
	}
	if place, err = filepath.EvalSymlinks(place); err != nil || inside(place, real) {
		return nil // nobody should be able to commit a cache
	}
	name := sha256.Sum256([]byte(real + "\x00" + program))
	return &Cache{real, program, filepath.Join(place, hex.EncodeToString(name[:16]))}
}

func inside(path, folder string) bool {
	rel, err := filepath.Rel(folder, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// identity names the program: by where it stands and the marks of its file, which differ for every build.
func identity() (string, error) {
	path, err := os.Executable()
	if err != nil {
		return "", err
	}
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	return fmt.Sprint(path, " ", marksOf(info)), nil
}

// file is what is remembered of a file that was read.
type file struct {
	Name  string
	Marks string
	// Hash is that of the content, of small files and where the file had changed so shortly before that another change
	// might leave the same marks; "" elsewhere.
	Hash string
}

// kept is what a snapshot holds beside the people.
type kept struct {
	Program   string
	Workspace string
	Sources   policyfile.Sources
	Files     []file
	Estate    *estate.Kept
	Gate      *gate.Kept
}

// Recording is a workspace whose files have been looked at before they were read.
type Recording struct {
	cache *Cache
	began time.Time
}

// Open takes a workspace from its cache; ok is false if there is none that fits.
func (c *Cache) Open(root fs.FS) (g *gate.Gate, ok bool) {
	if c == nil {
		return nil, false
	}
	all, err := mapped(c.path)
	if err != nil {
		return nil, false
	}
	defer func() {
		if fault := recover(); fault != nil { // what passed the checksum and is wrong all the same
			g, ok = nil, false
		}
	}()
	first, second, err := parts(all)
	if err != nil {
		return nil, false
	}
	var k kept
	var people []*estate.Subject
	var byID map[string]*estate.Subject
	var wait parallel.Group
	var errPeople error
	defer wait.Wait() // a fault here leaves nothing behind that still reads the file
	wait.Go(func() {
		errPeople = snapshot.Decode(second, &people)
		byID = make(map[string]*estate.Subject, len(people))
		for _, p := range people {
			byID[p.ID] = p
		}
	})
	err = snapshot.Decode(first, &k)
	fits := err == nil && k.Program == c.program && k.Workspace == c.workspace && k.current(root)
	if fits {
		e := k.Estate.Take()
		g, err = k.Gate.Take(e, func() ([]*estate.Subject, error) {
			wait.Wait()
			e.People = byID
			return people, errPeople
		})
	}
	wait.Wait()
	return g, fits && err == nil
}

// parts sees that a file is whole, and gives the snapshots in it.
func parts(all []byte) (first, second []byte, err error) {
	if len(all) < headers || string(all[:len(magic)]) != magic {
		return nil, nil, snapshot.ErrDamaged
	}
	n, m := binary.LittleEndian.Uint64(all[16:]), binary.LittleEndian.Uint64(all[24:])
	if n > uint64(len(all)) || m > uint64(len(all)) || headers+n+m != uint64(len(all)) {
		return nil, nil, snapshot.ErrDamaged
	}
	first, second = all[headers:headers+n], all[headers+n:]
	if sum(first, second) != binary.LittleEndian.Uint64(all[32:]) {
		return nil, nil, snapshot.ErrDamaged
	}
	return first, second, nil
}

var table = crc32.MakeTable(crc32.Castagnoli)

// sum is a checksum against damage: the CRC-32C of RFC 3720 of both snapshots.
func sum(first, second []byte) uint64 {
	var high uint32
	var wait parallel.Group
	wait.Go(func() { high = crc32.Checksum(second, table) })
	low := crc32.Checksum(first, table)
	wait.Wait()
	return uint64(high)<<32 | uint64(low)
}

// summing sums what is written through it.
type summing struct {
	io.Writer
	sum uint32
}

func (s *summing) Write(b []byte) (int, error) {
	s.sum = crc32.Update(s.sum, table, b)
	return s.Writer.Write(b)
}

// current says whether the workspace is what was read: every file as it was, and none beside them.
func (k *kept) current(root fs.FS) bool {
	names, err := k.Sources.Now(root)
	if err != nil || len(names) != len(k.Files) {
		return false
	}
	for i, f := range k.Files {
		info, err := fs.Stat(root, f.Name)
		if err != nil || names[i] != f.Name || marksOf(info) != f.Marks {
			return false
		}
		if f.Hash != "" {
			if hash, err := hashOf(root, f.Name); err != nil || hash != f.Hash {
				return false
			}
		}
	}
	return true
}

func sumOf(text []byte) string {
	sum := sha256.Sum256(text)
	return string(sum[:])
}

func hashOf(root fs.FS, name string) (string, error) {
	in, err := root.Open(name)
	if err != nil {
		return "", err
	}
	defer in.Close()
	h := sha256.New()
	_, err = io.Copy(h, in)
	return string(h.Sum(nil)), err
}

// Begin looks at a workspace's files before they are read. It may be called on no cache.
func (c *Cache) Begin() *Recording {
	if c == nil {
		return nil
	}
	return &Recording{cache: c, began: time.Now()}
}

// small is how many bytes a file may have to be told by its content, whatever its times say: times can be set back.
const small = 1 << 20

// grain is how far back a change may lie and still share its time with another: file systems keep times in steps of
// up to two seconds.
const grain = 2 * time.Second

// lag is how far the clock by which files get their times may be behind.
const lag = 50 * time.Millisecond

// Keep writes what was made of the workspace, for the next run. If anything stands in the way there will be no cache;
// nothing is reported, since nobody asked for one.
func (r *Recording) Keep(root fs.FS, g *gate.Gate) {
	if r == nil {
		return
	}
	_ = r.keep(root, g, nil)
}

// KeepEdited is Keep for a workspace in which some files have been written since it was read, with the contents from
// which the gate was made.
func (r *Recording) KeepEdited(root fs.FS, g *gate.Gate, written map[string][]byte) {
	if r == nil {
		return
	}
	_ = r.keep(root, g, written)
}

var errChanged = errors.New("a file changed while it was read")

func (r *Recording) keep(root fs.FS, g *gate.Gate, written map[string][]byte) error {
	gateKept, ok := g.Keep()
	if !ok {
		return errors.New("a gate with elevations is not kept")
	}
	sources := policyfile.SourcesOf(g.Estate())
	names, err := sources.Now(root)
	if err != nil {
		return err
	}
	if !slices.Equal(slices.Sorted(slices.Values(names)), slices.Sorted(slices.Values(policyfile.FilesOf(g.Estate())))) {
		return errChanged
	}
	k := kept{Program: r.cache.program, Workspace: r.cache.workspace, Sources: sources, Estate: g.Estate().Keep(),
		Gate: gateKept}
	for _, name := range names {
		info, err := fs.Stat(root, name)
		if err != nil {
			return err
		}
		changed := changedAt(info)
		text, edited := written[name]
		if !edited && changed.After(r.began.Add(-lag)) {
			return errChanged // who knows what was read
		}
		f := file{Name: name, Marks: marksOf(info)}
		if edited || info.Size() <= small || changed.After(r.began.Add(-grain)) {
			if f.Hash, err = hashOf(root, name); err != nil {
				return err
			}
			if again, err := fs.Stat(root, name); err != nil || marksOf(again) != f.Marks {
				return errChanged
			}
			if edited && f.Hash != sumOf(text) {
				return errChanged
			}
		}
		k.Files = append(k.Files, f)
	}
	return r.cache.write(&k, estate.Sorted(g.Estate().People))
}

// write replaces the cache by a new file at once.
func (c *Cache) write(k *kept, people []*estate.Subject) error {
	out, err := os.CreateTemp(filepath.Dir(c.path), "new-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name()) // which finds nothing once it has its name
	defer out.Close()
	if _, err := out.Write(make([]byte, headers)); err != nil {
		return err
	}
	first, second := &summing{Writer: out}, &summing{Writer: out}
	n, err := snapshot.Encode(first, k)
	if err != nil {
		return err
	}
	m, err := snapshot.Encode(second, &people)
	if err != nil {
		return err
	}
	head := make([]byte, headers)
	copy(head, magic)
	binary.LittleEndian.PutUint64(head[16:], uint64(n))
	binary.LittleEndian.PutUint64(head[24:], uint64(m))
	binary.LittleEndian.PutUint64(head[32:], uint64(second.sum)<<32|uint64(first.sum))
	if _, err := out.WriteAt(head, 0); err != nil {
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	if err := os.Rename(out.Name(), c.path); err != nil {
		return err
	}
	c.tidy()
	return nil
}

// unused is after how long a cache that nobody has written anew is taken away: the program or the workspace is gone.
const unused = 30 * 24 * time.Hour

// CheckVariable says what is wrong with what Variable says.
func CheckVariable() error {
	if place := os.Getenv(Variable); place != "" && place != "off" && !filepath.IsAbs(place) {
		return fmt.Errorf("%s is %q: it is off, or a folder by its whole path", Variable, place)
	}
	return nil
}

// own says whether a file is one that this package made: by its name, and by how it begins.
func own(path string) bool {
	name := filepath.Base(path)
	if _, err := hex.DecodeString(name); (err != nil || len(name) != 32) && !strings.HasPrefix(name, "new-") {
		return false
	}
	f, err := openFile(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(magic))
	_, err = io.ReadFull(f, head)
	// the heading comes last
	return err == nil && (string(head) == magic || string(head) == strings.Repeat("\x00", len(magic)))
}

// tidy takes old caches away.
func (c *Cache) tidy() {
	files, err := os.ReadDir(filepath.Dir(c.path))
	if err != nil {
		return
	}
	for _, f := range files {
		if info, err := f.Info(); err == nil && info.Mode().IsRegular() && time.Since(info.ModTime()) > unused &&
			own(filepath.Join(filepath.Dir(c.path), f.Name())) {
			_ = os.Remove(filepath.Join(filepath.Dir(c.path), f.Name()))
		}
	}
}
