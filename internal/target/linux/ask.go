package linux

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"

	"hiddengate/internal/target"
)

// atOnce is how many questions go into a script.
const atOnce = 2000

// Ask puts questions as their accounts. What opens a file for reading is tried, and what runs a command that does
// nothing; of all else the system's own functions are asked: access(2) and `sudo -l`. Whether somebody can sign in is
// told by what was read of their account.
func (s *system) Ask(ctx context.Context, was target.Snapshot, questions iter.Seq[target.Question],
	tell func(target.Answer) bool) error {
	snap := was.(*snapshot)
	var some []target.Question
	for q := range questions {
		if some = append(some, q); len(some) == atOnce {
			if goOn, err := s.ask(ctx, snap, some, tell); err != nil || !goOn {
				return err
			}
			some = some[:0]
		}
	}
	_, err := s.ask(ctx, snap, some, tell)
	return err
}

func (s *system) ask(ctx context.Context, snap *snapshot, questions []target.Question,
	tell func(target.Answer) bool) (goOn bool, err error) {
	if len(questions) == 0 {
		return true, nil
	}
	answers := make([]target.Answer, len(questions))
	var script, one strings.Builder
	script.WriteString(steps)
	script.WriteString("set +e\ncd /\n")
	account := ""
	flush := func() {
		if one.Len() > 0 {
			fmt.Fprintf(&script, "runuser -u %s -- /bin/sh -c %s 2>/dev/null\n", account, quote(one.String()))
			one.Reset()
		}
	}
	waiting := map[int]bool{}
	unlimited := map[string]bool{} // accounts that may run every command as root
	var accounts []string
	for i, q := range questions {
		answers[i].Question = q
		if q.Holder.Account != account {
			flush()
			account = q.Holder.Account
			if acc := snap.accounts[account]; acc != nil && !snap.over(acc) {
				accounts = append(accounts, account)
				fmt.Fprintf(&one, "sudo -n true && echo %d y\n", -len(accounts))
			}
		} else if one.Len() > 64<<10 {
			flush()
		}
		if acc := snap.accounts[account]; acc == nil || snap.over(acc) {
			continue // whoever it is does not get in
		} else if q.Operation == "host.sign-in" || q.Operation == "host.copy" {
			answers[i].Allowed = snap.signsIn(acc)
			continue
		} else if q.Operation == "log.view" || q.Operation == "log.export" {
			answers[i].Allowed = snap.memberOf(acc, logGroup)
			continue
		}
		text, tried := snap.try(q)
		answers[i].Tried = tried
		waiting[i] = true
		fmt.Fprintf(&one, "if %s; then echo %d y; else echo %d n; fi\n", text, i, i)
	}
	flush()
	out, err := s.shell.run(ctx, script.String()+"true")
	if err != nil {
		return false, err
	}
	for line := range strings.Lines(string(out)) {
		var i int
		var said string
		_, err := fmt.Sscanf(line, "%d %1s", &i, &said)
		if err == nil && i < 0 && -i <= len(accounts) {
			unlimited[accounts[-i-1]] = true
			continue
		}
		if err != nil || !waiting[i] {
			return false, errOdd
		}
		delete(waiting, i)
		answers[i].Allowed = said == "y"
	}
	if len(waiting) > 0 {
		return false, errors.New("it did not answer each question")
	}
	for _, a := range answers {
		root := unlimited[a.Holder.Account] // who can also give itself a shell
		if a.Allowed = a.Allowed || root; !a.Agrees() {
			a.Why = snap.why(a, root)
		}
		if !tell(a) {
			return false, nil
		}
	}
	return true, nil
}

// try gives the command by which a question is tried as its account, and says whether that is for real.
func (s *snapshot) try(q target.Question) (text string, tried bool) {
	listed := func(commands []string) string {
		var out []string
		for _, c := range commands {
			out = append(out, "sudo -n -l "+c+" >/dev/null")
		}
		return strings.Join(out, " && ")
	}
	native := func(n int) []string {
		_, commands := s.commandsOf(n, q.Place)
		return commands
	}
	asItsAccount := "sudo -n -u " + s.programs[q.Place] + " true"
	f := s.files[q.Place]
	file := ""
	if f != nil {
		file = quote(f.path)
	}
	switch q.Operation {
	case "command.as-superuser":
		return "sudo -n true", true
	case "host.restart":
		return listed(native(restarting)), false
	case "host.stop":
		return listed(native(stopping)), false
	case "service.restart":
		return listed(native(restartingService)), false
	case "service.stop":
		return listed(native(stoppingService)), false
	case "job.run":
		return listed(native(runningJob)), false
	case "command.as-service", "application.manage":
		return asItsAccount, true
	case "application.open":
		switch lacks := s.state.Places[q.Place].Lacks; {
		case lacks&(1<<asService) != 0:
			return "[ -x " + file + " ]", false
		case lacks&(1<<opening) != 0:
			return asItsAccount, true
		}
		return "[ -x " + file + " ] || " + asItsAccount, false
	case "file.write", "file.remove":
		if f.folder {
			return "[ -w " + file + " ] && [ -x " + file + " ]", false
		}
		return "[ -w " + file + " ]", false
	}
	if f.folder {
		return "[ -x " + file + " ] && ( : <" + file + " )", true
	}
	return "( : <" + file + " )", true
}
