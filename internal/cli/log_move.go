package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"hiddengate/internal/ledger"
	"hiddengate/internal/ledger/store"
)

func (a *app) logPrepareCommand() *cobra.Command {
	var role string
	c := &cobra.Command{
		Use: "prepare", Short: "Make the tables of a ledger in PostgreSQL",
		Long: `Makes the tables of the ledger in the database that your settings or HGATE_LEDGER name, as its owner.
With --role, that role of the database may read and append, and neither change nor take anything out:
commands should sign in as it.`,
		Example: "  HGATE_LEDGER=postgres://owner@db.ternhollow.example/gate hgate log prepare --role gate",
		Args:    takes(0, 0),
	}
	c.Flags().StringVar(&role, "role", "", "the `role` of the database that commands sign in as")
	c.RunE = func(*cobra.Command, []string) error {
		dir, err := a.folder()
		if err != nil {
			return err
		}
		place, err := ledgerOf(dir)
		if err != nil {
			return settled(err)
		}
		if !store.IsPostgres(place.At) {
			return fmt.Errorf("the ledger is the file %s, which needs no preparing", place.At)
		}
		secret, err := reveal(place.Secret)
		if err == nil {
			err = store.PreparePostgres(a.ctx, place.At, secret, role)
		}
		if err != nil {
			return outside{err}
		}
		a.page(a.Out).Line("The tables are there.")
		return nil
	}
	return c
}

func (a *app) logExportCommand() *cobra.Command {
	return &cobra.Command{
		Use: "export FILE", Short: "Write all events into a file, - for standard output",
		Long: `Writes all events, one a line, as they are kept. 'log import' takes them over into another ledger,
such as from a laptop's to a server's.`,
		Example: "  hgate log export events.ndjson",
		Args:    takes(1, 1), ValidArgsFunction: firstFile,
		RunE: func(_ *cobra.Command, args []string) (err error) {
			out := a.Out
			var file *newFile
			if args[0] != "-" {
				if file, err = createFile(args[0]); err != nil {
					return err
				}
				defer file.drop()
				out = file
			}
			w := bufio.NewWriter(out)
			if err := a.inLedger(func(r *store.Reader) error {
				var wrote error
				err := r.Events(store.Filter{}, func(number int64, e ledger.Event, wrong error) bool {
					var text []byte
					if wrote = wrong; wrote == nil {
						text, wrote = e.Encode()
					}
					if wrote == nil {
						_, wrote = fmt.Fprintf(w, "%s\n", text)
					} else {
						wrote = fmt.Errorf("event %d: %w", number, wrote)
					}
					return wrote == nil
				})
				return errors.Join(err, wrote)
			}); err != nil {
				return err
			}
			if err := w.Flush(); err != nil {
				return outside{err}
			}
			if file != nil {
				return file.keep()
			}
			return nil
		},
	}
}

func (a *app) logImportCommand() *cobra.Command {
	var by acting
	c := &cobra.Command{
		Use: "import FILE", Short: "Take over the events of another ledger, as export writes them",
		Long: `Puts the events of another ledger behind the newest one, after seeing that they hold together. They
keep who made them, when, and their signatures. What was taken over before is left out. The owner of
the workspace does it.`,
		Example: "  hgate log import events.ndjson --by hana.kobari",
		Args:    takes(1, 1), ValidArgsFunction: firstFile,
	}
	by.flags(a, c)
	c.RunE = func(_ *cobra.Command, args []string) error {
		in, err := a.open(args[0])
		if err != nil {
			return outside{err}
		}
		defer in.Close()
		other, err := readEvents(in, args[0])
		if err != nil {
			return err
		}
		return a.inTheNameOf(&by, func(b *book, who actor) error { return a.logImport(b, &by, who, other) })
	}
	return c
}

// maxEvent bounds how long an event of a file is, in bytes.
const maxEvent = 16 << 20

// readEvents reads the events of a file, and sees that they hold together.
func readEvents(in io.Reader, name string) (out []ledger.Event, err error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, maxEvent)
	var chain ledger.Chain
	for lines.Scan() {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		e, err := ledger.Decode(bytes.Clone(lines.Bytes()))
		if err == nil {
			err = chain.Next(e.Number, e)
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d:1: %w; `hgate log export` writes such a file", name, len(out)+1, err)
		}
		out = append(out, e)
	}
	if err := lines.Err(); err != nil {
		return nil, outside{fmt.Errorf("%s: %w", name, err)}
	}
	if len(out) == 0 || out[0].Kind != ledger.Began {
		return nil, fmt.Errorf("%s:1:1: it holds no ledger from its beginning on", name)
	}
	return out, nil
}

func (a *app) logImport(b *book, by *acting, who actor, other []ledger.Event) error {
	body := ledger.ImportedBody{Ledger: other[0].Ledger, Events: int64(len(other)),
		Head: ledger.Head{Number: int64(len(other)), Hash: other[len(other)-1].Hash}.String()}
	if body.Ledger == b.id {
		return fmt.Errorf("these are the events of this ledger itself")
	}
	e, err := a.event(b.id, who.text(), ledger.Imported, body)
	if err != nil {
		return err
	}
	if !b.MayImport(e) {
		return fmt.Errorf("%s is not the workspace's owner, who alone takes over another ledger", who.who)
	}
	if e.Signature, err = by.sign(a, b.Gate.Estate(), who, e.Statement); err != nil {
		return err
	}
	taken := 0
	err = b.store.Update(a.ctx, func(w *store.Writer) (err error) {
		taken, err = w.TakeOver(e, other)
		return err
	})
	var wrong *store.ImportError
	if errors.As(err, &wrong) {
		return wrong
	}
	if err != nil {
		return outside{err}
	}
	p := a.page(a.Out)
	if taken == 0 {
		p.Line("All of these events were taken over before.")
		return nil
	}
	p.Line("Took over %s.", count(taken, "event"))
	return nil
}
