package health

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/pathtext"
	"nexlin/internal/plan"
)

// An Unplug says whether a drive may be taken away now, and why not.
type Unplug struct {
	May     bool     `json:"may"`
	Reasons []string `json:"reasons"`
	Stopped []string `json:"stopped_runs"` // that touch the drive
}

// MayUnplug answers whether a drive may go: nothing open on it, no run stopped half-way, nothing
// unflushed. names are the redirects that lie on it.
func MayUnplug(ctx context.Context, e *engine.Engine, d *drive.Drive, names []string) (*Unplug, error) {
	u := &Unplug{May: true, Reasons: []string{}, Stopped: []string{}}
	no := func(format string, args ...any) {
		u.May = false
		u.Reasons = append(u.Reasons, fmt.Sprintf(format, args...))
	}
	if d.System() {
		no("the system runs from it")
		return u, nil
	}
	used, err := inuse.Below(ctx, d.Mount)
	if err != nil {
		return nil, err
	}
	for i, h := range used.Holders {
		if i == 5 {
			no("%d more uses", len(used.Holders)-i)
			break
		}
		no("%s has %s open", h, pathtext.Show(h.Path))
	}
	if !used.Complete {
		u.Reasons = append(u.Reasons, "programs of other accounts can't be seen")
	}
	runs, err := plan.Open(e.Ledger)
	if err != nil {
		return nil, err
	}
	for _, row := range runs {
		if r, err := execute.Recoverable(e, row); err == nil &&
			slices.ContainsFunc(r.Plan.Folders(), func(p *plan.Plan) bool { return touches(p, d.Mount) }) {
			u.Stopped = append(u.Stopped, row.ID)
			no("run %s (%s of %s) was stopped half-way: nexlin resume %s, or nexlin undo %s", row.ID, row.Kind,
				row.Redirect, row.ID, row.ID)
		}
	}
	if err := flush(d.Mount); err != nil && !errors.Is(err, fs.ErrPermission) {
		no("what was written to it can't be flushed: %v", err)
	} else if err == nil {
		u.Reasons = append(u.Reasons, "all that was written to it is flushed")
	}
	for _, o := range othersOn(ctx, e, d) {
		if o.err != nil {
			u.Reasons = append(u.Reasons,
				fmt.Sprintf("what account %s has there can't be asked: %v", pathtext.Show(o.account), o.err))
		}
		for _, id := range o.stopped {
			no("run %s of account %s was stopped half-way", pathtext.Show(id), pathtext.Show(o.account))
		}
		for _, n := range o.redirects {
			names = append(names, pathtext.Show(n)+" of "+pathtext.Show(o.account))
		}
	}
	if len(names) > 0 {
		u.Reasons = append(u.Reasons, fmt.Sprintf("while it is away, %s will not open", strings.Join(names, ", ")))
	}
	return u, nil
}

func touches(p *plan.Plan, mount string) bool {
	return slices.ContainsFunc([]string{p.Into, p.From, p.HeldIn}, func(path string) bool {
		_, in := pathtext.Below(path, mount)
		return in
	})
}

func flush(mount string) error {
	dir, err := handle.Open(mount)
	if err != nil {
		return err
	}
	defer dir.Release()
	return dir.SyncAll()
}

// others is what another account's records say of a drive.
type others struct {
	account   string
	redirects []string
	stopped   []string
	err       error // they could not be asked
}

// askWithin is how long one account's records may take to answer.
const askWithin = 20 * time.Second

// othersOn asks the records of every other account what they have on a drive: an
// administrator who unplugs it takes it from all. They are read as that account,
// by a Nexlin of its own: what another account wrote is not read with an
// administrator's rights. Records that are kept at another place than the usual
// one are not known.
func othersOn(ctx context.Context, e *engine.Engine, d *drive.Drive) (out []others) {
	self, err := os.Executable()
	if os.Geteuid() != 0 || e.Drives.File != "" || err != nil {
		return nil
	}
	for _, who := range account.All() {
		dir := filepath.Join(who.Home, ".local/state/nexlin")
		if st, err := handle.Lstat(dir); who.UID == 0 || err != nil || !st.IsDir() || st.UID != who.UID {
			continue
		}
		o := others{account: who.Name}
		text, err := inuse.Command{
			Args: []string{self, "drives", "--json", "--quiet", "--state-dir", dir, d.Mount}, Within: askWithin,
			UID: who.UID, GID: who.GID,
			Env: []string{"HOME=" + who.Home, "USER=" + who.Name, "LOGNAME=" + who.Name, "PATH=/usr/bin:/bin"},
			Dir: who.Home,
		}.Run(ctx)
		var says struct {
			Drives []struct {
				Redirects []string `json:"redirects"`
				Unplug    Unplug   `json:"unplug"`
			} `json:"drives"`
		}
		if err == nil {
			err = json.Unmarshal([]byte(text), &says)
		}
		if o.err = err; err == nil && len(says.Drives) == 1 {
			o.redirects, o.stopped = says.Drives[0].Redirects, says.Drives[0].Unplug.Stopped
		}
		if o.err != nil || len(o.redirects)+len(o.stopped) > 0 {
			out = append(out, o)
		}
	}
	return out
}
