//go:build linux

package redirect

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/ledger"
	"nexlin/internal/plan"
	"nexlin/internal/transfer"
)

func TestWhatDoesNotComeBackIsTold(t *testing.T) {
	p := &plan.Plan{Copying: plan.Copying{Digest: transfer.SHA256}}
	addNotComingBack(p, &plan.Plan{Copying: plan.Copying{Digest: transfer.BLAKE3}})
	require.Equal(t, transfer.BLAKE3, p.Digest)
	require.Empty(t, p.Findings)
	addNotComingBack(p, &plan.Plan{
		Route:   plan.Route{IntoDrive: ledger.DriveRef{Label: "DUNE"}},
		Copying: plan.Copying{Allow: transfer.Allow{Modes: true, TimeStep: time.Second}},
	})
	require.Len(t, p.Findings, 1)
	require.Equal(t, "DUNE does not keep exact times, permissions: the folder comes back as the drive shows it",
		p.Findings[0].Message)
}
