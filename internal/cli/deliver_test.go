//go:build unix

package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/notice"
)

// receiver is a web server that may fail and stall, and keeps what it takes.
type receiver struct {
	sync.Mutex
	fail, stall, forget bool     // forget takes an event, and says that it did not
	taken               []string // the types of events, in order
	ids                 []string
	wrong               []string
}

func (r *receiver) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	r.Lock()
	defer r.Unlock()
	body, _ := io.ReadAll(q.Body)
	var seconds int64
	_, _ = fmt.Sscan(q.Header.Get("Hgate-Time"), &seconds)
	if q.Header.Get("Hgate-Signature") != "sha256="+notice.Sign("wind", seconds, body) {
		r.wrong = append(r.wrong, "the signature is another")
	}
	var e struct {
		SpecVersion, Type, ID string
		Data                  json.RawMessage
	}
	if json.Unmarshal(body, &e) != nil || e.SpecVersion != "1.0" || e.ID == "" || e.Data == nil {
		r.wrong = append(r.wrong, "it is no CloudEvent: "+string(body))
	}
	switch {
	case r.stall:
		<-q.Context().Done()
	case r.forget:
		r.ids = append(r.ids, e.ID)
		r.forget = false
		w.WriteHeader(http.StatusInternalServerError)
	case r.fail:
		w.WriteHeader(http.StatusServiceUnavailable)
	default:
		r.taken = append(r.taken, e.Type)
		r.ids = append(r.ids, e.ID)
	}
}

// now changes how the receiver is, once it has answered.
func (r *receiver) now(change func()) {
	r.Lock()
	defer r.Unlock()
	change()
}

// notify gives the story's user settings that name who hears of what.
func (s *story) notify(text string) {
	dir := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "hgate")
	require.NoError(s.t, os.MkdirAll(dir, 0o700))
	require.NoError(s.t, os.WriteFile(filepath.Join(dir, "settings.yaml"), []byte(s.dir+":\n  notify:\n"+text), 0o600))
}

func TestNoticesComeOnceTheReceiverTakesThem(t *testing.T) {
	s := newStory(t, "")
	hook := &receiver{fail: true}
	server := httptest.NewServer(hook)
	defer server.Close()
	t.Setenv("DESK_KEY", "wind")
	file := filepath.Join(t.TempDir(), "events")
	s.notify("    desk: {to: '" + server.URL + "', about: [request.*, loan.ended], secret: {env: DESK_KEY}}\n" +
		"    south: {to: '" + file + "', about: request.made, on: south}\n")
	s.says("request lift --where north --for 1h --reason stuck"+s.by("marek"), 0)
	s.says("approve 2"+s.by("ines"), 0)
	s.says("log deliver", 3, "notice desk", "answers 503", "it is tried again later", "notice south: 0 events sent")
	s.says("log deliver", 0, "notice desk: 0 events sent") // its time has not come
	s.later(10 * time.Second)
	s.says("log deliver", 3, "answers 503")
	hook.now(func() { hook.fail = false })
	s.later(time.Minute)
	s.says("log deliver", 0, "notice desk: 2 events sent")
	s.says("log deliver", 0, "notice desk: 0 events sent")
	s.says("finish 2"+s.by("marek"), 0)
	s.says("request lift --where south --for 1h --reason stuck"+s.by("marek"), 0)
	s.says("log deliver", 0, "notice desk: 2 events sent", "notice south: 1 event sent")
	hook.now(func() {
		assert.Equal(t, []string{"hgate.request.made", "hgate.request.approved", "hgate.loan.ended", "hgate.request.made"},
			hook.taken)
		assert.Empty(t, hook.wrong)
	})
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(text), "\n"))
	assert.Contains(t, string(text), `"within":"south"`)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A receiver that is away neither delays nor fails what is done.
func TestNobodyWaitsForNotices(t *testing.T) {
	s := newStory(t, "")
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listener.Close()
	s.notify("    desk: {to: 'http://" + listener.Addr().String() + "', about: request.*}\n")
	s.says("request lift --for 1h --reason stuck"+s.by("marek"), 0)
	s.says("log deliver", 3, "cannot be reached")
}

