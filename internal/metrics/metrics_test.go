package metrics

import (
	"bytes"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/require"

	"nexlin/internal/health"
	"nexlin/internal/ledger"
)

// Whatever a drive is called, every gatherer can read the text, and it is in order.
func TestTextOfHostileLabels(t *testing.T) {
	label := "BA\"S\\A\nL\xffT"
	var c Collector
	require.Empty(t, c.text())
	c.Set(&Snapshot{At: time.Unix(7, 5e8), Reports: []*health.Report{
		{Redirect: ledger.Redirect{Name: "notes", Bytes: 1 << 40, Drive: ledger.DriveRef{Label: label, UUID: "u"}},
			State: health.Good, Present: true},
		{Redirect: ledger.Redirect{Name: "calls", Drive: ledger.DriveRef{Label: label, UUID: "u"}}, State: health.Away},
	}})
	p := expfmt.NewTextParser(model.LegacyValidation)
	got, err := p.TextToMetricFamilies(bytes.NewReader(c.text()))
	require.NoError(t, err)
	require.Equal(t, `BA"S\\A\nL\xffT`, got["nexlin_drive_present"].Metric[0].Label[0].GetValue())
	require.Len(t, got["nexlin_drive_present"].Metric, 1)
	require.Equal(t, "calls", got["nexlin_redirect_bytes"].Metric[0].Label[0].GetValue())
	require.EqualValues(t, 1<<40, got["nexlin_redirect_bytes"].Metric[1].Gauge.GetValue())
	require.Equal(t, 7.5, got["nexlin_check_timestamp_seconds"].Metric[0].Gauge.GetValue())
	require.NotContains(t, got, "nexlin_findings")
}
