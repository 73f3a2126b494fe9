package verify

import (
	"cmp"
	"iter"
	"slices"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// Result is what became of one test.
type Result struct {
	Test    *estate.Test
	failed  []failing
	gate    *gate.Gate
	differs bool // another gate answers otherwise
}

// Passed says whether every expectation was met.
func (r Result) Passed() bool { return r.Count() == 0 }

// Failure is one expectation that was not met. Expected and Got are outcomes, or levels.
type Failure struct {
	Subject   estate.Principal
	Operation string // the operation, or "levels" where no single one shows that a rule about levels is not met
	Resource  string
	Expected  string
	Got       string
	Position  diagnostic.Position
	Context   *gate.Context // of the request, to explain it
	Single    bool          // one request can show it
}

// failing is where one rule of a test is not met. It is kept by those who are alike and what is alike for them: a group
// of a thousand on a thousand resources fails a million times.
type failing struct {
	Failure // what is the same of all
	who     []estate.Principal
	class   map[int]int // of those who fail, by their places in who, what they are told
	unmet   [][]unmet
}

// unmet is an answer that was not expected, on resources by their rows, or on a place.
type unmet struct {
	operation, got string
	rows           []int
	place          string
}

// add says that some subjects get these answers.
func (f *failing) add(who []int, answers []unmet) {
	if len(answers) == 0 {
		return
	}
	if f.class == nil {
		f.class = map[int]int{}
	}
	for _, i := range who {
		f.class[i] = len(f.unmet)
	}
	f.unmet = append(f.unmet, answers)
}

// Count is how many expectations were not met.
func (r Result) Count() (n int) {
	for _, f := range r.failed {
		for _, class := range f.class {
			for _, u := range f.unmet[class] {
				n += max(len(u.rows), 1)
			}
		}
	}
	return n
}

// Failures goes over the expectations that were not met: rule by rule, subject by subject, in the order of the
// resources.
func (r Result) Failures() iter.Seq[Failure] {
	return func(yield func(Failure) bool) {
		for i := range r.failed {
			if !r.failed[i].each(r.gate.Estate().Tree, yield) {
				return
			}
		}
	}
}

// First gives the first few of them.
func (r Result) First(most int) (out []Failure) {
	for f := range r.Failures() {
		if len(out) == most {
			break
		}
		out = append(out, f)
	}
	return out
}

func (f *failing) each(tree *estate.Tree, yield func(Failure) bool) bool {
	type answer struct {
		row int
		*unmet
	}
	known := map[int][]answer{} // of those who are alike, in order
	for i, who := range f.who {
		class, fails := f.class[i]
		if !fails {
			continue
		}
		answers, ok := known[class]
		if !ok {
			for k := range f.unmet[class] {
				u := &f.unmet[class][k]
				for _, row := range u.rows {
					answers = append(answers, answer{row, u})
				}
				if u.rows == nil {
					answers = append(answers, answer{0, u})
				}
			}
			slices.SortStableFunc(answers, func(a, b answer) int { return cmp.Compare(a.row, b.row) })
			known[class] = answers
		}
		for _, a := range answers {
			one := f.Failure
			one.Subject, one.Operation, one.Got, one.Resource = who, a.operation, a.got, a.place
			if a.rows != nil {
				one.Resource, one.Single = tree.Address(a.row), true
			}
			if !yield(one) {
				return false
			}
		}
	}
	return true
}