// A receiver that never answers is left, and one that forgot what it took gets the same again.
func TestReceiversMayStallAndForget(t *testing.T) {
	s := newStory(t, "")
	hook := &receiver{stall: true}
	server := httptest.NewServer(hook)
	defer server.Close()
	t.Setenv("DESK_KEY", "wind")
	s.notify("    desk: {to: '" + server.URL + "', about: request.*, secret: {env: DESK_KEY}}\n")
	s.says("request lift --for 1h --reason stuck"+s.by("marek"), 0)
	if !testing.Short() { // it takes as long as a receiver is waited for
		s.says("log deliver", 3, "does not answer in time")
		s.later(time.Minute)
	}
	hook.now(func() { hook.stall, hook.forget = false, true })
	s.says("log deliver", 3, "answers 500")
	s.later(time.Minute)
	s.says("log deliver", 0, "1 event sent")
	hook.now(func() {
		require.Len(t, hook.ids, 2)
		assert.Equal(t, hook.ids[0], hook.ids[1])
	})
}

// letters is a mail server that takes what it is sent.
func letters(t *testing.T, offers ...string) (address string, taken *[]string) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	taken = &[]string{}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			in := bufio.NewScanner(conn)
			say := func(line string) { fmt.Fprintf(conn, "%s\r\n", line) }
			say("220 mail")
			letter := false
			for in.Scan() {
				line := in.Text()
				switch {
				case letter && line == ".":
					letter = false
					say("250 taken")
				case letter:
					*taken = append(*taken, line)
				case strings.HasPrefix(line, "EHLO"):
					for _, one := range offers {
						say("250-" + one)
					}
					say("250 HELP")
				case line == "DATA":
					letter = true
					say("354 go on")
				case line == "QUIT":
					say("221 bye")
					conn.Close()
				default:
					say("250 fine")
				}
			}
		}
	}()
	return listener.Addr().String(), taken
}

func TestNoticesGoByMail(t *testing.T) {
	s := newStory(t, "")
	address, taken := letters(t)
	mail := "    desk: {to: 'mailto:desk@ternhollow.example', about: request.*, server: '" + address +
		"', from: gate@ternhollow.example"
	s.notify(mail + "}\n")
	s.says("request lift --where north --for 1h --reason stückwerk"+s.by("marek"), 0)
	s.says("log deliver", 3, "it offers no STARTTLS")
	s.later(time.Minute)
	s.notify(mail + ", no-tls: true}\n")
	s.says("log deliver", 0, "1 event sent")
	text := strings.Join(*taken, "\n")
	assert.Contains(t, text, "To: desk@ternhollow.example")
	assert.Contains(t, text, "marek asked for grant lift on north for 1h: st=C3=BCckwerk")
	assert.Contains(t, text, "Message-ID: <")
}

func TestSettingsOfTheUserAreTheUsers(t *testing.T) {
	s := newStory(t, "")
	s.notify("    desk: {to: 'http://desk.ternhollow.example', about: request.*}\n")
	s.says("log deliver", 2, "settings.yaml:3:11", "what goes over http:// can be read on the way")
	s.notify("    desk: {to: 'https://u:p@desk.ternhollow.example', about: request.*}\n")
	s.says("log deliver", 2, "give a `secret`")
	s.notify("    desk: {to: 'https://desk.ternhollow.example', about: request.mad}\n")
	s.says("log deliver", 2, "is no kind of event")
	name := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "hgate", "settings.yaml")
	require.NoError(t, os.Chmod(name, 0o666))
	s.says("log deliver", 3, "somebody else may write them")
	t.Setenv("HGATE_SETTINGS", filepath.Join(s.dir, "hidden-gate.yaml"))
	s.says("request lift --for 1h --reason x"+s.by("marek"), 3, "lie in the workspace")
}
