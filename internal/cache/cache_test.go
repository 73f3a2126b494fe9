//go:build unix

package cache

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/snapshot"
	"hiddengate/internal/starter"
)

// place is a workspace with a cache of its own.
type place struct {
	testing.TB
	dir   string
	root  *os.Root
	cache *Cache
}

const policy = `
systems: {db: {kind: database, unlisted: judge, resources: {sky: {owner: ana}}}}
people: {ana: {}, bo: {}}
roles: {look: {allow: table.read}}
grants: {g: {to: ana, role: look, on: db:sky}}
`

func newPlace(t testing.TB) *place {
	p := &place{TB: t, dir: t.TempDir()}
	t.Setenv(Variable, filepath.Join(t.TempDir(), "cache"))
	p.write("hidden-gate.yaml", "hidden-gate: 1\nignore: [drafts]\ninventories: [{people: more.csv}]\n")
	p.write("policy.yaml", policy)
	p.write("more.csv", "id\ncai\n")
	p.age()
	var err error
	p.root, err = os.OpenRoot(p.dir)
	require.NoError(t, err)
	p.cache = Of(p.dir)
	require.NotNil(t, p.cache)
	return p
}

func (p *place) write(name, text string) {
	require.NoError(p, os.MkdirAll(filepath.Dir(filepath.Join(p.dir, name)), 0o755))
	require.NoError(p, os.WriteFile(filepath.Join(p.dir, name), []byte(text), 0o644))
}

// age waits until the files are no longer changed just now.
func (p *place) age() { time.Sleep(2 * lag) }

// read reads the files, and keeps what comes of them.
func (p *place) read() *gate.Gate {
	r := p.cache.Begin()
	e, err := policyfile.Load(p.root.FS())
	require.NoError(p, err)
	g, err := gate.Compile(e, nil)
	require.NoError(p, err)
	require.NoError(p, r.keep(p.root.FS(), g, nil))
	return g
}

func (p *place) decide(g *gate.Gate, who, where string) string {
	outcome, err := g.Decide(gate.Request{Subject: estate.Principal{ID: who}, Operation: "table.read", Resource: where,
		Context: g.NewContext()})
	require.NoError(p, err)
	return outcome.String()
}

func (p *place) taken() bool {
	_, ok := p.cache.Open(p.root.FS())
	return ok
}

func TestWhatWasKeptIsTaken(t *testing.T) {
	p := newPlace(t)
	assert.False(t, p.taken(), "there is none yet")
	p.read()
	g, ok := p.cache.Open(p.root.FS())
	require.True(t, ok)
	assert.Equal(t, "allow", p.decide(g, "ana", "db:sky"))
	assert.Equal(t, "deny", p.decide(g, "bo", "db:sky"))
	assert.Equal(t, "allow", p.decide(g, "ana", "db:sky/new"))
	assert.Equal(t, "deny", p.decide(g, "cai", "db:ground"))
	why, err := g.Explain(gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "table.read", Resource: "db:sky",
		Context: g.NewContext()})
	require.NoError(t, err)
	assert.Equal(t, "policy.yaml:5", why.Grants[0].Grant.Source.Short())
	info, err := os.Stat(p.cache.path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	info, err = os.Stat(filepath.Dir(p.cache.path))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

// A file that goes while others are read is in the estate and not in the folder.
func TestAFileThatWentWhileItWasReadIsNoticed(t *testing.T) {
	p := newPlace(t)
	p.write("more/extra.yaml", "people: {dee: {}}")
	p.age()
	r := p.cache.Begin()
	e, err := policyfile.Load(p.root.FS())
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "more/extra.yaml")))
	require.ErrorIs(t, r.keep(p.root.FS(), g, nil), errChanged)
	assert.False(t, p.taken())
}

