package web

import (
	_ "embed"
	"html"
	"io"
	"net/http"
	"strings"

	"hiddengate/internal/standin"
)

// What a browser is shown: a page on which people sign in and write lines.
var (
	//go:embed page.html
	page string
	//go:embed page.css
	pageStyle string
	//go:embed page.js
	pageScript string
)

// front says what the stand-in is, to browsers as a page on which people can sign in.
func (s *Site[S]) front(w http.ResponseWriter, r *http.Request) {
	// Nothing but the page's own files is loaded, and no other page can show this one (Content Security Policy Level 3).
	w.Header().
		Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; "+
			"form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
	if strings.Contains(r.Header.Get("Accept"), "text/html") {
		text := strings.NewReplacer("NAME", html.EscapeString(s.Name), "SAID", html.EscapeString(standin.Said)).Replace(page)
		serve(w, "text/html", text)
		return
	}
	serve(w, "text/plain", standin.Said+" This is a "+s.Name+`.

POST /sign-in   {"account": …, "password": …}; the answer has a token
GET  /help      what you may do, with "Authorization: Bearer TOKEN"
POST /do        {"line": …}
`)
}

func file(kind, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { serve(w, kind, text) }
}

func serve(w http.ResponseWriter, kind, text string) {
	w.Header().Set("Content-Type", kind+"; charset=utf-8")
	_, _ = io.WriteString(w, text) // whoever has gone away learns nothing
}
