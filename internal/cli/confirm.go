package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"hiddengate/internal/change"
	"hiddengate/internal/draft"
	"hiddengate/internal/view"
)

// confirm asks before an edit is written, if there is a reason.
func (a *app) confirm(c editing, r change.Reasons) error {
	if !r.Any() || c.yes {
		return nil
	}
	in, isFile := a.In.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) {
		return &draft.Error{Message: "this edit " + view.And(reasonsText(a.page(a.Err), r)) + ", so nothing was written",
			Help: "look at it with --dry-run, and write it with --yes"}
	}
	p := a.page(a.Err)
	fmt.Fprintf(p, "This edit %s. Write it? [y/N] ", view.And(reasonsText(p, r)))
	line, err := a.answer()
	if err != nil {
		return err
	}
	if word := strings.ToLower(strings.TrimSpace(line)); word != "y" && word != "yes" {
		if a.format == "text" {
			a.page(a.Out).Line("Nothing was written.")
		}
		return answered(exitNo)
	}
	return nil
}

// reasonsText says what an edit does that somebody is asked about.
func reasonsText(p *view.Page, r change.Reasons) (out []string) {
	if len(r.Hands) > 0 {
		out = append(out, "hands out "+p.Grave(r.Hands))
	}
	for _, what := range []string{"test", "guarantee"} {
		var ids []string
		for _, t := range r.Red {
			if t.What == what {
				ids = append(ids, t.ID)
			}
		}
		if len(ids) > 0 {
			out = append(out, "makes the "+plural(len(ids), what)+" "+view.And(ids)+" fail")
		}
	}
	if len(r.Protected) > 0 {
		out = append(out, "takes access from the protected "+view.And(texts(r.Protected)))
	}
	if len(r.Findings) > 0 {
		out = append(out, "brings "+count(len(r.Findings), "finding")+" ("+codesOf(r.Findings)+")")
	}
	if r.Zone {
		out = append(out, "moves every local time to another time zone")
	}
	if len(r.Decided) > 0 {
		out = append(out, "opens addresses of "+view.And(r.Decided)+" that no inventory lists")
	}
	if len(r.Refused) > 0 {
		out = append(out, "closes addresses of "+view.And(r.Refused)+" that no inventory lists")
	}
	return out
}

// answer reads a line from the terminal.
func (a *app) answer() (string, error) {
	line := make(chan string, 1)
	go func() {
		text, _ := bufio.NewReader(a.In).ReadString('\n')
		line <- text
	}()
	select {
	case text := <-line:
		return text, nil
	case <-a.ctx.Done():
		return "", a.ctx.Err()
	}
}