// What an edit leaves is taken by the next command, if the files are what the edit made them and nothing else.
func TestAnEditLeavesTheCacheWarm(t *testing.T) {
	edited := strings.Replace(policy, "to: ana", "to: bo", 1)
	for name, c := range map[string]struct {
		meanwhile func(p *place)
		taken     bool
	}{
		"alone":                                  {func(*place) {}, true},
		"beside another edit of the same file":   {func(p *place) { p.write("policy.yaml", policy) }, false},
		"beside another edit of another file":    {func(p *place) { p.write("more.csv", "id\ncai\ndee\n") }, false},
		"beside a file that comes":               {func(p *place) { p.write("x.yaml", "people: {dee: {}}") }, false},
		"beside an inventory that another edits": {func(p *place) { p.write("more.csv", "id\ncai\n") }, false},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			r := p.cache.Begin()
			before, err := policyfile.Load(p.root.FS())
			require.NoError(t, err)
			p.write("policy.yaml", edited)
			after, err := policyfile.Reload(p.root.FS(), p.root.FS(), before, []string{"policy.yaml"})
			require.NoError(t, err)
			g, err := gate.Compile(after, nil)
			require.NoError(t, err)
			c.meanwhile(p)
			r.KeepEdited(p.root.FS(), g, map[string][]byte{"policy.yaml": []byte(edited)})
			is, ok := p.cache.Open(p.root.FS())
			require.Equal(t, c.taken, ok)
			if ok {
				assert.Equal(t, "allow", p.decide(is, "bo", "db:sky"))
				assert.Equal(t, "deny", p.decide(is, "ana", "db:sky"))
			}
		})
	}
}

func TestAChangedWorkspaceIsReadAgain(t *testing.T) {
	changed := `
systems: {db: {kind: database, unlisted: judge, resources: {sky: {owner: ana}}}}
people: {ana: {}, bo: {}}
roles: {look: {allow: table.read}}
grants: {g: {to: bo,  role: look, on: db:sky}}
`
	require.Len(t, changed, len(policy))
	for name, change := range map[string]func(p *place){
		"a file of the same length and with its old time": func(p *place) {
			info, err := os.Stat(filepath.Join(p.dir, "policy.yaml"))
			require.NoError(p, err)
			p.write("policy.yaml", changed)
			require.NoError(p, os.Chtimes(filepath.Join(p.dir, "policy.yaml"), info.ModTime(), info.ModTime()))
		},
		"a file put in another's place": func(p *place) {
			p.write("drafts/new.yaml", changed)
			require.NoError(p, os.Rename(filepath.Join(p.dir, "drafts/new.yaml"), filepath.Join(p.dir, "policy.yaml")))
		},
		"one file more": func(p *place) { p.write("more/people.yaml", "people: {dee: {}}") },
		"one file less": func(p *place) {
			require.NoError(p, os.Rename(filepath.Join(p.dir, "policy.yaml"), filepath.Join(p.dir, "policy.txt")))
		},
		"an inventory":   func(p *place) { p.write("more.csv", "id\ndee\n") },
		"no inventory":   func(p *place) { require.NoError(p, os.Remove(filepath.Join(p.dir, "more.csv"))) },
		"other settings": func(p *place) { p.write("hidden-gate.yaml", "hidden-gate: 1\nignore: []\n") },
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.read()
			require.True(t, p.taken())
			p.write("drafts/unread.yaml", "anything")
			require.True(t, p.taken(), "what is ignored changes nothing")
			change(p)
			assert.False(t, p.taken())
		})
	}
}

// A change that leaves the same size, times and inode is seen by the content, if it came so soon that it can.
func TestARecentFileIsKnownByItsContent(t *testing.T) {
	p := newPlace(t)
	info, err := os.Stat(filepath.Join(p.dir, "policy.yaml"))
	require.NoError(t, err)
	hash, err := hashOf(p.root.FS(), "policy.yaml")
	require.NoError(t, err)
	sources := policyfile.Sources{Ignore: []string{"hidden-gate.yaml"}}
	k := kept{Sources: sources, Files: []file{{"policy.yaml", marksOf(info), hash}}}
	assert.True(t, k.current(p.root.FS()))
	k.Files[0].Hash = "of something else"
	assert.False(t, k.current(p.root.FS()))

	p.write("policy.yaml", policy) // now
	r := p.cache.Begin()
	e, err := policyfile.Load(p.root.FS())
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	assert.ErrorIs(t, r.keep(p.root.FS(), g, nil), errChanged, "so soon nobody knows what was read")
}

