package cli

import (
	"bytes"
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A command that waits, or works for long, ends soon after the context does, and says so.
func TestACommandEndsWithItsContext(t *testing.T) {
	dir, _ := demo(t)
	ctx, cancel := context.WithCancel(context.Background())
	in, never := io.Pipe()
	defer never.Close()
	time.AfterFunc(50*time.Millisecond, cancel)
	var out, said bytes.Buffer
	code := make(chan int, 1)
	go func() {
		code <- Run(ctx, []string{"-C", dir, "try", "--batch", "-"}, Streams{In: in, Out: &out, Err: &said}, at)
	}()
	select {
	case c := <-code:
		assert.Equal(t, exitOutside, c)
		assert.Contains(t, said.String(), "interrupted")
	case <-time.After(20 * time.Second):
		t.Fatal("the command goes on")
	}
}

// bursting faults when it is read.
type bursting struct{}

func (bursting) Read([]byte) (int, error) { panic("the pipe burst") }

// A fault tells what it is, and where it was to those who ask.
func TestAFaultTellsWhereItWasToThoseWhoAsk(t *testing.T) {
	dir, _ := demo(t)
	for debug, told := range map[string]bool{"": false, "1": true} {
		t.Setenv("HGATE_DEBUG", debug)
		var out, said bytes.Buffer
		code := Run(t.Context(), []string{"-C", dir, "try", "--batch", "-"}, Streams{In: bursting{}, Out: &out, Err: &said},
			at)
		assert.Equal(t, exitOutside, code)
		assert.Contains(t, said.String(), "this is a fault of the program, not of your files: the pipe burst")
		assert.Equal(t, told, bytes.Contains(said.Bytes(), []byte("bursting.Read")), said.String())
	}
}
