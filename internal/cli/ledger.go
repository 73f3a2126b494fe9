package cli

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/journal"
	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
)

// Variables that say where the ledger is, and the password for it.
const (
	ledgerVariable = "HGATE_LEDGER"
	ledgerPassword = "HGATE_LEDGER_PASSWORD"
)

// ledgerOf tells where the ledger of a workspace is.
func ledgerOf(dir string) (policyfile.LedgerPlace, error) {
	op, err := operator(dir)
	if err != nil {
		return policyfile.LedgerPlace{}, err
	}
	place := op.Ledger
	if name := os.Getenv(ledgerVariable); name != "" {
		place = policyfile.LedgerPlace{At: name}
		if _, ok := os.LookupEnv(ledgerPassword); ok {
			place.Secret.Env = ledgerPassword
		}
	}
	if store.IsPostgres(place.At) {
		return place, nil
	}
	place.At, err = ledgerFile(dir, place.At)
	return place, err
}

// ledgerFile tells which file the ledger of a workspace is; name is what is said of it, or "".
func ledgerFile(dir, name string) (string, error) {
	if name == "" {
		state, err := journal.StateOf(dir, "ledgers")
		if err != nil {
			return "", err
		}
		name = state + ".db"
	}
	if !filepath.IsAbs(name) {
		return "", fmt.Errorf("the place of the ledger is %q: write an absolute path, or postgres://…", name)
	}
	if inside, err := within(dir, name); err != nil || inside {
		if err == nil {
			err = fmt.Errorf("the ledger %s lies in the workspace, from which none is taken", name)
		}
		return "", err
	}
	return name, nil
}

// within says whether a file would lie in a folder, links aside.
func within(dir, name string) (bool, error) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return false, err
	}
	for at := name; ; at = filepath.Dir(at) { // the nearest folder that is there
		if path, err := filepath.EvalSymlinks(at); err == nil {
			rel, err := filepath.Rel(real, path)
			return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)), nil
		}
		if at == filepath.Dir(at) {
			return false, nil
		}
	}
}

// ledger opens the ledger of a workspace; nil if there is none and it is not to be made. Whoever opens it closes it.
func (a *app) ledger(dir string, make bool) (*store.Store, error) {
	place, err := ledgerOf(dir)
	if err != nil {
		return nil, settled(err)
	}
	if store.IsPostgres(place.At) {
		secret, err := reveal(place.Secret)
		if err != nil {
			return nil, outside{err}
		}
		s, err := store.OpenPostgres(a.ctx, place.At, secret)
		if err != nil {
			return nil, outside{err}
		}
		return s, nil
	}
	s, err := store.OpenFile(a.ctx, place.At, make)
	if errors.Is(err, fs.ErrNotExist) && !make {
		return nil, nil
	}
	if err != nil {
		return nil, outside{err}
	}
	return s, nil
}

// settled gives an error about the user's settings: what is wrong in the file itself is told with its line.
func settled(err error) error {
	var list diagnostic.List
	if errors.As(err, &list) {
		return err
	}
	return outside{err}
}

// begun sees that a ledger has its id and its first event, which says how the policy's files are, and gives the id.
func (a *app) begun(s *store.Store, dir string, p *estate.Estate) (id string, err error) {
	err = s.View(a.ctx, func(r *store.Reader) error {
		id, err = r.ID()
		return err
	})
	if err != nil || id != "" {
		return id, err
	}
	files, err := sumsIn(dir, p)
	if err != nil {
		return "", err
	}
	err = s.Update(a.ctx, func(w *store.Writer) error {
		if id, err = w.ID(); err != nil || id != "" {
			return err
		}
		id = rand.Text()
		if err := w.Begin(id); err != nil {
			return err
		}
		e, err := a.event(id, "", ledger.Began, ledger.BeganBody{Workspace: dir, Files: changesOf(nil, files)})
		if err == nil {
			_, err = w.Append(e)
		}
		return err
	})
	return id, err
}

// event makes an event as the command at hand makes it; who acts is a subject, or "".
func (a *app) event(id, who string, kind ledger.Kind, body any) (ledger.Event, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return ledger.Event{}, err
	}
	host := a.Host
	if host == "" {
		host, _ = os.Hostname() // where it has no name, the event names none
	}
	return ledger.Event{
		Statement: ledger.Statement{Ledger: id, Time: ledger.Time(a.present()), Actor: who, Kind: kind, Body: text},
		User:      a.osUser(), Host: host, Command: a.command,
	}, nil
}

// book is a ledger with the policy by which its events are read.
type book struct {
	lending.Book
	store *store.Store
	id    string
}

