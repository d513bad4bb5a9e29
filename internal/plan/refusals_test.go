package plan

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/finding"
)

func TestRefusedErrorKnowsItsCause(t *testing.T) {
	f := func(c finding.Code) finding.Finding { return finding.New(c, "/x", "m") }
	busy := Refused(f(finding.InUse), f(finding.BackupReminder))
	require.True(t, busy.OnlyBusy())
	require.False(t, busy.OnlyAway())
	both := Refused(f(finding.InUse), f(finding.SpaceShort))
	require.False(t, both.OnlyBusy())
	require.True(t, (Refused(f(finding.DriveAway))).OnlyAway())
	require.False(t, (&RefusedError{}).OnlyAway())
}