// Nothing that somebody else may have put there, or that is damaged, is taken.
func TestAForgedOrDamagedCacheIsNotTaken(t *testing.T) {
	for name, spoil := range map[string]func(p *place, b []byte) []byte{
		"empty":     func(*place, []byte) []byte { return nil },
		"cut off":   func(_ *place, b []byte) []byte { return b[:len(b)-8] },
		"longer":    func(_ *place, b []byte) []byte { return append(b, 0, 0, 0, 0, 0, 0, 0, 0) },
		"no header": func(_ *place, b []byte) []byte { clear(b[:headers]); return b },
		"another version": func(_ *place, b []byte) []byte {
			b[10]++
			return b
		},
		"writable by others": func(p *place, b []byte) []byte {
			require.NoError(p, os.Chmod(p.cache.path, 0o620))
			return b
		},
		"in a folder that others can write": func(p *place, b []byte) []byte {
			require.NoError(p, os.Chmod(filepath.Dir(p.cache.path), 0o777))
			p.cache = Of(p.dir)
			return b
		},
		"a link": func(p *place, b []byte) []byte {
			require.NoError(p, os.Rename(p.cache.path, p.cache.path+"-elsewhere"))
			require.NoError(p, os.Symlink(p.cache.path+"-elsewhere", p.cache.path))
			return nil
		},
		"of another workspace": func(p *place, _ []byte) []byte {
			dir := p.TempDir()
			require.NoError(p, starter.Write(starter.Demo(), dir+"/demo"))
			time.Sleep(2 * lag)
			other := *p
			other.dir = dir + "/demo"
			var err error
			other.root, err = os.OpenRoot(other.dir)
			require.NoError(p, err)
			other.cache = Of(other.dir)
			other.read()
			b, err := os.ReadFile(other.cache.path)
			require.NoError(p, err)
			return b
		},
		"of another program": func(p *place, b []byte) []byte {
			p.cache.program += "x"
			return b
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.read()
			require.True(t, p.taken())
			path := p.cache.path
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			if b = spoil(p, b); b != nil || name == "empty" {
				require.NoError(t, os.WriteFile(path, b, 0o600))
			}
			assert.False(t, p.taken())
		})
	}
	t.Run("any bit", func(t *testing.T) {
		p := newPlace(t)
		p.read()
		b, err := os.ReadFile(p.cache.path)
		require.NoError(t, err)
		for at := 0; at < len(b); at += 1 + len(b)/200 {
			if at >= len(magic) && at < 16 || at >= 40 && at < headers {
				continue // nothing stands there
			}
			b[at] ^= 4
			require.NoError(t, os.WriteFile(p.cache.path, b, 0o600))
			assert.False(t, p.taken(), "byte %d", at)
			b[at] ^= 4
		}
		require.NoError(t, os.WriteFile(p.cache.path, b, 0o600))
		assert.True(t, p.taken())
	})
	t.Run("damaged, with its checksum made right", func(t *testing.T) {
		p := newPlace(t)
		p.read()
		b, err := os.ReadFile(p.cache.path)
		require.NoError(t, err)
		for at := headers; at < len(b); at += 1 + len(b)/300 {
			b[at] ^= 0xff
			n := headers + int(binary.LittleEndian.Uint64(b[16:]))
			binary.LittleEndian.PutUint64(b[32:], sum(b[headers:n], b[n:]))
			require.NoError(t, os.WriteFile(p.cache.path, b, 0o600))
			assert.NotPanics(t, func() { p.taken() }, "byte %d", at)
			b[at] ^= 0xff
		}
	})
}

