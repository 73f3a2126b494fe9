// Package web lets people and programs use a stand-in over HTTP: they sign in, and send it lines.
package web

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"hiddengate/internal/standin"
)

// Site is a stand-in that is reached over HTTP.
type Site[S standin.Settings] struct {
	*standin.Core[S]
	Name string // what it is
	// Enter looks at what else signing in takes, once the password is right; nil if that is all. It holds the lock.
	Enter func(by *SigningIn) error
	// Identify tells who sends a request that has no session, as by a key or a certificate; nil if nobody can. It does not
	// hold the lock.
	Identify func(r *http.Request) (account, role string, err error)
	// Special does what the stand-in alone does. It holds the lock.
	Special standin.Special
	// About tells somebody more of themselves. It holds the lock.
	About func(account string) []string
	// Routes are what it has beside the others.
	Routes map[string]http.HandlerFunc

	mu       sync.Mutex
	sessions map[string]*session
}

// session is somebody who has signed in.
type session struct {
	account, role string
	began, seen   time.Time
}

// SigningIn is what somebody sends to sign in.
type SigningIn struct {
	Account  string `json:"account"`
	Password string `json:"password"`
	Code     string `json:"code,omitempty"` // of the second factor
	Role     string `json:"role,omitempty"`
}

// Reply is what a stand-in answers to people.
type Reply struct {
	Done  bool     `json:"done"`
	Said  []string `json:"said"`
	Token string   `json:"token,omitempty"` // that goes with each further request, as Authorization: Bearer TOKEN
}

const (
	mostBody     = 32 << 20
	mostLine     = 64 << 10
	mostSessions = 10_000
)

// Serve answers until the context ends.
func (s *Site[S]) Serve(ctx context.Context, l net.Listener, secure *tls.Config) error {
	s.sessions = map[string]*session{}
	server := &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		WriteTimeout: 2 * time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 32 << 10, TLSConfig: secure,
		ErrorLog: quiet}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	var err error
	if secure != nil {
		err = server.ServeTLS(l, "", "")
	} else {
		err = server.Serve(l)
	}
	if errors.Is(err, http.ErrServerClosed) || ctx.Err() != nil {
		return nil
	}
	return err
}

func (s *Site[S]) handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /{$}", s.front)
	m.HandleFunc("GET /page.css", file("text/css", pageStyle))
	m.HandleFunc("GET /page.js", file("text/javascript", pageScript))
	m.HandleFunc("POST /sign-in", s.signIn)
	m.HandleFunc("POST /sign-out", s.known(s.signOut))
	m.HandleFunc("POST /password", s.known(s.password))
	m.HandleFunc("POST /do", s.known(s.do))
	m.HandleFunc("GET /whoami", s.known(s.whoami))
	m.HandleFunc("GET /places", s.known(s.places))
	m.HandleFunc("GET /help", s.known(s.help))
	m.HandleFunc("GET /settings", s.known(s.managing(s.readSettings)))
	m.HandleFunc("PUT /settings", s.known(s.managing(s.replaceSettings)))
	m.HandleFunc("POST /rehearse", s.known(s.managing(s.rehearse)))
	for pattern, do := range s.Routes {
		m.HandleFunc(pattern, do)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		m.ServeHTTP(w, r)
	})
}

// Say answers in words.
func Say(w http.ResponseWriter, status int, lines ...string) {
	answer(w, status, Reply{Done: status < 300, Said: lines})
}

