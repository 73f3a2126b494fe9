package cli

import (
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/term"
)

// progress says on standard error what long work is going on, once it takes over a second, if that is a terminal.
// What it gives back ends the message and takes it off the screen; it may be called again.
func (a *app) progress(what string) (done func()) {
	f, isFile := a.Err.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		began := time.Now()
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		shown := false
		for {
			select {
			case <-tick.C:
				fmt.Fprintf(f, "\r%s… %ds", what, int(time.Since(began).Seconds()))
				shown = true
			case <-stop:
				if shown {
					fmt.Fprint(f, "\r\x1b[K")
				}
				return
			}
		}
	}()
	var once sync.Once
	return func() {
		once.Do(func() { close(stop) })
		<-stopped
	}
}
