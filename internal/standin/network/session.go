package network

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"hiddengate/internal/standin"
)

// mostBody is how many bytes somebody may send to one command.
const mostBody = 32 << 20

// session is one session of somebody who has signed in.
type session struct {
	*Console
	channel ssh.Channel
	account string
	keyed   bool // by a key, not a password
	lines   lineReader
	quiet   *time.Timer
}

// lineReader reads what somebody writes, line by line.
type lineReader interface {
	ReadLine() (string, error)
	ReadPassword(prompt string) (string, error)
}

// serve answers what a client asks of a session (RFC 4254, section 6): a shell, or one command.
func (s *session) serve(asked <-chan *ssh.Request) {
	defer s.channel.Close()
	terminal := false
	for r := range asked {
		switch r.Type {
		case "pty-req":
			terminal = true
			answer(r, true)
		case "env", "window-change":
			answer(r, r.Type == "window-change")
		case "shell", "exec":
			var line struct{ Command string }
			if r.Type == "exec" && ssh.Unmarshal(r.Payload, &line) != nil {
				answer(r, false)
				return
			}
			answer(r, true)
			go ssh.DiscardRequests(asked)
			s.quiet = time.AfterFunc(s.Idle, s.signOut)
			defer s.quiet.Stop()
			ok := s.run(line.Command, r.Type == "shell", terminal)
			status := struct{ Code uint32 }{map[bool]uint32{true: 0, false: 1}[ok]}
			// Whoever has gone away learns nothing.
			_, _ = s.channel.SendRequest("exit-status", false, ssh.Marshal(&status))
			return
		default:
			answer(r, false)
		}
	}
}

func answer(r *ssh.Request, ok bool) {
	if r.WantReply {
		_ = r.Reply(ok, nil) // the next read tells if the client has gone
	}
}

// signOut ends a session in which nobody has written anything for long.
func (s *session) signOut() {
	s.say(fmt.Sprintf("You were signed out: nothing came for %s.", s.Idle))
	s.channel.Close()
}

func (s *session) say(lines ...string) {
	for _, line := range lines {
		if _, err := io.WriteString(s.channel, clean(line)+"\r\n"); err != nil {
			return
		}
	}
}

// clean shows what would do something to a terminal as a question mark.
func clean(line string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c >= 0x7f && c < 0xa0 || c == '\u202e' || c == '\u202d' || c >= '\u2066' && c <= '\u2069' {
			return '?'
		}
		return c
	}, line)
}

// run serves a shell or one command, and says whether that did what it should.
func (s *session) run(line string, shell, terminal bool) bool {
	if !shell {
		s.lines = &plainLines{bufio.NewReader(io.LimitReader(s.channel, mostBody))}
		return s.obey(strings.TrimSpace(line)) == goesOn
	}
	if terminal {
		t := term.NewTerminal(s.channel, s.account+"> ")
		s.lines = t
	} else {
		s.lines = &plainLines{bufio.NewReader(s.channel)}
	}
	s.say(standin.Said, s.greeting())
	began := s.Now()
	seen := began
	for {
		line, err := s.lines.ReadLine()
		if err != nil {
			return errors.Is(err, io.EOF)
		}
		s.quiet.Reset(s.Idle)
		now := s.Now()
		s.Lock()
		over := s.Settings.Limits(s.account, "").Over(began, seen, now, s.Idle)
		s.Unlock()
		if seen = now; over != nil {
			s.say(strings.ToUpper(over.Error()[:1]) + over.Error()[1:] + ".")
			return false
		}
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if s.obey(line) == ends {
			return true
		}
	}
}

func (s *session) greeting() string {
	s.Lock()
	defer s.Unlock()
	if s.first() {
		return "Welcome, " + s.account + ". Somebody else chose your password: choose your own with password."
	}
	return "Welcome, " + s.account + ". Write help to see what you may do."
}

// first says whether the account has to choose a password before anything else.
func (s *session) first() bool {
	return !s.keyed && s.HasFirst(s.account)
}

// outcome is what became of a line.
type outcome int

const (
	goesOn outcome = iota
	refused
	ends
)

// obey does what a line says. What somebody may is looked up for each line, so that what ends while they are signed
// in is over at once.
func (s *session) obey(line string) outcome {
	if strings.ToLower(line) == "password" {
		return s.choosePassword()
	}
	var body []byte
	if line == replaceLine || line == rehearseLine {
		var err error
		if body, err = s.body(); err != nil {
			s.say("What you sent cannot be read: " + err.Error() + ".")
			return refused
		}
	}
	s.Lock()
	said, out := s.answerTo(line, body)
	s.Unlock()
	s.say(said...)
	return out
}

