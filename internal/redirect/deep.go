package redirect

import (
	"context"

	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/ledger"
)

// A Deep is what reading all of a target came to.
type Deep struct {
	Files    int64 // read, and as the manifest has them
	Bytes    int64
	Findings []finding.Finding
}

// CheckDeep reads every file at a redirect's target from the device and
// holds it against the manifest frozen at the switch. What people changed or
// deleted since is told, and is no fault; what differs while no time stamp
// moved is rot. It changes nothing. What is new at the target has nothing to
// be held against and is passed over.
func (e *Engine) CheckDeep(ctx context.Context, r ledger.Redirect) (*Deep, error) {
	d := &Deep{}
	about := subject(r.Name, r.Drive.Label, "")
	live, err := handle.OpenReal(r.Target)
	if err != nil {
		return d, nil // that is a finding already
	}
	defer live.Release()
	// What is read must be what the device has.
	if err := live.SyncAll(); err != nil {
		return nil, err
	}
	if e.Progress != nil {
		e.Progress.Phase("compare", r.Files, r.Bytes)
	}
	v := &Verdict{Held: ledger.Held{Redirect: r.Name, Run: r.Run}}
	if v.plan, err = e.planOfRun(r.Run); err != nil {
		return nil, err
	}
	spool, err := e.spoolOf(r.Run)
	if err == nil {
		defer spool.Close()
		err = v.judgeAll(ctx, live, r.Target, e.Ledger.RunDir(r.Run), spool, e.Progress)
	}
	if recordBroken(err) {
		f := finding.New(finding.LedgerBroken, r.Target, err.Error(), about)
		d.Findings = append(d.Findings, f.As(finding.Warning))
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	d.Files, d.Bytes = v.Proven, v.Bytes
	for _, s := range []struct {
		code   finding.Code
		text   string
		remedy string // empty: the listed one
	}{
		{finding.Rot, "at %s: other content than was verified, or unreadable, and nothing says that anybody wrote there", ""},
		{finding.ChangedSince, "changed at %s since it was moved", "that is how it is when people work there; nothing needs doing"},
		{finding.ChangedQuiet, "changed at %s under the same modification time", "programs that map files or keep times do this; if none of yours does, compare with a backup"},
		{finding.GoneAtTarget, "no longer at %s", "if you deleted them, nothing needs doing"},
	} {
		f, any := v.told(s.code, s.text, r.Target, about)
		if !any {
			continue
		}
		if s.remedy != "" {
			f.Severity, f.Remedy = finding.Info, s.remedy
		}
		d.Findings = append(d.Findings, f)
	}
	return d, nil
}
