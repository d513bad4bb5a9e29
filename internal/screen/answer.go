package screen

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"nexlin/internal/accounts"
	"nexlin/internal/pathtext"
)

// An Answer is what an engine that looks after many machines is told of this one: whether
// anything was changed or would be, whether anything failed, in one sentence and in full.
type Answer struct {
	explain func(error) Fault
	diff    bool

	changes       []Doc
	before, after strings.Builder
	problems      []problem
	amiss         int    // folders with a problem
	first         string // what the first problem is
}

// A problem is why folders are not as declared, and would not be.
type problem struct {
	end     string
	fault   Fault
	folders []Doc
}

// NewAnswer begins one; with diff it says what each change changes. explain tells of an error.
func NewAnswer(explain func(error) Fault, diff bool) *Answer {
	return &Answer{explain: explain, diff: diff}
}

// Checked answers what a check found: what an apply would change, and what it could not. For
// a withdrawal, the items are those that it would bring back.
func (n *Answer) Checked(items []*accounts.Item, withdraw bool) Doc {
	if withdraw {
		for _, i := range items {
			n.change(i, itemLine(i), broughtBack(i))
		}
		return n.document(len(items), pathtext.Plural(len(items), "folder", "folders")+" to be brought back")
	}
	for _, i := range items {
		switch {
		case !i.Drifted():
		case i.Able():
			n.change(i, itemLine(i)+": "+i.Says, itemLine(i)+": as declared")
		default:
			f := Fault{Code: string(i.State), Message: i.Says, State: Untouched}
			for _, found := range i.Findings {
				f.Next = append(f.Next, found.Remedy)
			}
			n.problem(i, string(i.State), f)
		}
	}
	return n.document(len(items), countItems(items))
}

// Done answers what became of the items; err is what kept it from its end, nil if nothing did.
func (n *Answer) Done(results []*accounts.Result, err error) Doc {
	for _, r := range results {
		switch {
		case r.End == accounts.Done && r.Withdrawn:
			n.change(r.Item, itemLine(r.Item), broughtBack(r.Item))
		case r.End == accounts.Done:
			n.change(r.Item, itemLine(r.Item)+": "+r.Says, itemLine(r.Item)+": as declared")
		case r.End == accounts.Refused || r.End == accounts.Stopped:
			n.problem(r.Item, string(r.End), n.explain(r.Err))
		}
	}
	d := n.document(len(results), countedResults(results))
	if err != nil {
		n.fail(d, n.explain(err))
	}
	return d
}

// Failed answers that nothing came of a request.
func (n *Answer) Failed(err error) Doc {
	d := n.document(0, "")
	n.fail(d, n.explain(err))
	return d
}

func broughtBack(i *accounts.Item) string { return inHome(i) + ": as it was, or a real folder again" }

// change notes one folder that was changed, or would be.
func (n *Answer) change(i *accounts.Item, before, after string) {
	before, after = ansi.Strip(before), ansi.Strip(after)
	n.changes = append(n.changes, Doc{"account": i.Account.Name, "folder": i.Link(), "before": before, "after": after})
	name := pathtext.Show(i.Account.Name)
	fmt.Fprintf(&n.before, "%s: %s\n", name, before)
	fmt.Fprintf(&n.after, "%s: %s\n", name, after)
}

// problem notes one folder that was not made as declared, or would not be: beside those that
// have the same.
func (n *Answer) problem(i *accounts.Item, end string, f Fault) {
	folder := Doc{"account": i.Account.Name, "folder": i.Link()}
	if n.amiss++; n.first == "" {
		n.first = pathtext.Show(i.Account.Name) + ", " + inHome(i) + ": " + sentence(f)
	}
	k := slices.IndexFunc(n.problems, func(p problem) bool {
		return p.end == end && p.fault.Code == f.Code && p.fault.Message == f.Message && p.fault.State == f.State &&
			slices.Equal(p.fault.Next, f.Next)
	})
	if k < 0 {
		k, n.problems = len(n.problems), append(n.problems, problem{end, f, nil})
	}
	n.problems[k].folders = append(n.problems[k].folders, folder)
}

// sentence is what happened, and what to do first.
func sentence(f Fault) string {
	if len(f.Next) == 0 {
		return f.Message
	}
	return f.Message + ". What to do: " + f.Next[0]
}

func (n *Answer) document(all int, counted string) Doc {
	problems := []Doc{}
	for _, p := range n.problems {
		problems = append(problems, Doc{"end": p.end, "code": p.fault.Code, "message": p.fault.Message,
			"state": p.fault.State, "next": append([]string{}, p.fault.Next...), "folders": p.folders})
	}
	d := Doc{"changed": len(n.changes) > 0, "failed": n.amiss > 0, "msg": counted,
		"changes": append([]Doc{}, n.changes...), "problems": problems}
	if n.amiss > 0 {
		d["msg"] = fmt.Sprintf("%d of %s not as declared. %s", n.amiss, pathtext.Plural(all, "folder", "folders"),
			n.first)
	}
	if n.diff && len(n.changes) > 0 {
		d["diff"] = Doc{"before": n.before.String(), "after": n.after.String(), "before_header": "as it is",
			"after_header": "as declared"}
	}
	return d
}

// fail makes an answer that of a failure.
func (n *Answer) fail(d Doc, f Fault) {
	d["failed"], d["msg"] = true, sentence(f)
	d["error"] = FaultDoc(f)
}
