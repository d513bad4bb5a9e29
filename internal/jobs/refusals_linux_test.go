//go:build faults && linux

package jobs

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/ahead"
	"nexlin/internal/finding"
	"nexlin/internal/pack"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/record"
	"nexlin/internal/redirect"
	"nexlin/test/lab"
)

// A refusal is a plan that something blocks.
type refusal struct {
	name   string
	before func(w *world) // nil for nothing
	plan   func(w *world) (*plan.Plan, error)
	codes  string // of the blockers, in their order
}

// tree makes entries in the world; DIR is its directory.
func tree(lines ...string) func(w *world) {
	return func(w *world) {
		w.Helper()
		for _, l := range lines {
			lab.Tree{strings.ReplaceAll(l, "DIR", w.dir)}.Make(w, w.dir)
		}
	}
}

func both(first, then func(w *world)) func(w *world) {
	return func(w *world) { w.Helper(); first(w); then(w) }
}

func remove(rel string) func(w *world) {
	return func(w *world) { w.Helper(); require.NoError(w, os.RemoveAll(w.at(rel))) }
}

func back(w *world) (*plan.Plan, error) {
	return redirect.PlanBringBack(ctx, w.Engine, w.charts(), planning.BackOptions{})
}

func recorded(o record.Options) func(w *world) (*plan.Plan, error) {
	return func(w *world) (*plan.Plan, error) {
		o := o
		o.Accept = []finding.Code{finding.TargetInMemory}
		o.Path = w.at("skerry/Charts")
		for _, p := range []*string{&o.Copy, &o.Original} {
			if *p != "" {
				*p = w.at(*p)
			}
		}
		return record.MakePlan(w.Engine, o)
	}
}

func packed(file string) func(w *world) (*plan.Plan, error) {
	return func(w *world) (*plan.Plan, error) {
		return pack.PlanPack(ctx, w.Engine, pack.Options{Folder: w.at("skerry/Charts"), File: w.at(file),
			Accept: []finding.Code{finding.TargetInMemory}})
	}
}

func unpacked(file, into, as string) func(w *world) (*plan.Plan, error) {
	return func(w *world) (*plan.Plan, error) {
		return pack.PlanUnpack(w.Engine, pack.Options{File: w.at(file), Into: w.at(into), As: as,
			Accept: []finding.Code{finding.TargetInMemory}})
	}
}

func made(folder, into string) func(w *world) (*plan.Plan, error) {
	return func(w *world) (*plan.Plan, error) {
		return ahead.MakePlan(ctx, w.Engine, planning.MoveOptions{Folder: w.at(folder), Into: w.at(into),
			Accept: []finding.Code{finding.TargetInMemory}})
	}
}