func answer(w http.ResponseWriter, status int, value any) {
	text, err := json.Marshal(value)
	if err != nil {
		status, text = http.StatusInternalServerError, []byte(`{}`)
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_, _ = io.WriteString(w, standin.ASCII(text)+"\n") // whoever has gone away learns nothing
}

// ReadBody reads JSON of a request into a value; it answers and gives false if it cannot.
func ReadBody(w http.ResponseWriter, r *http.Request, most int64, into any) bool {
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
	if err == nil {
		err = standin.Strictly(text, into)
	}
	if err != nil {
		Say(w, http.StatusBadRequest, "What you sent cannot be read: "+err.Error()+".")
		return false
	}
	return true
}

func (s *Site[S]) signIn(w http.ResponseWriter, r *http.Request) {
	var by SigningIn
	if !ReadBody(w, r, mostLine, &by) {
		return
	}
	if err := s.SignIn(by.Account, by.Password); err != nil {
		Say(w, http.StatusUnauthorized, sentence(err))
		return
	}
	s.Lock()
	var err error
	if s.Enter != nil && !s.HasFirst(by.Account) {
		err = s.Enter(&by)
	}
	first := s.HasFirst(by.Account)
	s.Unlock()
	if err != nil {
		Say(w, http.StatusUnauthorized, sentence(err))
		return
	}
	s.SignedIn(by.Account)
	said := "Welcome, " + by.Account + ". " + standin.Said
	if first {
		said = "Welcome, " + by.Account + ". Somebody else chose your password: choose your own first, with /password."
	}
	answer(w, http.StatusOK, Reply{Done: true, Said: []string{said}, Token: s.begin(by.Account, by.Role)})
}

// Passes sees that an account signs in with its password, and answers where it does not.
func (s *Site[S]) Passes(w http.ResponseWriter, account, password string) bool {
	if err := s.SignIn(account, password); err != nil {
		Say(w, http.StatusUnauthorized, sentence(err))
		return false
	}
	s.SignedIn(account)
	return true
}

func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// begin begins a session, and gives its token.
func (s *Site[S]) begin(account, role string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Now()
	if len(s.sessions) >= mostSessions {
		for token, one := range s.sessions {
			if now.Sub(one.seen) > s.Idle || len(s.sessions) >= 2*mostSessions {
				delete(s.sessions, token)
			}
		}
	}
	token := rand.Text()
	s.sessions[token] = &session{account: account, role: role, began: now, seen: now}
	return token
}

// by is who sends a request.
type by struct {
	account, role, token string
}

// known lets through who has signed in, and whose account is open still.
func (s *Site[S]) known(do func(http.ResponseWriter, *http.Request, by)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, err := s.identify(r)
		if err != nil {
			Say(w, http.StatusUnauthorized, sentence(err))
			return
		}
		s.Lock()
		open, first := s.Settings.Open(who.account, s.Now()), who.token != "" && s.HasFirst(who.account)
		s.Unlock()
		switch {
		case !open:
			s.end(who.token)
			Say(w, http.StatusUnauthorized, "Your account is closed, and you are signed out.")
		case first && r.URL.Path != "/password" && r.URL.Path != "/sign-out":
			Say(w, http.StatusForbidden, "Choose your own password first.")
		default:
			do(w, r, who)
		}
	}
}

// errNotIn says that a request comes from nobody.
var errNotIn = errors.New("sign in first")

func (s *Site[S]) identify(r *http.Request) (by, error) {
	token, given := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !given {
		if s.Identify == nil {
			return by{}, errNotIn
		}
		account, role, err := s.Identify(r)
		return by{account: account, role: role}, err
	}
	now := s.Now()
	s.mu.Lock()
	one := s.sessions[token]
	if one == nil {
		s.mu.Unlock()
		return by{}, errNotIn
	}
	is := *one
	one.seen = now
	s.mu.Unlock()
	s.Lock()
	limits, open := s.Settings.Limits(is.account, is.role), s.Settings.Open(is.account, now)
	s.Unlock()
	if err := limits.Over(is.began, is.seen, now, s.Idle); err != nil && open {
		s.end(token)
		return by{}, err
	}
	return by{is.account, is.role, token}, nil
}

func (s *Site[S]) end(token string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.sessions, token)
}

func (s *Site[S]) signOut(w http.ResponseWriter, _ *http.Request, who by) {
	s.end(who.token)
	Say(w, http.StatusOK, "You are signed out.")
}

func (s *Site[S]) password(w http.ResponseWriter, r *http.Request, who by) {
	var body struct {
		New string `json:"new"`
	}
	if !ReadBody(w, r, mostLine, &body) {
		return
	}
	wrong, err := s.Choose(who.account, body.New)
	switch {
	case err != nil:
		failed(w, err)
	case wrong != "":
		Say(w, http.StatusBadRequest, wrong)
	default:
		s.end(who.token)
		Say(w, http.StatusOK, "Your password was changed: sign in with it.")
	}
}

