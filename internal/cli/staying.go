package cli

import "time"

// stayPace is how often a command that stays looks for something to do.
const stayPace = 2 * time.Second

// staying does something again and again until the command is interrupted. What hinders it at first ends it; what comes
// later, as a policy that is being edited or a database that is away, is told once, and it goes on.
func (a *app) staying(do func() error) error {
	said := ""
	for first := true; ; first = false {
		err := do()
		switch {
		case a.ctx.Err() != nil:
			return nil
		case first && err != nil:
			return err
		case err == nil:
			said = ""
		case err.Error() != said:
			a.told(err)
			said = err.Error()
		}
		select {
		case <-a.ctx.Done():
			return nil
		case <-time.After(stayPace):
		}
	}
}
