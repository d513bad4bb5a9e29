package guide

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
	"nexlin/internal/mend"
	"nexlin/internal/screen"
)

// What a remedy says of mending is what the guide offers.
func TestMendIsOfferedWhereItHelps(t *testing.T) {
	for _, k := range finding.Kinds() {
		says := strings.HasPrefix(k.Remedy, "`nexlin mend NAME` ")
		require.Equal(t, says, mend.Mends(finding.New(k.Code, "", "")), k.Code)
	}
}

// Every cause is asked about until it is gone or left; what fails is told, and others are
// gone on with.
func TestMendingLeadsThroughCauses(t *testing.T) {
	for name, c := range map[string]struct {
		choices string // by their first words
		did     string
		left    string // names of those that something is left of
		err     error
	}{
		"all":          {"mend it|finish the run|look again|look again", "mend one,end three forward,plugged", "", nil},
		"left":         {"leave it|leave it|leave it", "", "four five,one,three", nil},
		"stopped":      {"mend it|stop", "mend one", "four five,three", nil},
		"turned away":  {"mend it|", "mend one", "four five,three", screen.ErrDeclined},
		"back":         {"leave it|take the run|leave it", "end three back", "four five,one", nil},
		"still so":     {"look again|mend it|leave it|leave it", "mend one", "four five,three", nil},
		"of one drive": {"leave it|leave it|plug|mend it for", "plugged,mend four,mend five", "one,three", nil},
		"in one go": {"leave it|leave it|plug|mend it for 2 redirects without",
			"plugged,mend four asked,mend five asked", "one,three", nil},
	} {
		t.Run(name, func(t *testing.T) {
			w := &world{found: map[string]finding.Code{"one": finding.LinkMissing, "three": finding.RunStopped,
				"four": finding.DriveAway, "five": finding.DriveAway}}
			choices := strings.Split(c.choices, "|")
			out := &bytes.Buffer{}
			m := Mending{Screen: &screen.Screen{Lines: screen.Lines{Out: out}}, Look: w.look, Mend: w.mend, End: w.end,
				Refuse: func(err error) { fmt.Fprintln(out, err) },
				Choose: func(_ string, things []string) (int, error) {
					require.NotEmpty(t, choices, out)
					next := choices[0]
					choices = choices[1:]
					if next == "" {
						return 0, screen.ErrDeclined
					}
					if next == "plug" || len(choices) == 0 && next == "look again" {
						w.plug(map[bool]finding.Code{true: finding.DriveElsewhere}[next == "plug"])
						next = "look again"
					}
					at := slices.IndexFunc(things, func(s string) bool { return strings.HasPrefix(s, next) })
					require.GreaterOrEqual(t, at, 0, "%s in %v", next, things)
					return at, nil
				}}
			reports, err := m.Lead()
			require.Equal(t, c.err, err)
			require.Empty(t, choices, out)
			require.Equal(t, c.did, strings.Join(w.did, ","))
			var left []string
			for _, cause := range screen.Causes(reports, true) {
				left = append(left, strings.Join(cause.Names(), " "))
			}
			if err == nil {
				require.Equal(t, c.left, strings.Join(slices.Sorted(slices.Values(left)), ","))
			}
		})
	}
	w := &world{found: map[string]finding.Code{"one": finding.LinkMissing}, fails: errors.New("the drive was pulled out")}
	out, asked := &bytes.Buffer{}, 0
	m := Mending{Screen: &screen.Screen{Lines: screen.Lines{Out: out}}, Look: w.look, Mend: w.mend,
		Refuse: func(err error) { fmt.Fprintln(out, err) },
		Choose: func(_ string, things []string) (int, error) {
			asked++
			return map[int]int{1: 0, 2: len(things) - 1}[asked], nil
		}}
	_, err := m.Lead()
	require.NoError(t, err)
	require.Contains(t, out.String(), "the drive was pulled out")
	require.Contains(t, out.String(), "this is still so")
	require.Contains(t, out.String(), "left as it is")
}

// A world in which acts mend what was found.
type world struct {
	found map[string]finding.Code
	did   []string
	fails error
}

func (w *world) look() (out []*health.Report, err error) {
	for _, name := range []string{"one", "two", "three", "four", "five"} {
		r := &health.Report{Redirect: ledger.Redirect{Name: name}}
		if code, is := w.found[name]; is {
			r.Findings = []finding.Finding{finding.New(code, "/x", "something is amiss with %s", name).As(finding.Warning)}
		}
		out = append(out, r)
	}
	return out, nil
}

func (w *world) act(name, did string) error {
	w.did = append(w.did, did)
	if w.fails == nil {
		delete(w.found, name)
	}
	return w.fails
}

func (w *world) mend(name string, asked bool) error {
	return w.act(name, "mend "+name+map[bool]string{true: " asked"}[asked])
}

func (w *world) end(name string, forward bool) error {
	return w.act(name, "end "+name+map[bool]string{true: " forward", false: " back"}[forward])
}

// plug has the drive that is away be here, elsewhere or as it was.
func (w *world) plug(then finding.Code) {
	w.did = append(w.did, "plugged")
	for _, name := range []string{"four", "five"} {
		if delete(w.found, name); then != "" {
			w.found[name] = then
		}
	}
}
