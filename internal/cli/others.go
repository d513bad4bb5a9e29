package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/handle"
	"nexlin/internal/inuse"
	"nexlin/internal/screen"
)

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
func (a *app) othersOn(d *drive.Drive) (out []others) {
	self, err := os.Executable()
	if os.Geteuid() != 0 || a.standins != "" || err != nil {
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
		}.Run(a.ctx)
		var says struct {
			Drives []struct {
				Redirects []string         `json:"redirects"`
				Unplug    screen.UnplugDoc `json:"unplug"`
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
