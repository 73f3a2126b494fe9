package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"hiddengate/internal/evaluation"
	"hiddengate/internal/gate"
)

// maxBatchLine is how many bytes a request may have.
const maxBatchLine = 1 << 20

// tryBatch answers requests line by line, in order, without keeping any. It goes on past a line that is wrong.
func (a *app) tryBatch(g *gate.Gate, name string, why bool) error {
	if a.format != "text" {
		return fmt.Errorf("--batch writes NDJSON; leave --format out")
	}
	now, open, err := a.instant(g.Estate().Zone)
	if err != nil {
		return err
	}
	in, err := a.open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	longRun()
	b := evaluation.New(g, evaluation.Options{Now: now, Open: open, Why: why})
	r, w := bufio.NewReaderSize(in, 64<<10), bufio.NewWriterSize(a.Out, 64<<10)
	failed, blank := false, 0
	var answer []byte
	for {
		line, err := readLine(r)
		if len(line) > 0 && len(bytes.TrimSpace(line)) == 0 {
			blank++
		}
		if len(bytes.TrimSpace(line)) > 0 || errors.Is(err, errLong) {
			var wrong bool
			answer, wrong = b.Append(answer[:0], line, err)
			failed = failed || wrong
			if _, err := w.Write(answer); err != nil {
				return outside{err}
			}
			if r.Buffered() == 0 { // whoever waits for this answer gets it before sending more
				if err := w.Flush(); err != nil {
					return outside{err}
				}
			}
		}
		if err != nil && !errors.Is(err, errLong) {
			if err != io.EOF {
				return outside{err}
			}
			break
		}
	}
	if err := w.Flush(); err != nil {
		return outside{err}
	}
	if blank > 0 {
		a.page(a.Err).Line("hgate: %s without an answer", count(blank, "blank line"))
	}
	if failed {
		return answered(exitWrong)
	}
	return nil
}

var errLong = fmt.Errorf("the line has more than %d bytes", maxBatchLine)

// readLine reads a line of at most maxBatchLine bytes; a longer one is skipped and is errLong.
func readLine(r *bufio.Reader) ([]byte, error) {
	line, err := r.ReadSlice('\n')
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, err
	}
	long := bytes.Clone(line)
	for errors.Is(err, bufio.ErrBufferFull) {
		line, err = r.ReadSlice('\n')
		if len(long) <= maxBatchLine {
			long = append(long, line...)
		}
	}
	if len(long) > maxBatchLine && err == nil {
		err = errLong
	}
	return long, err
}