func failed(w http.ResponseWriter, err error) {
	Say(w, http.StatusInternalServerError, "The stand-in failed, and nothing was done: "+err.Error())
}

func (s *Site[S]) do(w http.ResponseWriter, r *http.Request, who by) {
	var body struct {
		Line string `json:"line"`
		Try  bool   `json:"try"` // tell whether it would be done, and do nothing
	}
	if !ReadBody(w, r, mostLine, &body) {
		return
	}
	s.Lock()
	said, done, err := s.Obey(s.Asker(who.account, who.role), body.Line, body.Try, s.Special)
	s.Unlock()
	switch {
	case err != nil:
		failed(w, err)
	case !done:
		Say(w, http.StatusForbidden, said...)
	default:
		Say(w, http.StatusOK, said...)
	}
}

func (s *Site[S]) whoami(w http.ResponseWriter, _ *http.Request, who by) {
	said := []string{"You are " + who.account + "."}
	if who.role != "" {
		said = append(said, "You have the role "+who.role+".")
	}
	if s.About != nil {
		s.Lock()
		said = append(said, s.About(who.account)...)
		s.Unlock()
	}
	Say(w, http.StatusOK, said...)
}

func (s *Site[S]) places(w http.ResponseWriter, _ *http.Request, who by) {
	s.Lock()
	said := s.Seen(s.Asker(who.account, who.role))
	s.Unlock()
	Say(w, http.StatusOK, said...)
}

func (s *Site[S]) help(w http.ResponseWriter, _ *http.Request, who by) {
	s.Lock()
	said := s.Help(s.Asker(who.account, who.role))
	s.Unlock()
	if len(said) == 0 {
		said = []string{"You may do nothing here."}
	}
	Say(w, http.StatusOK, said...)
}

// managing lets through who manages accounts, and holds the lock while it does what they want.
func (s *Site[S]) managing(do func(who by, body []byte) (status int, value any)) func(http.ResponseWriter,
	*http.Request, by) {
	return func(w http.ResponseWriter, r *http.Request, who by) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostBody))
		if err != nil {
			Say(w, http.StatusBadRequest, "What you sent cannot be read: "+err.Error()+".")
			return
		}
		s.Lock()
		status, value := http.StatusForbidden, any(said("You may not: at "+standin.Root+" it needs "+standin.Managing+"."))
		if s.Settings.May(who.account, who.role, standin.Managing, standin.Root, s.Now()) {
			status, value = do(who, body)
		}
		text, err := json.Marshal(value) // before anything else changes what it shows
		s.Unlock()
		if err != nil {
			failed(w, err)
			return
		}
		answer(w, status, json.RawMessage(text))
	}
}

// Managing does what somebody sends who manages accounts, and holds the lock while it does.
func (s *Site[S]) Managing(w http.ResponseWriter, r *http.Request, do func(by string, body []byte) (int, Reply)) {
	s.known(s.managing(func(who by, body []byte) (int, any) {
		status, reply := do(who.account, body)
		return status, reply
	}))(w, r)
}

func said(line string) Reply { return Reply{Said: []string{line}} }

func (s *Site[S]) readSettings(by, []byte) (int, any) { return http.StatusOK, s.View() }

func (s *Site[S]) replaceSettings(who by, body []byte) (int, any) {
	wrong, err := s.Replace(who.account, body)
	switch {
	case err != nil:
		return http.StatusInternalServerError, said("The stand-in failed, and nothing was done: " + err.Error())
	case wrong == standin.Changed:
		return http.StatusConflict, said(wrong)
	case wrong != "":
		return http.StatusBadRequest, said(wrong)
	}
	return http.StatusOK, Reply{Done: true, Said: []string{"Done."}}
}

func (s *Site[S]) rehearse(_ by, body []byte) (int, any) {
	var r standin.Rehearsal
	if err := standin.Strictly(body, &r); err != nil {
		return http.StatusBadRequest, said("What you sent cannot be read: " + err.Error() + ".")
	}
	return http.StatusOK, Rehearsed{s.Rehearse(s.Asker(r.Account, ""), r.Lines)}
}

// Rehearsed is the answer to a rehearsal.
type Rehearsed struct {
	Could string `json:"could"`
}
