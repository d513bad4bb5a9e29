package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/inventory"
	"nexlin/internal/preflight"
	"nexlin/internal/transfer"
)

// lossy is a plan in which every loss was found once.
func lossy() *Plan {
	p := &Plan{
		Route: Route{From: "/h/Docs"},
		Seen:  Seen{IntoNow: drive.Drive{Label: "DUNE"}},
	}
	p.Limits.TimeStep = 2 * time.Second
	for i := range p.Facts.Lost {
		p.Facts.Lost[i] = inventory.Listing{Count: 1, Paths: []string{"a"}}
	}
	p.Add(preflight.Losses(p.From, &p.Facts, &p.Limits, &p.IntoNow)...)
	return p
}

// Each loss is told, and a consent lets exactly that one pass.
func TestConsentsBecomeAllowances(t *testing.T) {
	p := lossy()
	require.Len(t, p.Findings, len(p.Facts.Lost))
	p.AllowAccepted()
	require.Zero(t, p.Allow, "nothing was accepted")
	for code, want := range map[finding.Code]transfer.Allow{
		finding.OwnersLost: {Owners: true}, finding.ModesLost: {Modes: true}, finding.ACLsLost: {ACLs: true},
		finding.AttributesLost: {Xattrs: true}, finding.HardLinksSplit: {Links: true},
		finding.TimesRounded:   {TimeStep: 2 * time.Second},
		finding.PrivateExposed: {}, finding.NamesRefused: {}, finding.NamesCollide: {}, finding.LinksLost: {},
		finding.FileTooLarge: {},
		finding.TimesLost:    {}, finding.SpecialFiles: {}, finding.AttributesFit: {}, finding.PathTooLong: {},
	} {
		p := lossy()
		before := len(finding.Blockers(p.Findings))
		p.AcceptFound([]finding.Code{code})
		p.AllowAccepted()
		require.Equal(t, want, p.Allow, code)
		accepted := before - len(finding.Blockers(p.Findings))
		require.Equal(t, finding.Acceptable(code), accepted == 1, code)
		require.LessOrEqual(t, accepted, 1, code)
	}
	// A drive without modes of its own is not asked to change any.
	fixed := &Plan{}
	fixed.Limits.FixedMode = true
	fixed.AllowAccepted()
	require.Equal(t, transfer.Allow{Modes: true}, fixed.Allow)
}
