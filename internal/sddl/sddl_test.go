package sddl

import (
	"testing"

	"github.com/stretchr/testify/require"
)

const (
	home = "O:S-1-5-21-1-2-3-1001D:(A;OICIID;FA;;;SY)(A;OICIID;FA;;;BA)(A;OICIID;FA;;;S-1-5-21-1-2-3-1001)"
	// The root of a second drive, as the system makes it.
	second = "O:BAG:SYD:PAI(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)(A;OICIIO;SDGXGWGR;;;AU)(A;;0x1301bf;;;AU)" +
		"(A;OICI;0x1200a9;;;BU)S:AI"
)

func TestWhomAListLetsIn(t *testing.T) {
	for name, c := range map[string]struct {
		text          string
		itself, below bool
	}{
		"a home":                         {home, false, false},
		"a second drive":                 {second, true, true},
		"for others alone to pass":       {"D:P(A;;0x100020;;;BU)", false, false},
		"for others, the directory only": {"D:P(A;;FR;;;WD)", true, false},
		"for others, what is below only": {"D:P(A;OICIIO;FR;;;WD)", false, true},
		"denied":                         {"D:P(D;OICI;FA;;;WD)", false, false},
		"no list at all":                 {"O:BAG:SY", true, true},
		"a list that is none":            {"D:NO_ACCESS_CONTROL", true, true},
		"an empty list":                  {"D:P", false, false},
	} {
		require.Equal(t, c.itself, Open(c.text, false), name)
		require.Equal(t, c.below, Open(c.text, true), name)
	}
}

func TestWhatWasGivenToAnEntryItself(t *testing.T) {
	for text, want := range map[string]string{
		home:                           "",
		"":                             "",
		"D:(A;;FR;;;WD)(A;ID;FA;;;SY)": "D:(A;;FR;;;WD)",
		"D:PAI(A;;FA;;;SY)S:(x)":       "D:P(A;;FA;;;SY)",
		"D:P":                          "D:P",
	} {
		require.Equal(t, want, Explicit(text), text)
	}
}

func TestLabels(t *testing.T) {
	for text, want := range map[string]string{
		home: "", second: "", "": "", "S:": "", "S:(ML;;NW;;;LW": "",
		home + "S:AI(ML;OICI;NW;;;LW)":      "S:(ML;OICI;NW;;;LW)",
		"D:(A;;FA;;;SY)S:(ML;ID;NW;;;LW)":   "",
		"S:P(AU;SAFA;FA;;;WD)(ML;;NW;;;HI)": "S:(ML;;NW;;;HI)",
	} {
		require.Equal(t, want, Label(text), text)
		require.Equal(t, want, Label(want))
	}
	for label, above := range map[string]bool{"S:(ML;;NW;;;LW)": false, "S:(ML;;NW;;;ME)": false,
		"S:(ML;;NW;;;HI)": true, "S:(ML;;NW;;;S-1-16-12288)": true, "S:(ML;;NW;;;S-1-16-4096)": false, "": true} {
		require.Equal(t, above, Above(label), label)
	}
}

func FuzzLists(f *testing.F) {
	f.Add(home)
	f.Add(second)
	f.Fuzz(func(t *testing.T, text string) {
		Open(text, true)
		require.Equal(t, Label(text), Label(Label(text)))
		require.Equal(t, Explicit(text), Explicit(Explicit(text)))
	})
}
