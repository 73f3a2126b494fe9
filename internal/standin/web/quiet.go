package web

import (
	"io"
	"log"
)

// quiet takes what the HTTP server says of clients that break off.
var quiet = log.New(io.Discard, "", 0)
