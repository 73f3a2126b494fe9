package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
)

func (a *app) tryCommand() *cobra.Command {
	var batch, certificate string
	var why bool
	var lent []string
	var fix bool
	c := &cobra.Command{
		Use:   "try [SUBJECT] OPERATION RESOURCE",
		Short: "Try a request as the person would make it",
		Long: `Answers ALLOWED, DENIED or DEPENDS, and says why: the grants and blocks that made it so,
with their files and lines, or the nearest ways in. Facts that a request does not state are never
assumed in its favour: the answer may then be DEPENDS, and says on what it depends.

--fix proposes edits that would allow the request, or stop it if it is allowed. Each has been tried,
and is shown with what else it changes and which tests, guarantees and findings it turns.

With --certificate it decides for whoever holds a certificate that an authority of the policy signed.
What the certificate says is not believed: it has to stand in the log, be in date, and not be revoked.

With --batch it reads one request a line (NDJSON, OpenID AuthZEN 1.0 access evaluation)
and answers one a line.`,
		Example: `  hgate try pia.lindqvist table.read obsdb:sky/frames-0411 --mfa yes
  hgate try service:nightly-reduce run.start-batch reduce:nightly --at 2027-12-01T03:00
  hgate try anonymous content.view proposals
  hgate try pia.lindqvist table.read obsdb:sky/frames-0388 --mfa yes --fix
  hgate try --batch requests.ndjson --why`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case batch != "" && len(args) > 0:
				return fmt.Errorf("--batch reads its requests from a file; leave %q out", strings.Join(args, " "))
			case certificate != "" && (batch != "" || len(args) != 2):
				return fmt.Errorf("with --certificate, try takes an operation and a resource: whoever holds it asks")
			case batch == "" && certificate == "" && len(args) != 3:
				return fmt.Errorf("try takes a subject, an operation and a resource, as in: hgate try ines.okafor table.read " +
					"obsdb:sky")
			}
			return nil
		},
		ValidArgsFunction: a.completeRequest,
	}
	flags := a.circumstances(c)
	a.lentFlag(c)
	c.Flags().StringVar(&batch, "batch", "", "read requests from a `file`, - for standard input")
	c.Flags().StringVar(&certificate, "certificate", "", "the `file` with a certificate: decide for whoever holds it")
	c.Flags().BoolVar(&why, "why", false, "with --batch: name the grants and blocks")
	c.Flags().BoolVar(&fix, "fix", false, "propose edits that would allow it, or stop it")
	c.Flags().StringArrayVar(&lent, "lent", nil, "as if this on-request `grant` were lent to the subject; may be repeated")
	_ = c.RegisterFlagCompletionFunc("lent", a.completeSection("grants"))
	c.RunE = func(cmd *cobra.Command, args []string) error {
		g, err := a.compiledLent()
		if err != nil {
			return err
		}
		if batch != "" {
			if len(lent) > 0 {
				return fmt.Errorf("--lent lends to one subject; leave it out beside --batch")
			}
			if fix {
				return fmt.Errorf("--fix is about one request; leave it out beside --batch")
			}
			if name := flags.given(cmd); name != "" {
				return fmt.Errorf("--%s is about one request; with --batch each line says it: leave it out", name)
			}
			return a.tryBatch(g, batch, why)
		}
		if why {
			return fmt.Errorf("--why goes with --batch; one request is always explained")
		}
		ctx, said, err := flags.build(a, cmd, g)
		if err != nil {
			return err
		}
		if certificate != "" {
			args = append([]string{""}, args...)
		}
		address, err := estate.ParseAddress(args[2])
		if err != nil {
			return err
		}
		req := gate.Request{Operation: args[1], Context: ctx, Resource: address.String()}
		if certificate == "" {
			req.Subject, err = subject(g, args[0])
		} else {
			at, timed := ctx.Moment()
			if !timed {
				at = a.present()
			}
			is, err := a.holderOf(g, certificate, at)
			if err != nil {
				return err
			}
			if is.bars != "" {
				return a.refuse(is, req)
			}
			req.Subject = is.holder
			if len(g.Estate().Certifying()) > 0 { // none of their others counts
				a.shown = is.number
				if g, err = a.compiledLent(); err != nil {
					return err
				}
				if ctx, said, err = flags.build(a, cmd, g); err != nil {
					return err
				}
				req.Context = ctx
			}
			if err := signedInBy(cmd, ctx, &said, is); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
		if fix {
			return a.fix(g, req, said, len(lent) > 0)
		}
		if len(lent) > 0 {
			if g, err = lend(g, req, lent); err != nil {
				return err
			}
			req.Context = ctx.In(g)
			said += ", with grant " + strings.Join(lent, " and ") + " lent"
		}
		return a.try(g, req, said)
	}
	a.formats(c, "text", "json")
	return c
}

