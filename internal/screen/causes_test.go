package screen

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
)

// What hinders several in one way is told once, and so is what hinders one twice; what is
// each one's own stays apart.
func TestCausesAreToldOnce(t *testing.T) {
	at := func(name string, fs ...finding.Finding) *health.Report {
		for i := range fs {
			fs[i] = fs[i].Named(name)
		}
		return &health.Report{Redirect: ledger.Redirect{Name: name, Drive: ledger.DriveRef{UUID: "1", Label: "DUNE"}},
			Findings: fs}
	}
	mounts := finding.New(finding.Unseen, "/proc/self/mountinfo", "it can't be looked at")
	reports := []*health.Report{
		at("rec", mounts, mounts, finding.New(finding.SpaceLow, "/d", "nearly full")),
		at("pictures", finding.New(finding.Unseen, "/p", "another can't"), finding.New(finding.SpaceLow, "/d", "nearly full")),
		at("mail", mounts, finding.New(finding.TrialFailed, "/m", "no test file came through")),
		at("music", finding.New(finding.TrialFailed, "/u", "no test file came through")),
	}
	type told struct {
		message string
		of      []string
	}
	var got []told
	for _, c := range Causes(reports, true) {
		got = append(got, told{c.Found.Message, c.Names()})
	}
	require.Equal(t, []told{
		{"it can't be looked at", []string{"rec", "mail"}},
		{"nearly full", []string{"rec", "pictures"}},
		{"another can't", []string{"pictures"}},
		{"no test file came through", []string{"mail"}},
		{"no test file came through", []string{"music"}},
	}, got)
}
