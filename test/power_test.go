//go:build linux

package test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// The power fails at a step: both drives, the one with the records among
// them, are from then on what had reached their images. The link path leads
// to the whole folder, and the run is finished or taken back.
func TestPowerCut(t *testing.T) {
	stories := slices.DeleteFunc(crashStories(),
		func(s crashStory) bool { return s.name == "move-on" || s.name == "detach" })
	for _, s := range stories {
		t.Run(s.name, func(t *testing.T) {
			steps := powerBed(t, program).points(s, "list", "step")
			slices.Sort(steps)
			cases := 0
			for i, step := range slices.Compact(steps) {
				if i%everyNth(8) != 0 &&
					!slices.Contains([]string{"sealed", "place.act", "switch.act", "hold.act", "erase.act",
						"late-writes.act"}, step) {
					continue
				}
				cases++
				t.Run(step, func(t *testing.T) {
					t.Parallel()
					way := "undo"
					if i%2 == 0 || s.start == nil {
						way = "resume"
					}
					b := powerBed(t, program).set(s)
					for _, dir := range []string{b.skerry, b.basalt} {
						lab.Run(t, "sync", "-f", dir) // what people did before is not what this is about
					}
					_, code := b.faulted(s, "kill:"+step)
					require.Equal(t, -1, code)
					powerCut(t, filepath.Dir(b.skerry), filepath.Dir(b.basalt))
					b.wholeMidway(t, s)
					if !b.unfinished() {
						b.startedOrEnded(t, s)
						return
					}
					b.recovered(t, s, way, b.LastRun())
				})
			}
			t.Logf("%d cases", cases)
		})
	}
}

// powerBed is a crash bed on small drives of its own, with the records on one
// of them, all of it on the device.
func powerBed(t *testing.T, program string) *crashBed {
	drives := [3]string{lab.Drive(t, "ext4", "SKERRY", 24), lab.Drive(t, "ext4", "BASALT", 16)}
	drives[2] = drives[1]
	b := newCrashBed(t, program, drives)
	b.State = filepath.Join(drives[0], "state")
	for _, at := range drives[:2] {
		lab.Run(t, "sync", "-f", at)
	}
	return b
}

// powerCut takes the images of drives as they are at this moment, with all
// that was never flushed lost, and mounts them in place of the drives.
func powerCut(t *testing.T, drives ...string) {
	t.Helper()
	for i, at := range drives {
		lab.Run(t, "cp", "--sparse=always", at+".img", fmt.Sprintf("%s.cut%d", at, i))
	}
	for i, at := range drives {
		cut := fmt.Sprintf("%s.cut%d", at, i)
		lab.Unmount(t, at)
		lab.Run(t, "cp", "--sparse=always", cut, at+".img")
		lab.Run(t, "mount", "-o", "loop", at+".img", at)
		require.NoError(t, os.Remove(cut))
	}
}

// The target alone is pulled in the middle of a copy and plugged in again: what
// the records count as done may never have reached it. The run goes on all the
// same, and by one resume.
func TestPulledInMidCopy(t *testing.T) {
	for _, kind := range []string{"ext4", "btrfs"} {
		for i, step := range []string{"pass-1", "part.done", "verified-1"} {
			if kind == "btrfs" && i%everyNth(3) != 1%everyNth(3) {
				continue // one in the suite
			}
			t.Run(kind+"/"+step, func(t *testing.T) {
				t.Parallel()
				size := int64(24)
				if kind == "btrfs" {
					size = 150
				}
				skerry, basalt := lab.Drive(t, "ext4", "SKERRY", 64), lab.Drive(t, kind, "BASALT", size)
				folder := filepath.Join(skerry, "Documents")
				lab.Nasty(t, folder)
				for i := range 200 {
					lab.Tree{fmt.Sprintf("many/%d/%d: %d", i%9, i, i)}.Make(t, folder)
				}
				require.NoError(t, os.Link(filepath.Join(folder, "many/0/0"), filepath.Join(folder, "many/8/second")))
				before := lab.Print(t, folder)
				n := lab.New(t, program)
				lab.Run(t, "sync", "-f", skerry)
				lab.Run(t, "sync", "-f", basalt)
				n.Env = []string{"NEXLIN_FAULT=kill:" + step}
				n.Want(-1, "move", folder, "--into", basalt+"/ines", "--yes", "-q", "--inner-links", "keep")
				n.Env = nil
				powerCut(t, basalt)
				n.Want(0, "resume", "--yes", "-q")
				require.Equal(t, before, lab.Print(t, filepath.Join(basalt, "ines", "Documents")))
				n.Want(0, "check", "--deep")
				n.Want(0, "undo", n.LastRun(), "--yes", "-q")
				require.Equal(t, before, lab.Print(t, folder))
			})
		}
	}
}