// What a keeper sends to settings, and rehearses, comes after these lines.
const (
	settingsLine = "settings"
	replaceLine  = "replace settings"
	rehearseLine = "rehearse"
)

// answerTo answers a line.
func (s *session) answerTo(line string, body []byte) (said []string, out outcome) {
	if !s.Settings.Open(s.account, s.Now()) {
		return []string{"Your account is closed, and you are signed out."}, ends
	}
	if s.first() {
		return []string{"Choose your own password first: write password."}, refused
	}
	switch line {
	case "leave":
		return []string{"You have left."}, ends
	case "help":
		return append(s.Help(s.Asker(s.account, "")), "places, whoami, password, help, leave",
			"Write a command with its place, as: see routes at summit. A text follows a colon."), goesOn
	case "places":
		return s.Seen(s.Asker(s.account, "")), goesOn
	case "whoami":
		return s.whoami(), goesOn
	case settingsLine, replaceLine, rehearseLine:
		if !s.Settings.May(s.account, "", standin.Managing, standin.Root, s.Now()) {
			return []string{"You may not: at " + standin.Root + " it needs " + standin.Managing + "."}, refused
		}
		return s.manage(line, body)
	}
	said, done, err := s.Obey(s.Asker(s.account, ""), line, false, nil)
	switch {
	case err != nil:
		return []string{"The console failed, and nothing was done: " + err.Error()}, refused
	case !done:
		return said, refused
	}
	return said, goesOn
}

func (s *session) whoami() []string {
	a := s.Settings.Accounts[s.account]
	out := []string{"You are " + s.account + "."}
	if teams := s.Settings.TeamsOf(s.account); len(teams) > 0 {
		out = append(out, "You are in these teams:")
		for _, name := range teams {
			out = append(out, "  "+name)
		}
	}
	if a.Ends != nil {
		out = append(out, "Your account is open until "+a.Ends.UTC().Format("2006-01-02 15:04")+" UTC.")
	}
	if a.Keeper {
		out = append(out, "You are a keeper: you may do everything.")
	}
	return out
}

// manage does what whoever manages accounts does.
func (s *session) manage(line string, body []byte) (said []string, out outcome) {
	switch line {
	case settingsLine:
		text, err := json.Marshal(s.View())
		if err != nil {
			return []string{err.Error()}, refused
		}
		return []string{standin.ASCII(text)}, goesOn
	case replaceLine:
		wrong, err := s.Replace(s.account, body)
		if err != nil {
			return []string{"The console failed, and nothing was done: " + err.Error()}, refused
		}
		if wrong != "" {
			return []string{wrong}, refused
		}
		return []string{"Done."}, goesOn
	}
	var r standin.Rehearsal
	if err := standin.Strictly(body, &r); err != nil {
		return []string{"What you sent cannot be read: " + err.Error() + "."}, refused
	}
	return []string{s.Rehearse(s.Asker(r.Account, ""), r.Lines)}, goesOn
}

// choosePassword lets somebody choose a password.
func (s *session) choosePassword() outcome {
	first, err := s.lines.ReadPassword("New password: ")
	if err != nil {
		return ends
	}
	again, err := s.lines.ReadPassword("Again: ")
	if err != nil {
		return ends
	}
	if first != again {
		s.say("The two are not the same, and nothing was changed.")
		return refused
	}
	wrong, err := s.Choose(s.account, first)
	switch {
	case err != nil:
		s.say("The console failed, and nothing was done: " + err.Error())
		return refused
	case wrong != "":
		s.say(wrong)
		return refused
	}
	s.say("Your password was changed.")
	return goesOn
}

// body reads all that follows a command.
func (s *session) body() ([]byte, error) {
	p, ok := s.lines.(*plainLines)
	if !ok {
		return nil, errors.New("it is for programs: send it to a command, not into a shell")
	}
	out, err := io.ReadAll(io.LimitReader(p.r, mostBody+1))
	if err == nil && len(out) > mostBody {
		err = errors.New("it is too much")
	}
	return out, err
}

// plainLines reads lines that nobody edits.
type plainLines struct{ r *bufio.Reader }

// mostLine is how many bytes a line may have.
const mostLine = 4096

// ReadLine reads a line; io.EOF where no more come.
func (p *plainLines) ReadLine() (string, error) {
	var out []byte
	for {
		c, err := p.r.ReadByte()
		switch {
		case err != nil && len(out) == 0:
			return "", err
		case err != nil || c == '\n':
			return strings.TrimSuffix(string(out), "\r"), nil
		case len(out) == mostLine:
			return "", errors.New("the line is too long")
		}
		out = append(out, c)
	}
}

// ReadPassword reads a line; nothing is shown of it in any case.
func (p *plainLines) ReadPassword(string) (string, error) { return p.ReadLine() }
