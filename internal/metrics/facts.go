package metrics

import (
	"nexlin/internal/drive"
	"nexlin/internal/health"
	"nexlin/internal/ledger"
)

// Facts is a machine in few numbers, for an inventory of many.
type Facts struct {
	Drives    []DriveFacts
	Redirects map[health.State]int // every state is in it
	Bytes     int64                // of the redirects' data when it was moved
	Held      int64                // bytes of held originals
}

// DriveFacts is one drive: one that is here, or one that is away and has redirects.
type DriveFacts struct {
	Label, ID string
	Present   bool
	Mount     string // this and what follows is empty of a drive that is away
	FS        string
	Size      int64 // bytes
	Free      int64 // bytes
	Redirects int   // that lie on it
}

// FactsOf puts together what is known of drives that are here and of all redirects.
func FactsOf(here []drive.Drive, reports []*health.Report) *Facts {
	f := &Facts{Redirects: map[health.State]int{}}
	for _, st := range health.States() {
		f.Redirects[st] = 0
	}
	at := map[string]int{} // by what a drive is known by
	for _, d := range here {
		at[d.Identity()] = len(f.Drives)
		f.Drives = append(f.Drives,
			DriveFacts{Label: d.Label, ID: d.Identity(), Present: true, Mount: d.Mount, FS: d.FS,
				Size: d.Size, Free: d.Free})
	}
	for _, r := range reports {
		f.Held += ledger.HeldBytes(r.Held)
		if r.Redirect.State == ledger.Ended {
			continue // of which something is still held
		}
		f.Redirects[r.State]++
		f.Bytes += r.Redirect.Bytes
		id := r.Redirect.Drive.Identity()
		k, known := at[id]
		if !known {
			k = len(f.Drives)
			at[id] = k
			f.Drives = append(f.Drives, DriveFacts{Label: r.Redirect.Drive.Label, ID: id, Present: r.Present})
		}
		f.Drives[k].Redirects++
	}
	return f
}