var refusals = []refusal{
	{"move of nothing", nil, onto("skerry/None", "basalt", planning.MoveOptions{}), "folder-missing"},
	{"move of a file", nil, onto("skerry/Logs/day", "basalt", planning.MoveOptions{}), "not-a-folder"},
	{"move of a link", tree("skerry/way => DIR/skerry/Charts"), onto("skerry/way", "basalt", planning.MoveOptions{}),
		"already-a-link"},
	{"move into itself", nil, onto("skerry/Charts", "skerry/Charts/deep", planning.MoveOptions{}), "target-inside-folder same-drive"},
	{"move to its own drive", nil, onto("skerry/Charts", "skerry/elsewhere", planning.MoveOptions{}), "same-drive"},
	{"move onto a file", tree("basalt/Charts: mine"), onto("skerry/Charts", "basalt", planning.MoveOptions{}),
		"target-taken"},
	{"move onto a folder with entries", tree("basalt/Charts/mine: mine"), onto("skerry/Charts", "basalt",
		planning.MoveOptions{}), "target-taken"},
	{"move below a file", tree("basalt/ines: mine"), onto("skerry/Charts", "basalt/ines", planning.MoveOptions{}),
		"target-not-writable"},
	{"merge of what both have", tree("basalt/Charts/coast: mine"), onto("skerry/Charts", "basalt",
		planning.MoveOptions{Merge: true}), "both-have-it"},
	{"move into what is held", onBasalt, func(w *world) (*plan.Plan, error) {
		held, err := w.Ledger.HeldOf("charts")
		require.NoError(w, err)
		return onto("skerry/Logs", strings.TrimPrefix(held[0].Path, w.dir+"/"), planning.MoveOptions{})(w)
	}, "protected-place"},
	{"move of what holds a redirect", onBasalt, onto("skerry", "dune", planning.MoveOptions{}), "holds-a-redirect"},
	{"move on to where it is", onBasalt, onto("skerry/Charts", "basalt/ines", planning.MoveOptions{}), "same-drive"},
	{"move with a name that is taken", onBasalt, onto("skerry/Logs", "basalt", planning.MoveOptions{Name: "charts"}),
		"name-taken"},
	{"move too large", tree("skerry/Logs/night: " + strings.Repeat("x", 9<<20)), onto("skerry/Logs", "basalt",
		planning.MoveOptions{}), "space-short"},

	{"bring-back twice", func(w *world) {
		onBasalt(w)
		w.did(w.does(back(w)))
	}, back, "folder-missing"},
	{"bring-back over something new", both(both(onBasalt, remove("skerry/Charts")), tree("skerry/Charts/new: mine")),
		back, "old-place-taken"},
	{"bring-back of what is gone", both(onBasalt, remove("basalt/ines/Charts")), back, "folder-missing"},
	{"bring-back from a drive that is away", both(onBasalt, func(w *world) {
		require.NoError(w, os.Rename(w.at("basalt"), w.at("away")))
	}), back, "drive-away"},

	{"record of nothing", nil, func(w *world) (*plan.Plan, error) {
		return record.MakePlan(w.Engine, record.Options{Path: w.at("skerry/None")})
	}, "folder-missing"},
	{"record of a folder without a copy", nil, recorded(record.Options{}), "not-a-folder"},
	{"record with a copy that is not there", nil, recorded(record.Options{Copy: "basalt/None"}), "target-missing"},
	{"record of a file", both(remove("skerry/Charts"), tree("skerry/Charts: mine")), recorded(record.Options{}),
		"not-a-folder"},
	{"record of a link to nowhere", both(remove("skerry/Charts"), tree("skerry/Charts => DIR/basalt/None")),
		recorded(record.Options{}), "target-missing"},
	{"record of a link to elsewhere", both(remove("skerry/Charts"), tree("basalt/there/a: a", "basalt/here/a: a",
		"skerry/Charts => DIR/basalt/there")), recorded(record.Options{Copy: "basalt/here"}), "link-changed"},
	{"record of a link to a whole drive", both(remove("skerry/Charts"), tree("skerry/Charts => DIR/basalt")),
		recorded(record.Options{}), "is-a-mount-point"},
	{"record beside two originals", both(remove("skerry/Charts"), tree("basalt/there/a: a", "skerry/Charts.old/a: a",
		"skerry/Charts.bak/a: a", "skerry/Charts => DIR/basalt/there")), recorded(record.Options{}), "several-left-over"},
	{"record with an original that is a file", both(remove("skerry/Charts"), tree("basalt/there/a: a",
		"skerry/Charts => DIR/basalt/there")), recorded(record.Options{Original: "skerry/Logs/day"}), "folder-missing"},

	{"pack onto a file", tree("basalt/c.tar.zst: mine"), packed("basalt/c.tar.zst"), "target-taken"},
	{"pack into itself", nil, packed("skerry/Charts/c.tar.zst"), "target-inside-folder"},
	{"unpack of nothing", nil, unpacked("basalt/c.tar.zst", "dune", ""), "folder-missing"},
	{"unpack of a folder", nil, unpacked("skerry/Charts", "dune", ""), "folder-missing"},
	{"unpack onto something", tree("basalt/c.tar.zst: mine", "dune/x/a: mine"), unpacked("basalt/c.tar.zst", "dune", "x"),
		"target-taken"},

	{"unpack into a file", tree("basalt/c.tar.zst: mine"), unpacked("basalt/c.tar.zst", "skerry/Logs/day", "x"),
		"target-not-writable"},
	{"pack of nothing", remove("skerry/Charts"), packed("basalt/c.tar.zst"), "folder-missing"},
	{"move onto a drive that is full", tree("basalt/fill: " + strings.Repeat("x", 9<<20-1<<10)),
		onto("skerry/Charts", "basalt", planning.MoveOptions{}), "space-short"},
	{"move on while the data is away", both(onBasalt, func(w *world) {
		require.NoError(w, os.Rename(w.at("basalt"), w.at("away")))
	}), onto("skerry/Charts", "dune", planning.MoveOptions{}), "drive-away"},
	{"move on once the link is gone", both(onBasalt, remove("skerry/Charts")),
		onto("skerry/Charts", "dune", planning.MoveOptions{}), "link-missing"},

	{"ahead on its own drive", nil, made("skerry/Tides", "skerry/there"), "same-drive"},
	{"ahead of what is there", nil, made("skerry/Charts", "basalt"), "old-place-taken"},
	{"ahead onto something", tree("basalt/Tides/a: mine"), made("skerry/Tides", "basalt"), "target-taken"},
}

// What blocks a plan is found before anything is done, told by its code with its path and a way on,
// and whoever carries the plan out all the same changes nothing.
func TestRefusals(t *testing.T) {
	for _, r := range refusals {
		t.Run(r.name, func(t *testing.T) {
			w := newWorld(t, t.TempDir())
			if r.before != nil {
				r.before(w)
			}
			before := w.print()
			p, err := r.plan(w)
			require.NoError(t, err)
			var codes []string
			for _, f := range finding.Blockers(p.Findings) {
				codes = append(codes, string(f.Code))
				require.NotEmpty(t, f.Message)
				require.NotEmpty(t, f.Remedy)
				require.True(t, filepath.IsAbs(f.Path), "%+v", f)
			}
			require.Equal(t, r.codes, strings.Join(codes, " "))
			_, err = Do(ctx, w.Engine, p)
			var refused *plan.RefusedError
			require.ErrorAs(t, err, &refused)
			require.Equal(t, before, w.print())
		})
	}
}
