package screen

import (
	"cmp"
	"io"
	"time"

	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/link"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

// Documents for programs. docs/schema/ describes them; bytes are integers,
// times RFC 3339.

type Doc map[string]any

// WriteJSON prints a document, see [Doc.Write].
func (a *Lines) WriteJSON(d Doc, indent string) error { return d.Write(a.RawOut, indent) }

// Write writes a document, one on a line without an indent. Names in it are
// hostile text, and somebody may look at it on a terminal.
func (d Doc) Write(w io.Writer, indent string) error {
	b, err := pathtext.MarshalIndent(d, indent)
	if err != nil {
		return err
	}
	_, err = w.Write(append(pathtext.EscapeJSON(b), '\n'))
	return err
}

type findingDoc struct {
	Code     string   `json:"code"`
	Severity string   `json:"severity"`
	Message  string   `json:"message"`
	Remedy   string   `json:"remedy"`
	Shows    string   `json:"programs_show,omitempty"`
	Path     string   `json:"path"`
	Count    int      `json:"count,omitempty"`
	Paths    []string `json:"paths,omitempty"`
	Details  []string `json:"details,omitempty"`
}

func FindingDocs(fs []finding.Finding) []findingDoc {
	out := []findingDoc{}
	for _, f := range finding.Worst(fs) {
		out = append(out, findingDoc{string(f.Code), string(f.Severity), f.Message, f.Remedy, f.Shows, f.Path,
			f.Count, f.Paths, f.Details})
	}
	return out
}

type heldDoc struct {
	Path  string    `json:"path"`
	Bytes int64     `json:"bytes"`
	Since time.Time `json:"since"`
}

type driveRefDoc struct {
	ID      string `json:"id"`
	Label   string `json:"label"`
	Present bool   `json:"present"`
}

type RedirectDoc struct {
	Name    string      `json:"name"`
	Link    string      `json:"link"`
	Target  string      `json:"target"`
	Methods []string    `json:"methods"`
	Seen    string      `json:"junction_target,omitempty"` // of a junction: the target as Windows names it
	Account string      `json:"account"`
	Drive   driveRefDoc `json:"drive"`
	Bytes   int64       `json:"bytes"`
	Files   int64       `json:"files"`
	State   string      `json:"state,omitempty"`
	Held    []heldDoc   `json:"held"`
	Created time.Time   `json:"created"`
	// Findings is there in the documents of check and show.
	Findings *[]findingDoc `json:"findings,omitempty"`
	Deep     *deepDoc      `json:"deep,omitempty"`
}

func redirectOf(r ledger.Redirect, held []ledger.Held, state string, present bool) RedirectDoc {
	d := RedirectDoc{
		Name: r.Name, Link: r.Link, Target: r.Target, Methods: r.Methods, Account: r.Account,
		Drive: driveRefDoc{r.Drive.Identity(), r.Drive.Label, present}, Bytes: r.Bytes, Files: r.Files, State: state,
		Held: []heldDoc{}, Created: r.Created,
	}
	if r.Text != "" {
		d.Seen = link.Seen(r.Text)
	}
	for _, h := range held {
		d.Held = append(d.Held, heldDoc{h.Path, h.Bytes, h.Since})
	}
	return d
}

// deepDoc is what was read and found as the manifest has it.
type deepDoc struct {
	Files int64 `json:"files"`
	Bytes int64 `json:"bytes"`
}

func ReportDoc(r *health.Report, withFindings bool) RedirectDoc {
	d := redirectOf(r.Redirect, r.Held, string(r.State), r.Present)
	if r.Deep != nil {
		d.Deep = &deepDoc{r.Deep.Files, r.Deep.Bytes}
	}
	if withFindings {
		fs := FindingDocs(r.Findings)
		d.Findings = &fs
	}
	return d
}

// ReportDocs is what was found about several redirects, with findings.
func ReportDocs(reports []*health.Report) []RedirectDoc {
	out := []RedirectDoc{}
	for _, r := range reports {
		out = append(out, ReportDoc(r, true))
	}
	return out
}

type PhaseDoc struct {
	Name    string    `json:"name"`
	State   string    `json:"state"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended"`
}

type RunDoc struct {
	ID     string     `json:"id"`
	Kind   string     `json:"kind"`
	State  string     `json:"state"`
	Phases []PhaseDoc `json:"phases"`
}

// OutcomeDoc is the document of a run that changed something.
func (a *Screen) OutcomeDoc(e *engine.Engine, o *plan.Outcome) Doc {
	if o.Plan.Group != nil {
		return a.togetherDoc(e, o)
	}
	run := RunDoc{o.Run, o.Kind, o.State, []PhaseDoc{}}
	for _, p := range o.Phases {
		run.Phases = append(run.Phases, PhaseDoc{p.Name, p.State, p.Started, p.Ended})
	}
	d := Doc{
		"run":    run,
		"copied": Doc{"files": o.Copied.Files, "bytes": o.Copied.Bytes, "seconds": o.Copied.Seconds},
		"verified": Doc{"files": o.Verified.Files, "bytes": o.Verified.Bytes,
			"digest": cmp.Or(o.Plan.Digest, transfer.SHA256), "from_device": o.Device},
		"findings": FindingDocs(o.Findings),
		"space":    spaceDoc(o),
	}
	if len(o.Plan.Settings) > 0 {
		changed := []Doc{}
		for _, s := range o.Plan.Settings {
			changed = append(changed, Doc{"file": s.File, "format": s.Format, "at": s.At})
		}
		d["settings"] = changed
	}
	if len(o.Facts) > 0 {
		d["facts"] = factDocs(o.Facts)
	}
	if o.Lent > 0 {
		d["taken_from_held"] = o.Lent
	}
	if o.Plan.DiscardOld {
		d["original_discarded"] = o.Discarded != nil && o.Discarded.State == ledger.Done
	}
	if r, err := e.Ledger.Redirect(o.Plan.Name); err == nil {
		if rep, err := health.Look(e, r); err == nil {
			d["redirect"] = ReportDoc(rep, false)
		}
	}
	return d
}

func spaceDoc(o *plan.Outcome) Doc {
	d := Doc{}
	for i, s := range o.Space {
		key := "source"
		if i == 1 {
			key = "target"
		}
		d[key] = Doc{"drive": s.Drive, "free_before": s.FreeBefore, "free_after": s.FreeAfter}
	}
	return d
}

// PlanDoc is the document of a preview.
func PlanDoc(p *plan.Plan) Doc {
	if p.Group != nil {
		return togetherPlanDoc(p)
	}
	return Doc{
		"preview": true,
		"plan": Doc{
			"kind": p.Kind, "name": p.Name, "link": p.Link, "from": p.From, "target": p.Copy(),
			"files": p.Files, "bytes": p.Bytes, "needed": p.Need, "gap": p.Gap,
			"digest": cmp.Or(p.Digest, transfer.SHA256),
			"space": Doc{
				"source": Doc{"drive": p.FromNow.Name(), "free": p.FromNow.Free},
				"target": Doc{"drive": p.IntoNow.Name(), "free": p.IntoNow.Free, "free_after": p.IntoNow.Free - p.Need},
			},
		},
		"findings": FindingDocs(p.Findings),
	}
}

type abilitiesDoc struct {
	Symlinks  bool    `json:"symlinks"`
	Junctions bool    `json:"junctions"`
	HardLinks bool    `json:"hard_links"`
	Nodes     bool    `json:"fifos_and_sockets"`
	Modes     bool    `json:"modes"`
	Owners    bool    `json:"owners"`
	Nanotimes bool    `json:"nanosecond_times"`
	TimeStep  float64 `json:"time_step"` // seconds; 0 where times are not kept
	Xattrs    bool    `json:"extended_attributes"`
	ACLs      bool    `json:"acls"`
	Exchange  bool    `json:"exchange"`
	AnyBytes  bool    `json:"any_bytes"`
	Case      bool    `json:"case_sensitive"`
	Composes  bool    `json:"composes_unicode"`
	Holes     bool    `json:"holes"`
	MaxFile   int64   `json:"largest_file"` // bytes; 0 if no limit was met
}

func abilitiesOf(a drive.Abilities) abilitiesDoc {
	return abilitiesDoc{
		Symlinks: a.Symlinks, Junctions: a.Junctions, HardLinks: a.HardLinks, Nodes: a.Nodes, Modes: a.Modes,
		Owners:    a.Owners,
		Nanotimes: a.Nanotimes(), TimeStep: a.TimeStep.Seconds(), Xattrs: a.Xattrs, ACLs: a.ACLs, Exchange: a.Exchange,
		AnyBytes: a.Bytes(), Case: a.CaseSeen, Composes: a.Composes, Holes: a.Holes, MaxFile: a.MaxFile,
	}
}