// lend compiles the gate anew with on-request grants lent to the one who asks.
func lend(g *gate.Gate, req gate.Request, grants []string) (*gate.Gate, error) {
	e := g.Estate()
	at, timed := req.Context.Moment()
	if !timed {
		return nil, fmt.Errorf("--lent needs a time: leave --at any out")
	}
	var elevations []estate.Elevation
	for _, id := range grants {
		switch gr := e.Grants[id]; {
		case gr == nil:
			return nil, unknown("grant", id, ids(e.Section("grants")))
		case gr.OnRequest == nil:
			return nil, fmt.Errorf("--lent %s: that grant stands, and is not on request; leave it out", id)
		case !g.Selects(gr.To, req.Subject):
			return nil, fmt.Errorf("--lent %s: %s is none of those who may ask for it", id, req.Subject)
		default:
			elevations = append(elevations, verify.Lend(req.Subject, gr, at)...)
		}
	}
	return gate.Compile(e, elevations)
}

// subject reads who makes a request.
func subject(g *gate.Gate, text string) (estate.Principal, error) {
	p, err := estate.ParsePrincipal(text)
	if err == nil {
		err = g.Subject(p)
	}
	return p, err
}

func (a *app) try(g *gate.Gate, req gate.Request, said string) error {
	why, err := g.Explain(req)
	if err != nil {
		return err
	}
	var near []survey.Near
	if why.Outcome != gate.Allow {
		if near, err = survey.Nearest(g, req); err != nil {
			return err
		}
	}
	if a.format == "json" {
		err = a.tryJSON(g, req, why, near)
	} else {
		a.tryText(asked{g, req.Context, "", said}, req, why, near)
	}
	if err == nil && why.Outcome != gate.Allow {
		err = answered(exitNo)
	}
	return err
}

// nearJSON is a way in, as try --format json gives it.
type nearJSON struct {
	Grant  string `json:"grant"`
	Lacks  string `json:"lacks"`
	Detail string `json:"detail"`
	Ask    string `json:"ask,omitempty"` // the command that asks for it
}

func (a *app) tryJSON(g *gate.Gate, req gate.Request, why gate.Explanation, near []survey.Near) error {
	out := struct {
		Subject   string     `json:"subject"`
		Operation string     `json:"operation"`
		Resource  string     `json:"resource"`
		Decision  string     `json:"decision"`
		Grants    []string   `json:"grants"`
		Blocks    []string   `json:"blocks"`
		DependsOn string     `json:"depends_on"`
		Near      []nearJSON `json:"near"`
	}{req.Subject.String(), req.Operation, req.Resource, why.Outcome.String(), gate.Met(why.Grants), gate.Met(why.Blocks),
		view.Left(g.Space(), why.Left), []nearJSON{}}
	for _, n := range near {
		out.Near = append(out.Near, nearJSON{n.Grant.ID, n.Lacks, n.Detail, askCommand(n, req)})
	}
	return a.json(out)
}

var verdicts = map[gate.Outcome]struct {
	word  string
	style view.Style
}{gate.Allow: {"ALLOWED", view.Yes}, gate.Deny: {"DENIED", view.No}, gate.Depends: {"DEPENDS", view.Maybe}}

const mostNear = 5