// openBook opens the ledger of a workspace with its policy, and makes it where there is none.
func (a *app) openBook(g *gate.Gate) (*book, error) {
	dir, err := a.folder()
	if err != nil {
		return nil, err
	}
	s, err := a.ledger(dir, true)
	if err != nil {
		return nil, err
	}
	id, err := a.begun(s, dir, g.Estate())
	if err != nil {
		s.Close()
		return nil, outside{err}
	}
	b := &book{lending.Book{Gate: g, Signing: a.signing(g)}, s, id}
	if err := s.View(a.ctx, b.know); err != nil {
		s.Close()
		return nil, outside{err}
	}
	return b, nil
}

// inTheNameOf opens the ledger with its policy for somebody who acts, and lets do go on.
func (a *app) inTheNameOf(by *acting, do func(b *book, who actor) error) error {
	g, err := a.compiled()
	if err != nil {
		return err
	}
	who, err := by.whoActs(a, g.Estate())
	if err != nil {
		return err
	}
	b, err := a.openBook(g)
	if err != nil {
		return err
	}
	defer b.store.Close()
	if dir, err := a.folder(); err != nil {
		return err
	} else if err := a.noted(b.store, dir, g.Estate()); err != nil {
		return outside{err}
	}
	return do(b, who)
}

// know finds out for which ledgers statements count: for this one, and those that were taken over by whoever may.
func (b *book) know(r *store.Reader) error {
	id, err := r.ID()
	if err != nil {
		return err
	}
	b.id, b.Ledgers = id, map[string]bool{id: true}
	imports, err := r.Imports()
	for _, e := range imports {
		var body ledger.ImportedBody
		if json.Unmarshal(e.Body, &body) == nil && b.Counts(e) == nil && b.MayImport(e) {
			b.Ledgers[body.Ledger] = true
		}
	}
	return err
}

// requests reads the requests that may matter from an instant on: of some kinds, or of all where none is named.
func (b *book) requests(r *store.Reader, from clock.Instant, kinds ...ledger.Kind) (out []*lending.Request,
	err error) {
	b.About = r.About
	numbers, err := r.Mattering(from, kinds...)
	if err != nil {
		return nil, err
	}
	for _, n := range numbers {
		events, err := r.About(n)
		if err != nil {
			return nil, err
		}
		if one := b.Read(events); one != nil {
			out = append(out, one)
		}
	}
	return out, nil
}

// request reads the request of a number; nil if there is none.
func (b *book) request(r *store.Reader, number int64) (*lending.Request, error) {
	b.About = r.About
	events, err := r.About(number)
	if err != nil {
		return nil, err
	}
	return b.Read(events), nil
}

// loans reads what is lent at --at, or from now on where that is open; none where nothing can be lent, or nothing ever
// was. A ledger that cannot be read is told, and then nothing is.
func (a *app) loans(g *gate.Gate, at clock.Instant) []*lending.Request {
	if !lends(g.Estate()) {
		return nil
	}
	return a.toldOr(a.readLoans(g, at, ledger.Requested))
}

// askedFor is loans, and what was asked for of credentials.
func (a *app) askedFor(g *gate.Gate, at clock.Instant) []*lending.Request {
	if len(g.Estate().Profiles) == 0 {
		return a.loans(g, at)
	}
	return a.toldOr(a.readLoans(g, at))
}

// toldOr gives what was read of the ledger, or tells that it cannot be read.
func (a *app) toldOr(out []*lending.Request, err error) []*lending.Request {
	if err != nil {
		a.page(a.Err).Line("hgate: the ledger cannot be read, so no loan counts here: %s", err)
		return nil
	}
	return out
}

// readLoans reads the requests of some kinds that may matter from an instant on; none where there is no ledger.
func (a *app) readLoans(g *gate.Gate, from clock.Instant, kinds ...ledger.Kind) (out []*lending.Request, err error) {
	err = a.reading(g, func(b *book, r *store.Reader) error {
		out, err = b.requests(r, from, kinds...)
		return err
	})
	return out, err
}

// reading lets do read the ledger with its policy, if there is one.
func (a *app) reading(g *gate.Gate, do func(b *book, r *store.Reader) error) error {
	dir, err := a.folder()
	if err != nil {
		return err
	}
	s, err := a.ledger(dir, false)
	if s == nil || err != nil {
		return err
	}
	defer s.Close()
	return s.View(context.WithoutCancel(a.ctx), func(r *store.Reader) error {
		b := &book{Book: lending.Book{Gate: g, Signing: a.signing(g)}, store: s}
		if err := b.know(r); err != nil {
			return err
		}
		return do(b, r)
	})
}

// lends says whether anything can be lent.
func lends(e *estate.Estate) bool {
	for _, g := range e.Grants {
		if g.OnRequest != nil {
			return true
		}
	}
	return false
}