func TestThereIsNoCacheInsideTheWorkspace(t *testing.T) {
	p := newPlace(t)
	t.Setenv(Variable, filepath.Join(p.dir, "cache"))
	assert.Nil(t, Of(p.dir))
	t.Setenv(Variable, "off")
	assert.Nil(t, Of(p.dir))
	var none *Cache
	_, ok := none.Open(p.root.FS())
	assert.False(t, ok)
	none.Begin().Keep(p.root.FS(), nil)
}

// Old caches are taken away, and nothing else that lies beside them.
func TestOnlyItsOwnFilesAreTakenAway(t *testing.T) {
	p := newPlace(t)
	p.read()
	folder := filepath.Dir(p.cache.path)
	text, err := os.ReadFile(p.cache.path)
	require.NoError(t, err)
	old := filepath.Join(folder, "00112233445566778899aabbccddeeff")
	files := map[string]string{old: string(text), filepath.Join(folder, "notes"): "mine",
		filepath.Join(folder, "ffeeddccbbaa99887766554433221100"): "mine, by that name",
		filepath.Join(folder, "new-letter"):                       "mine"}
	for name, text := range files {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		require.NoError(t, os.Chtimes(name, time.Time{}, time.Now().Add(-2*unused)))
	}
	p.cache.tidy()
	for name := range files {
		if name == old {
			assert.NoFileExists(t, name)
		} else {
			assert.FileExists(t, name)
		}
	}
}

// A pipe in the place of a cache is not waited for.
func TestAPipeIsNoCache(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.MkdirAll(filepath.Dir(p.cache.path), 0o700))
	require.NoError(t, syscall.Mkfifo(p.cache.path, 0o600))
	_, ok := p.cache.Open(p.root.FS())
	require.False(t, ok)
}

// What a small file says counts, whatever its marks are.
func TestSmallFilesAreToldByTheirContent(t *testing.T) {
	p := newPlace(t)
	p.read()
	all, err := mapped(p.cache.path)
	require.NoError(t, err)
	first, _, err := parts(all)
	require.NoError(t, err)
	var k kept
	require.NoError(t, snapshot.Decode(first, &k))
	require.True(t, k.current(p.root.FS()))
	for i := range k.Files {
		require.NotEmpty(t, k.Files[i].Hash)
	}
	p.write("policy.yaml", policy+"\n")
	info, err := os.Stat(filepath.Join(p.dir, "policy.yaml"))
	require.NoError(t, err)
	for i, f := range k.Files {
		if f.Name == "policy.yaml" {
			k.Files[i].Marks = marksOf(info) // as if they had been set back
		}
	}
	require.False(t, k.current(p.root.FS()))
}

func TestTheVariableNamesAWholePath(t *testing.T) {
	for value, fine := range map[string]bool{"": true, "off": true, "/tmp/x": true, "x": false, "./x": false,
		"on": false} {
		t.Setenv(Variable, value)
		require.Equal(t, fine, CheckVariable() == nil, value)
	}
}

// A cache that was tampered with is taken whole or not at all, and never ends the program.
func FuzzSnapshot(f *testing.F) {
	f.Add([]byte{}, uint16(0), byte(0))
	f.Add([]byte("hgatekept"), uint16(40), byte(255))
	p := newPlace(f)
	p.read()
	whole, err := os.ReadFile(p.cache.path)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, more []byte, at uint16, flip byte) {
		text := bytes.Clone(whole)
		text[int(at)%len(text)] ^= flip
		copy(text[int(at)%len(text):], more)
		first, second, errParts := parts(text)
		if errParts != nil { // the checksum is made good, so that what is behind it is looked at
			n := binary.LittleEndian.Uint64(text[16:])
			if n > uint64(len(text)-headers) {
				n = uint64(len(text) - headers)
			}
			first, second = text[headers:headers+n], text[headers+n:]
			copy(text, magic)
			binary.LittleEndian.PutUint64(text[16:], n)
			binary.LittleEndian.PutUint64(text[24:], uint64(len(second)))
		}
		binary.LittleEndian.PutUint64(text[32:], sum(first, second))
		require.NoError(t, os.WriteFile(p.cache.path, text, 0o600))
		p.cache.Open(p.root.FS())
	})
}