func (a *app) tryText(q asked, req gate.Request, why gate.Explanation, near []survey.Near) {
	g, p := q.gate, a.page(a.Out)
	v := verdicts[why.Outcome]
	p.Line("%s  %s  %s  %s", p.Paint(v.style, v.word), req.Subject, req.Operation, req.Resource)
	o := g.Estate().Operations[req.Operation]
	about := q.said + "; " + o.Name + " is of level " + o.Level.String()
	p.Table(0, nil, [][]view.Cell{{{Text: about, Style: view.Faint}}})
	if why.Outcome == gate.Depends {
		p.Line("\n%s", p.Paint(view.Heading, "It is "+view.Left(g.Space(), why.Left)))
	}
	if why.Inactive {
		p.Line("\n%s is not active: %s", req.Subject, view.Inactive(g.Space(), why, g.Estate().Subject(req.Subject)))
	}
	given, stopped := "Given by", "Stopped by"
	if why.Outcome == gate.Depends {
		given, stopped = "Could give it", "Could stop it"
	}
	a.causesText(q, req, given, met(why.Grants))
	a.causesText(q, req, stopped, met(why.Blocks))
	if why.Outcome != gate.Allow && len(gate.Met(why.Grants)) == 0 {
		switch {
		case len(gate.Met(why.Blocks)) > 0, why.Inactive:
		case len(why.Grants) == 0:
			p.Line("\nNo grant gives %s on %s to %s.", req.Operation, req.Resource, req.Subject)
		default:
			a.causesText(q, req, "Would give it, but not in these circumstances", unmet(why.Grants))
		}
	}
	if why.Outcome == gate.Deny {
		nearText(p, req, near)
	}
	if why.Outcome == gate.Allow {
		a.causesText(q, req, "Does not stop it", unmet(why.Blocks))
	}
}

// nearText lists the nearest ways in.
func nearText(p *view.Page, req gate.Request, near []survey.Near) {
	if len(near) == 0 {
		p.Line("\nNo grant would give it by one change alone.")
		return
	}
	p.Line("\n%s", p.Paint(view.Heading, "Nearest ways in"))
	var rows [][]view.Cell
	for _, n := range near[:min(len(near), mostNear)] {
		rows = append(rows, []view.Cell{{Text: n.Lacks, Style: view.Maybe}, {Text: "grant " + n.Grant.ID}, {Text: n.Detail},
			{Text: n.Grant.Source.Short(), Style: view.Faint}})
	}
	p.Table(2, nil, rows)
	if len(near) > mostNear {
		p.Line("  and %d more: --format json lists them", len(near)-mostNear)
	}
	for _, n := range near {
		if command := askCommand(n, req); command != "" {
			p.Line("  do: %s", command)
		}
	}
}

// met leaves the causes that meet the request, unmet those that do not.
func met(causes []gate.Cause) []gate.Cause {
	return slices.DeleteFunc(slices.Clone(causes), func(c gate.Cause) bool { return !c.Met })
}

func unmet(causes []gate.Cause) []gate.Cause {
	return slices.DeleteFunc(slices.Clone(causes), func(c gate.Cause) bool { return c.Met })
}

// causesText writes causes under a title, nothing if there are none.
func (a *app) causesText(q asked, req gate.Request, title string, causes []gate.Cause) {
	p, g := a.page(a.Out), q.gate
	for i, c := range causes {
		if i == 0 {
			p.Line("\n%s", p.Paint(view.Heading, title))
		}
		what, source, reason := "grant ", estate.Source{}, ""
		role := "role " + view.Roles(c.Roles)
		if c.Grant != nil {
			source, reason = c.Grant.Source, c.Grant.Why
		} else {
			what, source, reason, role = "block ", c.Block.Source, c.Block.Why, c.Deny.String()
		}
		p.Line("  %s%s  %s", what, c.ID(), p.Paint(view.Faint, source.Short()))
		request := ""
		if c.Grant != nil && c.Grant.OnRequest != nil {
			request = a.lentText(g, req, c)
		}
		facts(p, 4, []pair{{"who", view.Selection(c.Who)}, {"what", role}, {"where", view.Places(c.Where)},
			{"when", view.When(g.Space(), c.When)}, {"lent", request}, {"why", reason}})
	}
}

// open opens a file to read, - for standard input.
func (a *app) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(a.In), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	return f, nil
}
